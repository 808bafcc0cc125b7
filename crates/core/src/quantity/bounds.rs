//! What is known of a value.

use std::fmt;

use serde::Serialize;

use super::units::Time;

/// What is known of a true value: it lies between these two, or has no upper bound at all.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Bounds<Q = Time> {
    /// It is not less than this.
    pub lo: Q,
    /// It is not more than this; `None` where the record allows for any more.
    pub hi: Option<Q>,
    /// Whether `lo` itself is excluded.
    pub lo_exclusive: bool,
    /// Whether `hi` itself is excluded.
    pub hi_exclusive: bool,
}

impl<Q> Bounds<Q> {
    /// The same, in another unit that grows with this one.
    pub fn map<P>(self, to: impl Fn(Q) -> P) -> Bounds<P> {
        let Bounds { lo, hi, lo_exclusive, hi_exclusive } = self;
        Bounds { lo: to(lo), hi: hi.map(to), lo_exclusive, hi_exclusive }
    }
}

impl<Q: PartialOrd> Bounds<Q> {
    /// Whether a true value is compatible with these bounds.
    pub fn contain(&self, truth: Q) -> bool {
        let above = if self.lo_exclusive { truth > self.lo } else { truth >= self.lo };
        let below = |hi: &Q| if self.hi_exclusive { truth < *hi } else { truth <= *hi };
        above && self.hi.as_ref().is_none_or(below)
    }
}

impl Bounds {
    /// The same knowledge, given that the length cannot be negative.
    #[must_use]
    pub fn not_negative(self) -> Bounds {
        if self.lo < Time::ZERO { Bounds { lo: Time::ZERO, lo_exclusive: false, ..self } } else { self }
    }
}

impl<Q: fmt::Display> fmt::Display for Bounds<Q> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.hi {
            Some(hi) => write!(f, "{} .. {hi}", self.lo),
            None => write!(f, "{} or more", self.lo),
        }
    }
}
