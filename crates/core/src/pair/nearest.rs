//! Events and the partners nearest to them, on either side.

use std::ops::ControlFlow;

use super::partner::{Advance, MOST_PARTNERS, Pairs, Partner, Together, give};
use super::party::{Feed, Party, Pulled};
use crate::event::Hit;

/// Pairs each event with the nearest partner, before or after it.
#[derive(Debug)]
pub struct Nearest {
    together: Together,
    /// The last partner that was certain, and those after it that may not count.
    before: Vec<Hit>,
    partners: Vec<Partner>,
}

impl Nearest {
    /// With nothing before the first event.
    pub fn new(together: Together) -> Self {
        Nearest { together, before: Vec::new(), partners: Vec::new() }
    }

    /// Pairs as many events as the marks so far allow.
    pub fn advance<E: Feed, P: Feed>(
        &mut self,
        events: &mut Party<E>,
        partners: &mut Party<P>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<(), Advance> {
        loop {
            let event = match events.peek() {
                Pulled::Some(event) => event,
                Pulled::End => return ControlFlow::Continue(Advance::Done),
                Pulled::NotYet => return ControlFlow::Continue(Advance::Waiting),
            };
            if self.gather(event, partners) == Pulled::NotYet {
                return ControlFlow::Continue(Advance::Waiting);
            }
            events.pass();
            give(event, &self.partners, pairs)?;
        }
    }

    fn gather<P: Feed>(&mut self, event: Hit, partners: &mut Party<P>) -> Pulled<()> {
        loop {
            match partners.peek() {
                Pulled::Some(partner) if partner.tick <= event.tick => {
                    partners.pass();
                    if partner.is_certain() || self.before.len() > MOST_PARTNERS {
                        self.before.clear();
                    }
                    self.before.push(partner);
                }
                Pulled::NotYet => return Pulled::NotYet,
                Pulled::Some(_) | Pulled::End => break,
            }
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
                Pulled::NotYet => return Pulled::NotYet,
            }
        }
        // The nearest may be any that is not certainly farther away than one that is there.
        let nearest = self.partners.iter().filter(|p| p.certain).map(|p| p.ticks).min();
        if let Some(nearest) = nearest {
            let reach = nearest.saturating_add(self.together.certain_from.max(0).saturating_mul(2));
            self.partners.retain(|p| p.ticks <= reach);
        }
        self.partners.sort_by_key(|p| (!p.recorded, p.ticks));
        Pulled::Some(())
    }
}

/// A partner with its distance, whichever of the two is first.
fn beside(event: Hit, partner: Hit) -> Partner {
    let ticks = partner.tick.since(event.tick).abs();
    Partner { tick: partner.tick, ticks, certain: partner.is_certain(), recorded: partner.is_recorded() }
}
