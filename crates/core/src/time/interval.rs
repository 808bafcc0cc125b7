//! Measured intervals and what is known about them.

use serde::Serialize;

use super::base::TimeBase;
use super::quantity::{Percent, Time};
use super::rational::Rational;

/// How well the instants of a capture are known.
///
/// A sampled edge first seen at tick `k` truly happened in `(k-1, k]`, moved by its input's share
/// of the skew. An imported simulation is exact unless an extra uncertainty is stated.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Resolution {
    /// Whether the record was sampled. If not, an edge happened exactly at its tick.
    pub sampled: bool,
    /// Largest difference in delay between any two inputs.
    pub skew: Time,
    /// Largest relative error of the time base.
    pub accuracy: Percent,
    /// Extra uncertainty of every interval, to either side, as stated by the user.
    pub extra: Time,
}

impl Resolution {
    /// Every instant is exact.
    pub const EXACT: Resolution =
        Resolution { sampled: false, skew: Time::ZERO, accuracy: Percent::ZERO, extra: Time::ZERO };

    /// Sampled by a perfect instrument: no skew, no time-base error.
    pub const SAMPLED: Resolution = Resolution { sampled: true, ..Resolution::EXACT };

    /// Whether edges happened exactly at their ticks, on all inputs.
    pub fn is_exact(&self) -> bool {
        !self.sampled && self.skew == Time::ZERO && self.extra == Time::ZERO
    }

    /// Ticks by which an edge may have happened before the tick it was seen at.
    pub fn quantum(&self) -> u32 {
        u32::from(self.sampled)
    }

    /// Whole ticks within which the order of edges on different inputs is not certain, beyond
    /// those that share a tick. `None` when that does not fit.
    pub fn order_window(&self, base: TimeBase) -> Option<u64> {
        let blur = self.skew.to_rational().checked_add(self.extra.to_rational())?;
        u64::try_from(base.ticks_in(Time::from_rational(blur))?.ceil()).ok()
    }
}

/// One measured interval: the ticks counted, and how much earlier each end may have happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Interval {
    /// Ticks between the two ends as recorded.
    pub ticks: i64,
    /// Ticks by which the start may precede its recorded tick.
    pub start_early: u32,
    /// Ticks by which the end may precede its recorded tick.
    pub end_early: u32,
    /// Whether both ends come from one input, so that skew does not enter.
    pub same_input: bool,
}

impl Interval {
    /// What is known of the true length; `None` when exact arithmetic does not fit.
    ///
    /// The ends lie in `(tick - early, tick]` each, so that the length lies strictly between
    /// `ticks - end_early` and `ticks + start_early`; skew and extra uncertainty widen that on
    /// both sides, and the time-base error in proportion to the bound itself.
    ///
    /// ```
    /// use deep_tap_core::time::{Interval, Resolution, TimeBase};
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?;
    /// let width = Interval { ticks: 4, start_early: 1, end_early: 1, same_input: true };
    /// let bounds = width.bounds(base, &Resolution::SAMPLED).unwrap();
    /// assert_eq!((bounds.lo.to_string(), bounds.hi.to_string()), ("30 ns".into(), "50 ns".into()));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn bounds(&self, base: TimeBase, resolution: &Resolution) -> Option<Bounds> {
        let tick = base.tick().to_rational();
        let slower = Rational::ONE.checked_add(resolution.accuracy.to_fraction())?;
        let faster = Rational::ONE.checked_sub(resolution.accuracy.to_fraction())?;
        let skew = if self.same_input { Rational::ZERO } else { resolution.skew.to_rational() };
        let blur = skew.checked_add(resolution.extra.to_rational())?;

        let lo = Rational::from(self.ticks.checked_sub(i64::from(self.end_early))?);
        let hi = Rational::from(self.ticks.checked_add(i64::from(self.start_early))?);
        let lo_clock = if lo.is_negative() { slower } else { faster };
        let hi_clock = if hi.is_negative() { faster } else { slower };
        let lo = lo.checked_mul(tick)?.checked_mul(lo_clock)?.checked_sub(blur)?;
        let hi = hi.checked_mul(tick)?.checked_mul(hi_clock)?.checked_add(blur)?;
        Some(Bounds {
            lo: Time::from_rational(lo),
            hi: Time::from_rational(hi),
            lo_exclusive: self.end_early > 0,
            hi_exclusive: self.start_early > 0,
        })
    }

    /// The length as counted.
    pub fn nominal(&self, base: TimeBase) -> Time {
        base.length_of(self.ticks)
    }
}

/// What is known of a true value: it lies between these two.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Bounds<Q = Time> {
    /// It is not less than this.
    pub lo: Q,
    /// It is not more than this.
    pub hi: Q,
    /// Whether `lo` itself is excluded.
    pub lo_exclusive: bool,
    /// Whether `hi` itself is excluded.
    pub hi_exclusive: bool,
}

impl<Q> Bounds<Q> {
    /// The same, in another unit that grows with this one.
    pub fn map<P>(self, to: impl Fn(Q) -> P) -> Bounds<P> {
        let Bounds { lo, hi, lo_exclusive, hi_exclusive } = self;
        Bounds { lo: to(lo), hi: to(hi), lo_exclusive, hi_exclusive }
    }
}

impl<Q: PartialOrd> Bounds<Q> {
    /// Whether a true value is compatible with these bounds.
    pub fn contain(&self, truth: Q) -> bool {
        let above = if self.lo_exclusive { truth > self.lo } else { truth >= self.lo };
        let below = if self.hi_exclusive { truth < self.hi } else { truth <= self.hi };
        above && below
    }
}

impl Bounds {
    /// The same knowledge, given that the length cannot be negative.
    #[must_use]
    pub fn not_negative(self) -> Bounds {
        if self.lo < Time::ZERO { Bounds { lo: Time::ZERO, lo_exclusive: false, ..self } } else { self }
    }
}
