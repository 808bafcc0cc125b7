//! Events and the partners that precede them.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use super::batch::Batch;
use super::partner::{Advance, Ends, MOST_PARTNERS, Pairing, Pairs, Partner, Together};
use super::party::{Feed, Party, Pulled};
use super::words;
use crate::event::{Certainty, Hit};
use crate::time::Tick;

/// Pairs each event with the last partner before it.
#[derive(Debug)]
pub struct Preceding {
    together: Together,
    ends: Ends,
    /// The last partner that was certain for the present event.
    last: Option<Hit>,
    /// Those after it, which may not count.
    open: VecDeque<Hit>,
    partners: Vec<Partner>,
    batch: Batch,
}

impl Preceding {
    /// `len` is the length of the record in ticks.
    pub fn new(together: Together, len: u64) -> Self {
        let (ends, open) = (Ends::of(len), VecDeque::new());
        Preceding { together, ends, last: None, open, partners: Vec::new(), batch: Batch::default() }
    }

    /// Whether a partner just after the record may have come before this event.
    fn preceded_unseen(&self, event: Tick) -> bool {
        event.since(self.ends.after()) >= self.together.possible_from
    }

    fn is_certain(&self, partner: Hit, event: Tick) -> bool {
        partner.is_certain() && event.since(partner.tick) >= self.together.certain_from
    }

    /// As nearly always: one certain partner comes certainly before a certain event, and the next one
    /// certainly after it. Goes on for as long as it stays that way.
    fn certain_pairs<E: Feed, P: Feed>(
        &mut self,
        events: &mut Party<E>,
        partners: &mut Party<P>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<()> {
        let Some(last) = self.last.as_mut().filter(|last| self.open.is_empty() && last.is_certain()) else {
            return ControlFlow::Continue(());
        };
        let until = self.ends.after().offset(self.together.possible_from);
        words::preceding((events, partners), self.together, until, &mut last.tick, (&mut self.batch, pairs))
    }

    /// Takes in what may come before an event.
    fn absorb<P: Feed>(&mut self, event: Hit, partners: &mut Party<P>) -> Pulled<()> {
        loop {
            match partners.peek() {
                Pulled::Some(partner) if event.tick.since(partner.tick) >= self.together.possible_from => {
                    partners.pass();
                    // Whatever lies before a certain one can never be the last one again.
                    if self.is_certain(partner, event.tick) {
                        self.last = Some(partner);
                        self.open.clear();
                    } else {
                        self.open.push_back(partner);
                    }
                }
                Pulled::NotYet if event.tick.since(partners.known()) >= self.together.possible_from => {
                    return Pulled::NotYet;
                }
                Pulled::Some(_) | Pulled::End | Pulled::NotYet => break,
            }
        }
        // One may be certain for this event that was not for the one before.
        if !self.open.is_empty()
            && let Some(place) = self.open.iter().rposition(|hit| self.is_certain(*hit, event.tick))
        {
            self.last = self.open.drain(..=place).next_back();
        }
        Pulled::Some(())
    }

    fn gather(&mut self, event: Hit) {
        let mut found = std::mem::take(&mut self.partners);
        found.clear();
        let partner = |hit: &Hit| Partner {
            tick: hit.tick,
            ticks: event.tick.since(hit.tick),
            certain: self.is_certain(*hit, event.tick),
            recorded: hit.is_recorded(),
            hidden: false,
        };
        found.extend(self.open.iter().rev().take(MOST_PARTNERS).map(partner));
        // Of very many, the first one bounds those between.
        let first = self.open.front().filter(|_| self.open.len() > MOST_PARTNERS);
        found.extend(first.into_iter().chain(&self.last).map(partner));
        if !found.is_empty() {
            let after = self.ends.after();
            if self.preceded_unseen(event.tick) {
                found.push(Ends::unseen(after, event.tick.since(after)));
            }
            if self.last.is_none() {
                found.extend(Ends::beyond(Ends::BEFORE, event.tick.since(Ends::BEFORE)));
            }
        }
        self.partners = found;
    }
}

impl Pairing for Preceding {
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
            self.certain_pairs(events, partners, pairs)?;
            let event = match events.peek() {
                Pulled::Some(event) => event,
                Pulled::End => return ControlFlow::Continue(Advance::Done),
                Pulled::NotYet => {
                    // Of what comes before any event to come, the last is kept.
                    self.absorb(Hit { tick: events.known(), certainty: Certainty::Certain }, partners);
                    return ControlFlow::Continue(Advance::Waiting);
                }
            };
            if self.absorb(event, partners) == Pulled::NotYet {
                return ControlFlow::Continue(Advance::Waiting);
            }
            events.pass();
            match self.last {
                Some(last)
                    if self.open.is_empty() && event.is_certain() && !self.preceded_unseen(event.tick) =>
                {
                    pairs.certain(event.tick, last.tick)?;
                }
                _ => {
                    self.gather(event);
                    pairs.open(event, &self.partners)?;
                }
            }
        }
    }
}
