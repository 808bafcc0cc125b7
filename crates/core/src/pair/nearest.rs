//! Events and the partners nearest to them, on either side.

use std::ops::ControlFlow;

use super::partner::{Advance, Ends, MOST_PARTNERS, Pairing, Pairs, Partner, give};
use super::party::{Feed, Party, Pulled};
use crate::event::Hit;
use crate::time::Tick;

/// Pairs each event with the nearest partner, before or after it.
#[derive(Debug)]
pub struct Nearest {
    ends: Ends,
    /// The last partner that was certain, and those after it that may not count.
    before: Vec<Hit>,
    partners: Vec<Partner>,
}

impl Nearest {
    /// `len` is the length of the record in ticks.
    pub fn new(len: u64) -> Self {
        Nearest { ends: Ends::of(len), before: Vec::new(), partners: Vec::new() }
    }

    /// Passes the partners up to a tick.
    fn pass<P: Feed>(&mut self, event: Tick, partners: &mut Party<P>) -> Pulled<()> {
        loop {
            match partners.peek() {
                Pulled::Some(partner) if partner.tick <= event => {
                    partners.pass();
                    if partner.is_certain() || self.before.len() > MOST_PARTNERS {
                        self.before.clear();
                    }
                    self.before.push(partner);
                }
                Pulled::NotYet if partners.known() <= event => return Pulled::NotYet,
                Pulled::Some(_) | Pulled::End | Pulled::NotYet => return Pulled::Some(()),
            }
        }
    }

    fn gather<P: Feed>(&mut self, event: Hit, partners: &mut Party<P>) -> Pulled<()> {
        if self.pass(event.tick, partners) == Pulled::NotYet {
            return Pulled::NotYet;
        }
        self.partners.clear();
        self.partners.extend(self.before.iter().rev().map(|partner| beside(event, *partner)));
        for place in 0..MOST_PARTNERS {
            match partners.get(place) {
                Pulled::Some(partner) => {
                    self.partners.push(beside(event, partner));
                    if partner.is_certain() {
                        break;
                    }
                }
                Pulled::End => break,
                Pulled::NotYet => {
                    let nearest = self.partners.iter().find(|partner| partner.certain);
                    // All that may come is farther away than a certain one.
                    if nearest.is_some_and(|p| p.ticks < partners.known().since(event.tick)) {
                        break;
                    }
                    return Pulled::NotYet;
                }
            }
        }
        self.add_unseen(event);
        // One that is farther away than a certain one, as counted, makes the nearest neither nearer nor farther.
        let nearest = self.partners.iter().filter(|p| p.certain).map(|p| p.ticks).min();
        if let Some(nearest) = nearest {
            self.partners.retain(|p| p.ticks < nearest || (p.certain && p.ticks == nearest));
        }
        self.partners.sort_by_key(|p| (!p.recorded, p.ticks));
        Pulled::Some(())
    }
}

impl Pairing for Nearest {
    fn end(&mut self, len: u64) {
        self.ends = Ends::of(len);
    }

    fn advance<E: Feed, P: Feed>(
        &mut self,
        events: &mut Party<E>,
        partners: &mut Party<P>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<(), Advance> {
        loop {
            match events.pass_known(|event| self.gather(event, partners)) {
                Pulled::Some(event) => give(event, &self.partners, pairs)?,
                Pulled::End => return ControlFlow::Continue(Advance::Done),
                Pulled::NotYet => {
                    // Of what comes before any event to come, the last is kept.
                    if events.peek() == Pulled::NotYet {
                        self.pass(events.known(), partners);
                    }
                    return ControlFlow::Continue(Advance::Waiting);
                }
            }
        }
    }
}

impl Nearest {
    /// Adds the partners that may lie just beyond an end of the record, or anywhere there where none in it
    /// is certain. Without any in it, there is nothing to be judged.
    fn add_unseen(&mut self, event: Hit) {
        if self.partners.is_empty() {
            return;
        }
        let found = self.partners.iter().any(|partner| partner.certain);
        for end in [Ends::BEFORE, self.ends.after()] {
            let ticks = end.since(event.tick).abs();
            match found {
                true => self.partners.push(Ends::unseen(end, ticks)),
                false => self.partners.extend(Ends::beyond(end, ticks)),
            }
        }
    }
}

/// A partner with its distance, whichever of the two is first.
fn beside(event: Hit, partner: Hit) -> Partner {
    let signed = signed(event, partner);
    Partner { ticks: signed.ticks.abs(), ..signed }
}

/// A partner with its distance, negative where it comes first.
pub(super) fn signed(event: Hit, partner: Hit) -> Partner {
    let ticks = partner.tick.since(event.tick);
    Partner {
        tick: partner.tick,
        ticks,
        certain: partner.is_certain(),
        recorded: partner.is_recorded(),
        hidden: false,
    }
}
