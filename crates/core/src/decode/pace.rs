//! Bits counted in time, where a bus has no clock line.

use crate::error::{Error, ErrorKind, Result};
use crate::quantity::{Frequency, Rate, Rational};
use crate::time::TimeBase;

/// Fewest samples per bit: below, the middle of a bit cannot be told from its edges.
const FEWEST_SAMPLES: i64 = 3;

/// The ticks that a number of bits take, in steps of a share of a bit.
#[derive(Clone, Debug)]
pub(super) struct Pace {
    /// Ticks from an edge to the end of so many shares.
    ticks: Vec<u64>,
}

impl Pace {
    /// Counts up to `most` shares, of which a bit has `shares`.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] when there are fewer than three samples per bit, with the rate that is
    /// needed.
    pub(super) fn new(bit_rate: Frequency, base: TimeBase, shares: i64, most: i64) -> Result<Self> {
        let rate = bit_rate.to_rational();
        let samples = base.rate().to_rational().checked_div(rate).filter(|_| rate > Rational::ZERO);
        let share = samples.and_then(|samples| samples.checked_mul(Rational::new(1, shares.into())?));
        let (Some(samples), Some(share)) = (samples, share) else {
            let error = Error::new(ErrorKind::Range, format!("{bit_rate} is no bit rate"));
            return Err(error.with_help("give bits per second above zero, such as '115.2 kHz'"));
        };
        if samples < Rational::from(FEWEST_SAMPLES) {
            let needed = rate.checked_mul(Rational::from(FEWEST_SAMPLES)).map(Rate::from_rational);
            let needed = needed.map_or("a faster rate".to_string(), |rate| format!("{rate} or more"));
            let message = format!("{:.1} samples per bit are too few to decode {bit_rate}", samples.to_f64());
            return Err(Error::new(ErrorKind::Range, message).with_help(format!("record at {needed}")));
        }
        let after = |count: i64| share.checked_mul(Rational::from(count)).map_or(i128::MAX, Rational::floor);
        Ok(Pace { ticks: (0..=most).map(|count| u64::try_from(after(count)).unwrap_or(u64::MAX)).collect() })
    }

    /// Ticks from an edge to the end of so many shares; more than any record has beyond the most.
    pub(super) fn ticks(&self, shares: u32) -> u64 {
        self.ticks.get(shares as usize).copied().unwrap_or(u64::MAX)
    }
}
