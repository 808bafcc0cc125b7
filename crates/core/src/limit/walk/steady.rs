//! What must not change while a condition holds.

use std::ops::ControlFlow;

use super::{Take, Walk};
use crate::event::{Certainty, ConditionProgram, Hit, Stretch, TimedProgram};
use crate::known::Rule;
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::pair::Pulled;
use crate::time::Tick;

impl Walk<'_> {
    pub(super) fn steady<S: Take>(
        &self,
        changes: &TimedProgram,
        holds: &ConditionProgram,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let mut hits = self.party(changes);
        let mut stretches = holds.stretches(self.capture, self.capture.range()).peekable();
        // A change so soon after the end may have been before it.
        let window = self.together.certain_from.max(0) as u64;
        // Changes that may belong to the next stretch as well.
        let mut shared: Vec<Hit> = Vec::new();
        while let Some(stretch) = stretches.next() {
            let mut quiet = true;
            for hit in std::mem::take(&mut shared) {
                if hit.tick.0.saturating_add(window) >= stretch.start.0 {
                    quiet = false;
                    self.tell(stretch, hit.tick, Verdict::Inconclusive, Doubt::Order, sink)?;
                }
            }
            let until = Tick(stretch.end.0.saturating_add(window));
            let until = stretches.peek().map_or(until, |next| until.min(next.start));
            while let Pulled::Some(hit) = hits.peek()
                && hit.tick < until.max(stretch.end)
            {
                hits.pass();
                if !hit.is_certain() {
                    shared.push(hit);
                }
                let verdict = match hit.certainty {
                    _ if self.open_events => Verdict::Inconclusive,
                    Certainty::Certain => Verdict::Fail,
                    Certainty::Doubtful | Certainty::Possible => Verdict::Inconclusive,
                };
                quiet = false;
                self.tell(stretch, hit.tick, verdict, Doubt::Order, sink)?;
            }
            if !quiet {
                continue;
            }
            if self.unknown_within(stretch.start, stretch.end) {
                self.tell(stretch, stretch.end, Verdict::Inconclusive, Doubt::Unknown, sink)?;
            } else if stretch.begins && stretch.ends {
                // A change just outside the record may have been in it.
                let outside = |tick| self.order.reaches_outside(tick, self.capture.len());
                let (verdict, doubt) = match self.hides.partner {
                    true => (Verdict::Inconclusive, Doubt::Hidden),
                    false if outside(stretch.start) || outside(stretch.end) => {
                        (Verdict::Inconclusive, Doubt::Order)
                    }
                    false => (Verdict::Pass, Doubt::Order),
                };
                self.tell(stretch, stretch.end, verdict, doubt, sink)?;
            } else {
                sink.found(Visited::Unpaired(stretch.start))?;
            }
        }
        // The condition may have held for a moment after all.
        while let Pulled::Some(hit) = hits.peek() {
            hits.pass();
            let moment = Stretch::moment(hit.tick);
            self.tell(moment, hit.tick, Verdict::Inconclusive, Doubt::Order, sink)?;
        }
        ControlFlow::Continue(())
    }

    /// A stretch up to a change in it, or the whole of one without.
    fn tell<S: Take>(
        &self,
        stretch: Stretch,
        end: Tick,
        verdict: Verdict,
        doubt: Doubt,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (start, end) = (stretch.start.min(end), stretch.start.max(end));
        let ticks = end.since(start);
        let measured = Measured::Interval { ticks, partners: (ticks, ticks) };
        let doubt = (verdict == Verdict::Inconclusive).then_some(doubt);
        // Which stretches there are is open where the condition's lines may hide pulses.
        let certain =
            !self.hides.condition && stretch.recorded && (!stretch.doubtful || self.rule == Rule::Measured);
        let (verdict, doubt) = match (verdict, certain) {
            (Verdict::Fail, false) if self.hides.condition => (Verdict::Inconclusive, Some(Doubt::Hidden)),
            (Verdict::Fail, false) => (Verdict::Inconclusive, Some(Doubt::Order)),
            _ => (verdict, doubt),
        };
        sink.found(Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain }))
    }
}
