//! Events and the partners nearest to them, on either side.

use std::ops::ControlFlow;

use super::{Partner, Take, Walk};
use crate::event::{Hit, TimedProgram};

impl Walk<'_> {
    pub(super) fn skew<S: Take>(
        &self,
        from: &TimedProgram,
        to: &TimedProgram,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (mut anchors, mut others) = (self.hits(from), self.hits(to));
        // The last partner that was certain, and those after it that may not count.
        let mut before: Vec<Hit> = Vec::new();
        let mut partners = Vec::new();
        while let Some(anchor) = anchors.next() {
            while let Some(other) = others.peek()
                && other.tick <= anchor.tick
            {
                others.next();
                if other.is_certain() {
                    before.clear();
                }
                before.push(other);
            }
            partners.clear();
            partners.extend(before.iter().rev().map(|other| partner(anchor, *other)));
            let mut place = 0;
            while let Some(other) = others.get(place) {
                partners.push(partner(anchor, other));
                if other.is_certain() {
                    break;
                }
                place += 1;
            }
            // The nearest may be any that is not certainly farther away than one that is there.
            let nearest = partners.iter().filter(|p| p.certain).map(|p| p.ticks).min();
            if let Some(nearest) = nearest {
                let reach = nearest.saturating_add(self.judge.certain_from.max(0).saturating_mul(2));
                partners.retain(|p| p.ticks <= reach);
            }
            partners.sort_by_key(|p| (!p.recorded, p.ticks));
            self.settle(anchor, &partners, false, sink)?;
        }
        ControlFlow::Continue(())
    }
}

/// A partner with its distance, whichever of the two is first.
fn partner(anchor: Hit, other: Hit) -> Partner {
    let ticks = other.tick.since(anchor.tick).abs();
    Partner { tick: other.tick, ticks, certain: other.is_certain(), recorded: other.is_recorded() }
}
