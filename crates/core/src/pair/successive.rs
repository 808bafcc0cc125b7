//! Events and those that come after them.

use std::ops::ControlFlow;

use super::partner::{Advance, Pairs, Partner};
use super::party::{Feed, Party, Pulled};
use crate::event::{Certainty, Hit};
use crate::time::Tick;

/// Pairs each event with the next one of its kind.
#[derive(Debug, Default)]
pub struct Successive {
    last: Option<Hit>,
}

impl Successive {
    /// Pairs as many events as the marks so far allow. `holds` says whether what must hold does so all
    /// the way from one tick to another, which are asked for in rising order: else they are no pair; where
    /// it is open, they may be one.
    pub fn advance<E: Feed>(
        &mut self,
        events: &mut Party<E>,
        mut holds: impl FnMut(Tick, Tick) -> Pulled<Option<bool>>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<(), Advance> {
        loop {
            self.certain_pairs(events, &mut holds, pairs)?;
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
            let held = match holds(previous.tick, hit.tick) {
                Pulled::Some(held) => held,
                Pulled::End => None,
                Pulled::NotYet => return ControlFlow::Continue(Advance::Waiting),
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

    /// As nearly always: one certain event after the other, what must hold holding. Goes on for as long as
    /// it stays that way.
    #[inline]
    fn certain_pairs<E: Feed>(
        &mut self,
        events: &mut Party<E>,
        holds: &mut impl FnMut(Tick, Tick) -> Pulled<Option<bool>>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<()> {
        let Some(mut last) = self.last.filter(Hit::is_certain).map(|hit| hit.tick) else {
            return ControlFlow::Continue(());
        };
        let mut said = ControlFlow::Continue(());
        while let Some(event) = events.certain() {
            if holds(last, event) != Pulled::Some(Some(true)) {
                break;
            }
            events.pass_certain();
            said = pairs.certain(std::mem::replace(&mut last, event), event);
            if said.is_break() {
                break;
            }
        }
        self.last = Some(Hit { tick: last, certainty: Certainty::Certain });
        said
    }
}
