//! One stretch of a record.

use crate::time::Tick;

/// A stretch in which a condition holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// First tick at which it holds.
    pub start: Tick,
    /// First tick at which it does not hold any more, or the end of the record.
    pub end: Tick,
    /// Whether the record shows it beginning: a tick before at which it did not hold.
    pub begins: bool,
    /// Whether the record shows it ending.
    pub ends: bool,
    /// Whether the order of edges within the record's uncertainty could make it false.
    pub doubtful: bool,
    /// Whether the record shows it. If not, it may have happened all the same.
    pub recorded: bool,
}

impl Stretch {
    /// One that may have happened, for no time that a record shows.
    pub(crate) fn moment(at: Tick) -> Self {
        Stretch::possible(at, at)
    }

    /// One that may have happened.
    pub(super) fn possible(start: Tick, end: Tick) -> Self {
        Stretch { start, end, begins: true, ends: true, doubtful: true, recorded: false }
    }
}
