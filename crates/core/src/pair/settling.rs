//! Starts and the last answers before the next start.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use super::partner::{Advance, Ends, MOST_PARTNERS, Pairing, Pairs, Partner, Together, give};
use super::party::{Feed, Party, Pulled};
use crate::event::{Certainty, Hit};

/// Pairs each start with the last answer before the next start: when something settled.
///
/// A start and those after it that may not have happened, up to one that certainly did, are worked out
/// together: each of them may be where the wait of an earlier one ends.
#[derive(Debug)]
pub struct Settling {
    /// From a start to an answer.
    after: Together,
    /// From an answer to a start.
    before: Together,
    /// Whether later answers than the last one may have happened unseen.
    hides: bool,
    ends: Ends,
    /// The last answer that was certain for the end at hand, and those after it that may not count.
    pool: VecDeque<Hit>,
    /// Where the waits of the present starts may end, and what may be the last answer before.
    lasts: Vec<Last>,
    partners: Vec<Partner>,
}

/// Where a wait may end.
#[derive(Debug)]
struct Last {
    end: Hit,
    /// What may be the last answer before it, in order of time.
    answers: Vec<Hit>,
}

/// A start and the ones after it up to a certain one.
enum Group {
    /// So many, ended by a certain one or by the end of the record.
    Of {
        starts: usize,
        ended: bool,
    },
    NotYet,
}

impl Settling {
    /// `after` is the order of a start and an answer, `before` that of an answer and a start, where the same
    /// instant is not before; `hides` says whether later answers than the last may have happened unseen, and
    /// `len` how long the record is.
    pub fn new(after: Together, before: Together, hides: bool, len: u64) -> Self {
        let (pool, lasts, partners) = (VecDeque::new(), Vec::new(), Vec::new());
        Settling { after, before, hides, ends: Ends::of(len), pool, lasts, partners }
    }

    /// Takes in the answers that may come before an end, and lets go of those which cannot be the last one of
    /// the first start, or of the latest before that end.
    fn take_until<A: Feed>(
        &mut self,
        first: Hit,
        latest: Hit,
        end: Hit,
        answers: &mut Party<A>,
    ) -> Pulled<()> {
        let from = self.after.possible_from;
        self.pool.retain(|answer| answer.tick.since(first.tick) >= from);
        if let Some(place) = self.pool.iter().rposition(|answer| self.is_within(*answer, latest, end)) {
            self.pool.drain(..place);
        }
        loop {
            match answers.peek() {
                Pulled::Some(answer) if end.tick.since(answer.tick) >= self.before.possible_from => {
                    answers.pass();
                    if answer.tick.since(first.tick) < from {
                        continue;
                    }
                    if self.is_within(answer, latest, end) {
                        self.pool.clear();
                    } else if self.is_within(answer, first, end) {
                        self.pool.retain(|answer| answer.tick.since(latest.tick) >= from);
                    } else if self.pool.len() > 2 * MOST_PARTNERS {
                        // The first one bounds those between.
                        self.pool.drain(1..MOST_PARTNERS);
                    }
                    self.pool.push_back(answer);
                }
                Pulled::NotYet if end.tick.since(answers.known()) >= self.before.possible_from => {
                    return Pulled::NotYet;
                }
                Pulled::Some(_) | Pulled::End | Pulled::NotYet => return Pulled::Some(()),
            }
        }
    }

    /// Whether an answer certainly lies between a start and an end.
    fn is_within(&self, answer: Hit, start: Hit, end: Hit) -> bool {
        answer.is_certain()
            && answer.tick.since(start.tick) >= self.after.certain_from
            && end.tick.since(answer.tick) >= self.before.certain_from
    }

    /// Finds what may be the last answer of the start at this place, whichever of the later ones ended it.
    fn gather(&mut self, start: Hit, place: usize) {
        let mut partners = std::mem::take(&mut self.partners);
        partners.clear();
        let lasts = &self.lasts[place..];
        let after = self.ends.after();
        // Where one of several starts ended the wait, nothing is sure but what holds for the certain one.
        let mut sure = match lasts {
            [only] => only.end.is_certain() || only.end.tick == after,
            several => several.last().is_some_and(|last| last.end.is_certain()),
        };
        for Last { end, answers } in lasts {
            let (mut found, mut certain) = (false, false);
            for answer in answers.iter().rev() {
                let ticks = answer.tick.since(start.tick);
                if ticks < self.after.possible_from {
                    break;
                }
                certain = self.is_within(*answer, start, *end);
                found = true;
                if !partners.iter().any(|known| known.tick == answer.tick && !known.hidden) {
                    partners.push(Partner {
                        tick: answer.tick,
                        ticks,
                        certain,
                        recorded: answer.is_recorded(),
                        hidden: false,
                    });
                }
                if certain {
                    break;
                }
            }
            sure &= certain;
            // One may hide up to the end, and one just after the record may have come before it.
            if !found || end.tick == after {
                continue;
            }
            if self.hides {
                let hidden = Ends::unseen(end.tick, end.tick.since(start.tick));
                partners.push(Partner { hidden: true, ..hidden });
            }
            if end.tick.since(after) >= self.before.possible_from {
                partners.push(Ends::unseen(after, after.since(start.tick)));
            }
        }
        if !sure {
            partners.iter_mut().for_each(|partner| partner.certain = false);
        }
        self.partners = partners;
    }
}

impl Pairing for Settling {
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
            let first = match starts.peek() {
                Pulled::Some(first) => first,
                Pulled::End => return ControlFlow::Continue(Advance::Done),
                Pulled::NotYet => return ControlFlow::Continue(Advance::Waiting),
            };
            let Group::Of { starts: count, ended } = group(starts) else {
                return ControlFlow::Continue(Advance::Waiting);
            };
            let record = Hit { tick: self.ends.after(), certainty: Certainty::Possible };
            while self.lasts.len() < count {
                let end = match starts.get(self.lasts.len() + 1) {
                    Pulled::Some(end) => end,
                    Pulled::End | Pulled::NotYet => record,
                };
                let latest = match starts.get(self.lasts.len()) {
                    Pulled::Some(latest) => latest,
                    Pulled::End | Pulled::NotYet => first,
                };
                if self.take_until(first, latest, end, answers) == Pulled::NotYet {
                    return ControlFlow::Continue(Advance::Waiting);
                }
                let answers = self.pool.iter().copied().collect();
                self.lasts.push(Last { end, answers });
            }
            for place in 0..count {
                let Pulled::Some(start) = starts.peek() else { break };
                starts.pass();
                self.gather(start, place);
                match ended {
                    true => give(start, &self.partners, pairs)?,
                    false => pairs.unended(start, &self.partners)?,
                }
            }
            self.lasts.clear();
        }
    }
}

/// How many starts come before the next certain one.
fn group<S: Feed>(starts: &mut Party<S>) -> Group {
    for place in 1..MOST_PARTNERS {
        match starts.get(place) {
            Pulled::Some(start) if start.is_certain() => return Group::Of { starts: place, ended: true },
            Pulled::Some(_) => {}
            Pulled::End => return Group::Of { starts: place, ended: false },
            Pulled::NotYet => return Group::NotYet,
        }
    }
    // So many in doubt: what is said of them is not certain either.
    Group::Of { starts: MOST_PARTNERS, ended: true }
}
