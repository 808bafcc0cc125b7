//! How short the pulses of a line can be.

use crate::quantity::{Frequency, Time};
use crate::time::Tick;

/// What is stated of how short the pulses of a line can be, and what a record showed of it.
///
/// Between two samples that show the same level, a line may have changed and changed back. What that
/// leaves open is the business of [`known`](crate::known).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PulseWidths {
    /// No pulse of it is shorter, high or low, as the user states.
    pub shortest: Option<Time>,
    /// The fastest signal on it, as the user states.
    pub fastest: Option<Frequency>,
    /// The narrowest pulse that the record showed before it was worked on, as before a filter.
    pub seen: Option<Narrowest>,
}

/// The narrowest pulse in a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Narrowest {
    /// Its width in ticks, as counted.
    pub ticks: u64,
    /// Where the first one of this width begins.
    pub at: Tick,
}

impl Narrowest {
    /// The narrower one of two, if there is any.
    pub fn of(one: Option<Narrowest>, other: Option<Narrowest>) -> Option<Narrowest> {
        one.into_iter().chain(other).min_by_key(|narrow| (narrow.ticks, narrow.at))
    }
}
