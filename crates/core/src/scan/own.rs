//! Captures from samples in memory.

use super::filler::Filler;
use super::samples::{SampleBlock, SampleWidth};
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result};
use crate::quantity::Rate;
use crate::time::TimeBase;

/// Samples that are turned into traces at a time.
const BLOCK: usize = 1 << 16;

impl Capture {
    /// A capture of samples at hand: bit `i` of each (an `u8`, `u16`, `u32` or `u64`) is the level of the
    /// line with the `i`-th name. Instants are known as well as the rate allows; where there is more to
    /// say, [`into_builder`](Capture::into_builder) changes it.
    ///
    /// # Errors
    /// When the rate cannot be counted in, or there are more names than bits, or one twice.
    ///
    /// ```
    /// use deep_tap_core::capture::Capture;
    ///
    /// let capture = Capture::of_samples("10 MS/s", &["CLK", "DATA"], &[0b00u8, 0b01, 0b10, 0b11])?;
    /// assert_eq!(capture.trace(capture.line_named("CLK")?).edge_count(), 3);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn of_samples<R, S>(rate: R, names: &[&str], samples: &[S]) -> Result<Capture>
    where
        R: TryInto<Rate, Error: Into<Error>>,
        S: Copy + Into<u64>,
    {
        let base = TimeBase::from_rate(rate.try_into().map_err(Into::into)?)?;
        let bits = size_of::<S>() * 8;
        if names.len() > bits {
            let message = format!("{} lines do not fit into samples of {bits} bits", names.len());
            return Err(Error::new(ErrorKind::Capture, message)
                .with_help("give wider samples; up to 64 lines are possible"));
        }
        let width = SampleWidth::for_inputs(bits);
        let lanes: Vec<u32> = (0..names.len() as u32).collect();
        let mut filler = Filler::new(&lanes);
        let mut block = SampleBlock::new(width);
        for part in samples.chunks(BLOCK) {
            block.reset(width);
            part.iter().for_each(|sample| block.push((*sample).into(), 0));
            filler.push(block.samples());
        }
        let builder = Capture::builder(base, samples.len() as u64);
        names
            .iter()
            .zip(filler.finish())
            .fold(builder, |builder, (name, trace)| builder.line(*name, trace))
            .build()
    }
}
