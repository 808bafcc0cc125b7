//! Events and all partners near them.

use std::collections::VecDeque;
use std::ops::{ControlFlow, Range};

use super::nearest::signed;
use super::partner::{Advance, MOST_PARTNERS, Pairs, Partner};
use super::party::{Feed, Party, Pulled};
use crate::event::Hit;
use crate::time::Tick;

/// Gives each event with every partner that is near it, in order of time, and the ones just beyond on either
/// side. Their ticks are signed: negative before the event. Of very many, the first are given out.
#[derive(Debug)]
pub struct Nearby {
    near: Range<i64>,
    /// Partners that are near an event to come, or the last one before these.
    held: VecDeque<Hit>,
    partners: Vec<Partner>,
}

impl Nearby {
    /// `near` says at which distances a partner is near.
    pub fn new(near: Range<i64>) -> Self {
        Nearby { near, held: VecDeque::new(), partners: Vec::new() }
    }

    /// Pairs as many events as the marks so far allow.
    pub fn advance<E: Feed, P: Feed>(
        &mut self,
        events: &mut Party<E>,
        partners: &mut Party<P>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<(), Advance> {
        loop {
            match events.pass_known(|event| self.gather(event, partners)) {
                Pulled::Some(event) => pairs.open(event, &self.partners)?,
                Pulled::End => return ControlFlow::Continue(Advance::Done),
                Pulled::NotYet => {
                    // Of what is farther than near before any event to come, the last is kept.
                    if events.peek() == Pulled::NotYet {
                        self.hold(events.known(), partners);
                    }
                    return ControlFlow::Continue(Advance::Waiting);
                }
            }
        }
    }

    /// Holds the partners that may be near an event at a tick, or after it; the first one beyond.
    fn hold<P: Feed>(&mut self, event: Tick, partners: &mut Party<P>) -> Pulled<Option<Hit>> {
        let distance = |partner: &Hit| partner.tick.since(event);
        let beyond = loop {
            match partners.peek() {
                Pulled::Some(partner) if distance(&partner) < self.near.end => {
                    partners.pass();
                    self.held.push_back(partner);
                }
                Pulled::Some(partner) => break Some(partner),
                Pulled::End => break None,
                Pulled::NotYet => {
                    self.drop_far(event);
                    return Pulled::NotYet;
                }
            }
        };
        self.drop_far(event);
        Pulled::Some(beyond)
    }

    fn drop_far(&mut self, event: Tick) {
        let distance = |partner: &Hit| partner.tick.since(event);
        while self.held.get(1).is_some_and(|second| distance(second) < self.near.start) {
            self.held.pop_front();
        }
    }

    fn gather<P: Feed>(&mut self, event: Hit, partners: &mut Party<P>) -> Pulled<()> {
        let beyond = match self.hold(event.tick, partners) {
            Pulled::Some(beyond) => beyond,
            Pulled::End | Pulled::NotYet => return Pulled::NotYet,
        };
        self.partners.clear();
        let all = self.held.iter().take(MOST_PARTNERS).chain(&beyond);
        self.partners.extend(all.map(|partner| signed(event, *partner)));
        Pulled::Some(())
    }
}
