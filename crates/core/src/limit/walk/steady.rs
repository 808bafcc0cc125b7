//! What must not change while a condition holds.

use std::ops::ControlFlow;

use super::{Take, Walk};
use crate::event::{Certainty, ConditionProgram, Stretch, TimedProgram};
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
        while let Some(stretch) = stretches.next() {
            let mut quiet = true;
            let until = Tick(stretch.end.0.saturating_add(window));
            let until = stretches.peek().map_or(until, |next| until.min(next.start));
            while let Pulled::Some(hit) = hits.peek()
                && hit.tick < until.max(stretch.end)
            {
                hits.pass();
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
                let seen_quiet = if self.hides.partner { Verdict::Inconclusive } else { Verdict::Pass };
                self.tell(stretch, stretch.end, seen_quiet, Doubt::Hidden, sink)?;
            } else {
                sink.found(Visited::Unpaired(stretch.start))?;
            }
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
        let certain = !self.hides.condition;
        let (verdict, doubt) = match (verdict, certain) {
            (Verdict::Fail, false) => (Verdict::Inconclusive, Some(Doubt::Hidden)),
            _ => (verdict, doubt),
        };
        sink.found(Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain }))
    }
}
