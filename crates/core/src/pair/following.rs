//! Starts and the answers that follow them.

use std::ops::ControlFlow;

use super::batch::Batch;
use super::partner::{Advance, Ends, MOST_PARTNERS, Pairing, Pairs, Partner, Together, give};
use super::party::{Feed, Party, Pulled};
use super::words;
use crate::event::Hit;
use crate::known::BEYOND;
use crate::time::Tick;

/// Pairs each start with the first answer after it.
#[derive(Debug)]
pub struct Following {
    together: Together,
    /// Whether the next start ends the wait.
    superseded: bool,
    ends: Ends,
    partners: Vec<Partner>,
    batch: Batch,
}

impl Following {
    /// `superseded` says whether an answer after the next start belongs to that one only; `len` is
    /// the length of the record in ticks.
    pub fn new(together: Together, superseded: bool, len: u64) -> Self {
        let (ends, partners) = (Ends::of(len), Vec::new());
        Following { together, superseded, ends, partners, batch: Batch::default() }
    }

    /// Whether an answer just before the record may have come after this start.
    fn answered_unseen(&self, start: Tick) -> bool {
        Ends::BEFORE.since(start) >= self.together.possible_from
    }

    /// The partners that one start may have, where `next` gives the starts that may supersede it, the
    /// first of them being numbered 0. The answers are passed up to the first that is possible.
    pub(crate) fn partners_of<A: Feed>(
        &mut self,
        start: Hit,
        next: impl FnMut(usize) -> Pulled<Hit>,
        answers: &mut Party<A>,
    ) -> Pulled<&[Partner]> {
        if !self.pass_early(start, answers) {
            return Pulled::NotYet;
        }
        // What these give is known to the end.
        match self.resolve(start, next, Tick(u64::MAX), answers) {
            Pulled::NotYet => Pulled::NotYet,
            Pulled::Some(()) | Pulled::End => Pulled::Some(&self.partners),
        }
    }

    /// Passes the answers that come too early for this start, and so for all after it; `false` where more of them
    /// may arrive.
    #[inline]
    fn pass_early<A: Feed>(&self, start: Hit, answers: &mut Party<A>) -> bool {
        let is_early = |answer: Tick| answer.since(start.tick) < self.together.possible_from;
        loop {
            match answers.peek() {
                Pulled::Some(answer) if is_early(answer.tick) => answers.pass(),
                Pulled::NotYet => return !is_early(answers.known()),
                Pulled::Some(_) | Pulled::End => return true,
            }
        }
    }

    /// Finds all partners of a start. No further start than those that `next` gives lies before `known`. After the next certain start, an answer is that one's; after one
    /// before it that may have happened, an answer may be that one's.
    fn resolve<A: Feed>(
        &mut self,
        start: Hit,
        mut next: impl FnMut(usize) -> Pulled<Hit>,
        known: Tick,
        answers: &mut Party<A>,
    ) -> Pulled<()> {
        let (mut certain_next, mut doubtful_next) = (None, None);
        // From where on another start may still come to be known.
        let mut unknown_from = None;
        for place in 0..MOST_PARTNERS {
            match next(place) {
                Pulled::Some(hit) if hit.is_certain() => {
                    certain_next = Some(hit);
                    break;
                }
                Pulled::Some(hit) => doubtful_next = doubtful_next.or(Some(hit)),
                Pulled::End => break,
                Pulled::NotYet => {
                    unknown_from = Some(known);
                    break;
                }
            }
        }
        self.partners.clear();
        let after = self.ends.after();
        let too_late = |answer: Tick, next: Hit| answer.since(next.tick) >= self.together.certain_from;
        for place in 0..MOST_PARTNERS {
            let answer = match answers.get(place) {
                Pulled::Some(answer) => answer,
                Pulled::End if unknown_from.is_none() => {
                    self.add_unseen(start.tick, certain_next);
                    return Pulled::Some(());
                }
                Pulled::NotYet if certain_next.is_some_and(|next| too_late(answers.known(), next)) => {
                    self.add_unseen(start.tick, certain_next);
                    return Pulled::Some(());
                }
                Pulled::End | Pulled::NotYet => return Pulled::NotYet,
            };
            if unknown_from.is_some_and(|from| !self.together.supersedes(answer.tick, from)) {
                return Pulled::NotYet;
            }
            if certain_next.is_some_and(|next| too_late(answer.tick, next)) {
                self.add_unseen(start.tick, certain_next);
                return Pulled::Some(());
            }
            let ticks = answer.tick.since(start.tick);
            let before = |other: Option<Hit>| {
                other.is_none_or(|next| self.together.supersedes(answer.tick, next.tick))
            };
            let certain = answer.is_certain()
                && ticks >= self.together.certain_from
                && before(certain_next)
                && before(doubtful_next)
                // Another start may lie just after the record.
                && (!self.superseded || self.together.supersedes(answer.tick, after));
            let recorded = answer.is_recorded();
            self.partners.push(Partner { tick: answer.tick, ticks, certain, recorded, hidden: false });
            if certain {
                self.add_unseen(start.tick, certain_next);
                return Pulled::Some(());
            }
        }
        self.partners.push(Ends::unseen(start.tick, BEYOND));
        Pulled::Some(())
    }

    /// Adds the answers that may lie just before the record, and beyond it where none in it is certain.
    /// Without any in it, there is nothing to be judged.
    fn add_unseen(&mut self, start: Tick, certain_next: Option<Hit>) {
        if self.partners.is_empty() {
            return;
        }
        if self.answered_unseen(start) {
            self.partners.push(Ends::unseen(Ends::BEFORE, Ends::BEFORE.since(start)));
        }
        let after = self.ends.after();
        let others = |next: Hit| after.since(next.tick) >= self.together.certain_from;
        let found = self.partners.iter().any(|partner| partner.certain);
        if !found && !certain_next.is_some_and(others) {
            self.partners.extend(Ends::beyond(after, after.since(start)));
        }
    }
}

impl Pairing for Following {
    fn end(&mut self, len: u64) {
        self.ends = Ends::of(len);
    }

    fn advance<S: Feed, A: Feed>(
        &mut self,
        starts: &mut Party<S>,
        answers: &mut Party<A>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<(), Advance> {
        loop {
            // As nearly always: one certain answer to a certain start before the next certain start, or none.
            words::following(
                (&mut *starts, &mut *answers),
                self.together,
                self.superseded,
                (&mut self.batch, pairs),
            )?;
            let start = match starts.peek() {
                Pulled::Some(start) => start,
                Pulled::End => return ControlFlow::Continue(Advance::Done),
                Pulled::NotYet => {
                    // What is too early for any start to come need not wait for one.
                    answers.pass_before(starts.known().offset(self.together.possible_from));
                    return ControlFlow::Continue(Advance::Waiting);
                }
            };
            if !self.pass_early(start, answers) {
                return ControlFlow::Continue(Advance::Waiting);
            }
            let (superseded, known) = (self.superseded, starts.known());
            let next = |place: usize| if superseded { starts.get(place + 1) } else { Pulled::End };
            if self.resolve(start, next, known, answers) == Pulled::NotYet {
                return ControlFlow::Continue(Advance::Waiting);
            }
            starts.pass();
            give(start, &self.partners, pairs)?;
        }
    }
}
