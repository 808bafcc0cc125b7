//! A rounded number and how far it may be off.

use serde::Serialize;

/// A number for display, and between which others its true value lies.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Estimate {
    /// As counted.
    pub value: f64,
    /// The true value is not below this.
    pub lo: f64,
    /// The true value is not above this.
    pub hi: f64,
}

impl Estimate {
    /// The same in a unit that is this many times smaller.
    #[must_use]
    pub fn times(self, factor: f64) -> Estimate {
        Estimate { value: self.value * factor, lo: self.lo * factor, hi: self.hi * factor }
    }

    /// One divided by it: a frequency from a period.
    #[must_use]
    pub fn recip(self) -> Estimate {
        let (value, lo, hi) = (self.value.recip(), self.hi.recip(), self.lo.max(0.0).recip());
        Estimate { value, lo, hi }
    }
}
