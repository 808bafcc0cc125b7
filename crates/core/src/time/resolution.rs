//! What is stated about the instants of a record.
//!
//! What that makes known of an interval is the business of [`known`](crate::known).

use crate::quantity::{Percent, Time};

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
