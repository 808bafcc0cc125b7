//! Events and those that come after them.

use std::ops::ControlFlow;

use super::batch::Batch;
use super::partner::{Advance, Pairs, Partner};
use super::party::{Feed, Party, Pulled};
use super::words;
use crate::event::{Certainty, Hit};
use crate::time::Tick;

/// Pairs each event with the next one of its kind.
#[derive(Debug, Default)]
pub struct Successive {
    last: Option<Hit>,
    batch: Batch,
}

impl Successive {
    /// Pairs as many events as the marks so far allow. `holds` says whether what must hold does so all
    /// the way from one tick to another, which are asked for in rising order: else they are no pair; where
    /// it is open, they may be one. Without it, nothing must.
    pub fn advance<E: Feed>(
        &mut self,
        events: &mut Party<E>,
        mut holds: Option<impl FnMut(Tick, Tick) -> Pulled<Option<bool>>>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<(), Advance> {
        loop {
            // As nearly always: one certain event after the other.
            if let Some(last) = self.last.as_mut().filter(|last| last.is_certain() && holds.is_none()) {
                words::successive(events, &mut last.tick, (&mut self.batch, pairs))?;
            }
            let hit = match events.peek() {
                Pulled::Some(hit) => hit,
                Pulled::End => return ControlFlow::Continue(Advance::Done),
                Pulled::NotYet => return ControlFlow::Continue(Advance::Waiting),
            };
            let Some(previous) = self.last else {
                events.pass();
                self.last = Some(hit);
                continue;
            };
            let held = match holds.as_mut().map(|holds| holds(previous.tick, hit.tick)) {
                None => Some(true),
                Some(Pulled::Some(held)) => held,
                Some(Pulled::End) => None,
                Some(Pulled::NotYet) => return ControlFlow::Continue(Advance::Waiting),
            };
            events.pass();
            if held == Some(false) {
                // One that is not even recorded begins nothing.
                if hit.is_recorded() {
                    self.last = Some(hit);
                    pairs.open(previous, &[])?;
                }
                continue;
            }
            self.last = Some(hit);
            if previous.is_certain() && hit.is_certain() && held.is_some() {
                pairs.certain(previous.tick, hit.tick)?;
                continue;
            }
            let recorded = previous.is_recorded() && hit.is_recorded();
            let certainty = if recorded { Certainty::Doubtful } else { Certainty::Possible };
            let ticks = hit.tick.since(previous.tick);
            let partner = Partner { tick: hit.tick, ticks, certain: false, recorded, hidden: false };
            pairs.open(Hit { tick: previous.tick, certainty }, &[partner])?;
        }
    }
}
