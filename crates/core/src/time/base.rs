//! Positions in a capture and the clock they are counted with.

use std::fmt;

use serde::Serialize;

use crate::error::{Error, ErrorKind, Result};
use crate::quantity::{Rate, Rational, Time};

/// Longest capture, in ticks. Keeps every tick difference inside `i64`.
pub const MAX_TICKS: u64 = 1 << 62;

/// A position in a capture: the number of ticks since its first one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(transparent)]
pub struct Tick(pub u64);

impl Tick {
    /// Ticks from `earlier` to `self`, negative when `earlier` is in truth later. Positions that no
    /// capture has, from 2^63 on, count as the last one before.
    #[inline]
    pub fn since(self, earlier: Tick) -> i64 {
        let held = |tick: Tick| tick.0.min(i64::MAX as u64) as i64;
        held(self) - held(earlier)
    }

    /// This position moved by `ticks`, held at zero and at the largest position.
    #[must_use]
    pub fn offset(self, ticks: i64) -> Tick {
        Tick(self.0.saturating_add_signed(ticks))
    }
}

impl fmt::Display for Tick {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "tick {}", self.0)
    }
}

/// The clock of a capture: the exact length of a tick, and which tick is time zero.
///
/// ```
/// use deep_tap_core::time::{Tick, TimeBase};
/// let base = TimeBase::from_rate("24 MS/s".parse()?)?.with_zero(Tick(24));
/// assert_eq!(base.time_of(Tick(0)).to_string(), "-1 us");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TimeBase {
    tick: Rational,
    /// The position of time zero, which lies before the record where it is negative.
    zero: i64,
    /// Whether ticks are instants, and not samples.
    exact: bool,
}

impl TimeBase {
    /// A clock whose tick has this length, zero at the first tick.
    ///
    /// # Errors
    /// When the tick is not positive, or finer or coarser than exact arithmetic on positions allows.
    pub fn from_tick(tick: Time) -> Result<Self> {
        let tick = tick.to_rational();
        let limit = 1i128 << 62;
        if tick <= Rational::ZERO || tick.numerator() > limit || tick.denominator() > limit {
            let message = format!("a tick of {tick} s is outside what a capture can count in");
            return Err(Error::new(ErrorKind::Range, message).with_help(
                "ticks are positive, at most 2^62 s long, and a multiple of no less than 2^-62 s",
            ));
        }
        Ok(TimeBase { tick, zero: 0, exact: false })
    }

    /// A clock that ticks once per sample.
    ///
    /// # Errors
    /// When the rate is not positive or out of range.
    ///
    /// ```
    /// use deep_tap_core::time::TimeBase;
    /// let base = TimeBase::from_rate("24 MS/s".parse()?)?;
    /// assert_eq!(base.tick().to_rational().to_string(), "1/24000000", "exactly");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn from_rate(rate: Rate) -> Result<Self> {
        let positive = rate > Rate::ZERO;
        let period = rate.period().filter(|_| positive).ok_or_else(|| {
            Error::new(ErrorKind::Range, format!("a sample rate of {rate} cannot be counted in"))
                .with_help("a rate is positive, like '100 MS/s'")
        })?;
        Self::from_tick(period)
    }

    /// The same clock with another time zero.
    #[must_use]
    pub fn with_zero(self, zero: Tick) -> Self {
        self.with_zero_at(i64::try_from(zero.0).unwrap_or(i64::MAX))
    }

    /// The same clock with time zero at a position that may lie before the record, as in a part of another one.
    #[must_use]
    pub fn with_zero_at(self, zero: i64) -> Self {
        TimeBase { zero, ..self }
    }

    /// The same clock of a record in which everything happens exactly at a tick: no tick is a sample, and
    /// nobody's sample rate is their number in a second. Captures set this by their [`Resolution`].
    ///
    /// [`Resolution`]: super::Resolution
    #[must_use]
    pub fn exactly(self, exact: bool) -> Self {
        TimeBase { exact, ..self }
    }

    /// Whether its ticks are instants at which things happen, and not samples.
    pub fn is_exact(self) -> bool {
        self.exact
    }

    /// The same clock with so many ticks for each; `None` where that is too fine to count in.
    pub(crate) fn finer(self, factor: u64) -> Option<Self> {
        let tick = self.tick.checked_div(Rational::new(factor.into(), 1)?)?;
        let base = TimeBase::from_tick(Time::from_rational(tick)).ok()?;
        Some(base.with_zero_at(self.zero.checked_mul(i64::try_from(factor).ok()?)?).exactly(self.exact))
    }

    /// Exact length of a tick.
    pub fn tick(self) -> Time {
        Time::from_rational(self.tick)
    }

    /// Ticks per second.
    pub fn rate(self) -> Rate {
        Rate::from_rational(self.tick.recip().unwrap_or(Rational::ONE))
    }

    /// The tick that is time zero, and the first one where that lies before the record.
    pub fn zero(self) -> Tick {
        Tick(self.zero.max(0) as u64)
    }

    /// The position of time zero, which lies before the record where it is negative.
    pub fn zero_at(self) -> i64 {
        self.zero
    }

    /// The instant of a position, relative to time zero.
    ///
    /// ```
    /// use deep_tap_core::time::{Tick, TimeBase};
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?.with_zero(Tick(5));
    /// assert_eq!(base.time_of(Tick(0)), "-50 ns".parse()?);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn time_of(self, tick: Tick) -> Time {
        self.length_of(tick.since(Tick(0)).saturating_sub(self.zero))
    }

    /// The instant of a position in words, with the digits that the clock supports.
    ///
    /// ```
    /// use deep_tap_core::time::{Tick, TimeBase};
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?;
    /// assert_eq!(base.text_of(Tick(321_841)), "3.21841 ms");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn text_of(self, tick: Tick) -> String {
        self.time_of(tick).rounded(self.tick())
    }

    /// The mean of so many lengths of time, given the ticks of all together; `None` of none.
    pub fn mean_of(self, ticks: u64, count: u64) -> Option<Time> {
        let mean = Rational::new(ticks.into(), count.into())?;
        Some(Time::from_rational(mean.checked_mul(self.tick)?))
    }

    /// The length of a number of ticks.
    ///
    /// ```
    /// use deep_tap_core::time::TimeBase;
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?;
    /// assert_eq!(base.length_of(12), "120 ns".parse()?);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn length_of(self, ticks: i64) -> Time {
        // |ticks| < 2^63 and the tick's numerator is at most 2^62: the product always fits.
        let exact = Rational::from(ticks).checked_mul(self.tick).unwrap_or(Rational::ZERO);
        Time::from_rational(exact)
    }

    /// How many ticks a length of time is, exactly; `None` when that does not fit.
    ///
    /// ```
    /// use deep_tap_core::time::TimeBase;
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?;
    /// assert_eq!(base.ticks_in("25 ns".parse()?).unwrap().to_string(), "5/2");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn ticks_in(self, time: Time) -> Option<Rational> {
        time.to_rational().checked_div(self.tick)
    }

    /// The last position at or before an instant relative to time zero, which may lie outside any
    /// record: negative before the first tick. `None` when it does not fit.
    ///
    /// ```
    /// use deep_tap_core::time::{Tick, TimeBase};
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?.with_zero(Tick(5));
    /// assert_eq!(base.position_of("-30 ns".parse()?), Some(2));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn position_of(self, time: Time) -> Option<i64> {
        let ticks = self.ticks_in(time)?.floor();
        i64::try_from(ticks.checked_add(i128::from(self.zero))?).ok()
    }
}
