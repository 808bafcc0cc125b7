//! What is stated about the instants of a record, and what may be known of a value.
//!
//! How the one makes the other is the business of [`known`](crate::known).

use serde::Serialize;

use super::quantity::{Percent, Time};

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
