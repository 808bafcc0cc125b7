//! Whether the order of edges is certain.

use std::ops::Range;

use crate::time::Tick;

/// Within how many ticks edges of different inputs may have come in another order than the record
/// shows. Made by [`Precision::order`](super::Precision::order).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Precedence {
    pub(super) reach: Option<u64>,
}

impl Precedence {
    /// Edges at most this many ticks apart may have come in another order; `None` when the order is
    /// always certain, also of edges that share a tick.
    pub fn reach(self) -> Option<u64> {
        self.reach
    }

    /// Whether an edge just outside a record of this length, which is not seen, may have come on the other side
    /// of one at `tick`: such an edge would be seen at tick 0 at the latest, or at its end at the earliest.
    pub fn reaches_outside(self, tick: Tick, len: u64) -> bool {
        self.reach.is_some_and(|reach| tick.0 <= reach || tick.0.saturating_add(reach) >= len)
    }

    /// The ticks whose edges may have come on the other side of one at `tick`; `None` when the order
    /// is always certain.
    pub fn around(self, tick: Tick) -> Option<Range<Tick>> {
        let reach = self.reach?;
        Some(Tick(tick.0.saturating_sub(reach))..Tick(tick.0.saturating_add(reach).saturating_add(1)))
    }
}
