//! Events and the partners that follow or precede them.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use super::{Holding, Partner, Take, Walk};
use crate::event::{Certainty, ConditionProgram, Hit, TimedProgram};
use crate::limit::occurrence::Found;
use crate::time::Tick;

impl Walk<'_> {
    /// `delay` and `hold`: the partner follows.
    pub(super) fn forward<S: Take>(
        &self,
        from: &TimedProgram,
        to: &TimedProgram,
        superseded: bool,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (mut starts, mut answers) = (self.hits(from), self.hits(to));
        let mut partners = Vec::new();
        while let Some(start) = starts.next() {
            while answers.peek().is_some_and(|a| a.tick.since(start.tick) < self.judge.possible_from) {
                answers.next();
            }
            // As nearly always: one certain answer before the next certain start.
            if let Some(answer) = answers.peek()
                && self.unknown.is_empty()
                && start.is_certain()
                && answer.is_certain()
                && answer.tick.since(start.tick) >= self.judge.certain_from
                && (!superseded || starts.peek().is_none_or(|next| self.certainly_before(answer, next)))
            {
                self.settle_certain(start.tick, answer.tick, sink)?;
                continue;
            }
            // After the next certain start, an answer is that one's; after one before it that may
            // have happened, an answer may be that one's.
            let (mut next, mut doubtful) = (None, None);
            let mut place = 0;
            while superseded && let Some(start) = starts.get(place) {
                if start.is_certain() {
                    next = Some(start);
                    break;
                }
                doubtful = doubtful.or(Some(start));
                place += 1;
            }
            partners.clear();
            let mut place = 0;
            while let Some(answer) = answers.get(place) {
                if next.is_some_and(|n| answer.tick.since(n.tick) >= self.judge.certain_from) {
                    break;
                }
                let ticks = answer.tick.since(start.tick);
                let before = |other: Option<Hit>| {
                    other.is_none_or(|s| s.tick.since(answer.tick) >= self.judge.certain_from.max(1))
                };
                let certain = answer.is_certain()
                    && ticks >= self.judge.certain_from
                    && before(next)
                    && before(doubtful);
                partners.push(Partner { tick: answer.tick, ticks, certain, recorded: answer.is_recorded() });
                if certain {
                    break;
                }
                place += 1;
            }
            self.settle(start, &partners, false, sink)?;
        }
        ControlFlow::Continue(())
    }

    /// Whether a start is certain, and certainly comes after this answer.
    #[inline]
    fn certainly_before(&self, answer: Hit, start: Hit) -> bool {
        start.is_certain() && start.tick.since(answer.tick) >= self.judge.certain_from.max(1)
    }

    /// `setup`: the partner comes before.
    pub(super) fn setup<S: Take>(
        &self,
        data: &TimedProgram,
        reference: &TimedProgram,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (mut anchors, mut changes) = (self.hits(reference), self.hits(data));
        // The last change that was certain, and those after it that may not count.
        let mut last: Option<Hit> = None;
        let mut open: VecDeque<Hit> = VecDeque::new();
        let mut partners = Vec::new();
        let certain = |change: Hit, anchor: Tick| {
            change.is_certain() && anchor.since(change.tick) >= self.judge.certain_from
        };
        while let Some(anchor) = anchors.next() {
            while let Some(change) = changes.peek()
                && anchor.tick.since(change.tick) >= self.judge.possible_from
            {
                changes.next();
                // Whatever lies before a certain change can never be the last one again.
                if certain(change, anchor.tick) {
                    last = Some(change);
                    open.clear();
                } else {
                    open.push_back(change);
                }
            }
            // A change may be certain for this reference event that was not for the one before.
            if !open.is_empty()
                && let Some(place) = open.iter().rposition(|change| certain(*change, anchor.tick))
            {
                last = open.drain(..=place).next_back();
            }
            if let Some(change) = last
                && open.is_empty()
                && self.unknown.is_empty()
                && anchor.is_certain()
            {
                self.settle_certain(change.tick, anchor.tick, sink)?;
                continue;
            }
            partners.clear();
            for change in open.iter().rev().chain(&last) {
                let certain = certain(*change, anchor.tick);
                let ticks = anchor.tick.since(change.tick);
                partners.push(Partner { tick: change.tick, ticks, certain, recorded: change.is_recorded() });
            }
            self.settle(anchor, &partners, true, sink)?;
        }
        ControlFlow::Continue(())
    }

    pub(super) fn period<S: Take>(
        &self,
        event: &TimedProgram,
        condition: Option<&ConditionProgram>,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let mut last: Option<Hit> = None;
        let mut hits = self.hits(event);
        let mut holding = Holding::new(condition, self.capture);
        while let Some(hit) = hits.next() {
            if let Some(previous) = last
                && !holding.all_the_way(previous.tick, hit.tick)
            {
                // One that is not even recorded begins no period.
                if hit.is_recorded() {
                    last = Some(hit);
                    sink.found(Found::Unpaired(previous.tick))?;
                }
                continue;
            }
            if let Some(previous) = last
                && self.unknown.is_empty()
                && previous.is_certain()
                && hit.is_certain()
            {
                self.settle_certain(previous.tick, hit.tick, sink)?;
            } else if let Some(previous) = last {
                let both = [previous.certainty, hit.certainty];
                let certain = both.iter().all(|c| *c == Certainty::Certain);
                let recorded = previous.is_recorded() && hit.is_recorded();
                let ticks = hit.tick.since(previous.tick);
                let certainty = if certain {
                    Certainty::Certain
                } else if recorded {
                    Certainty::Doubtful
                } else {
                    Certainty::Possible
                };
                let partner = Partner { tick: hit.tick, ticks, certain, recorded };
                self.settle(Hit { tick: previous.tick, certainty }, &[partner], false, sink)?;
            }
            last = Some(hit);
        }
        ControlFlow::Continue(())
    }
}
