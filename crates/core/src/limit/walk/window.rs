//! What must not change around a reference.

use std::ops::ControlFlow;

use super::{Take, Walk};
use crate::error::Result;
use crate::event::{Hit, TimedProgram};
use crate::limit::judge::{Clearance, Verdict};
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::limit::required::Required;
use crate::pair::{Nearby, Pairs, Partner};
use crate::quantity::Rational;
use crate::time::Tick;

impl Walk<'_> {
    /// `window`: each change near the reference is a violation.
    pub(super) fn window<S: Take>(
        &self,
        data: &TimedProgram,
        reference: &TimedProgram,
        required: Required,
        sink: &mut S,
    ) -> Result<()> {
        let clearance = Clearance::new(required, &self.span)?;
        let mut changes = Changes { walk: self, clearance, required, sink };
        let (mut events, mut partners) = (self.party(reference), self.party(data));
        let near = clearance.before.saturating_add(1)..clearance.after;
        // A stop asked for by the sink is not an error.
        let _ = Nearby::new(near).advance(&mut events, &mut partners, &mut changes);
        Ok(())
    }
}

/// Decides the changes around each reference as they come.
struct Changes<'w, 'a, S> {
    walk: &'w Walk<'a>,
    clearance: Clearance,
    required: Required,
    sink: &'w mut S,
}

impl<S: Take> Changes<'_, '_, S> {
    fn tell(
        &mut self,
        reference: Hit,
        change: Option<&Partner>,
        verdict: Verdict,
        doubt: Doubt,
    ) -> ControlFlow<()> {
        let walk = self.walk;
        let at = change.map_or(reference.tick, |change| change.tick);
        let (start, end) = (reference.tick.min(at), reference.tick.max(at));
        let measured = change.map_or(Measured::Quiet, |change| Measured::Offset { ticks: change.ticks });
        let certain = reference.is_certain() && !walk.hides.condition;
        let (verdict, doubt) = match (verdict, certain) {
            (Verdict::Fail, false) if walk.hides.condition => (Verdict::Inconclusive, Doubt::Hidden),
            (Verdict::Fail, false) => (Verdict::Inconclusive, Doubt::Order),
            other => (other.0, doubt),
        };
        let doubt = (verdict == Verdict::Inconclusive).then_some(doubt);
        self.sink.found(Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain }))
    }

    /// The change that is nearest to what must be clear.
    fn nearest<'p>(&self, changes: &'p [Partner]) -> Option<&'p Partner> {
        let base = self.walk.capture.base();
        let margin = |change: &&Partner| {
            self.required.margin(base.length_of(change.ticks).to_rational()).unwrap_or(Rational::ZERO)
        };
        changes.iter().filter(|change| change.recorded).min_by_key(margin)
    }

    /// Whether a change that the record does not show, beyond an end, may lie in the range.
    fn reaches_outside(&self, reference: Tick) -> bool {
        let (before, after) = (Tick(0).since(reference), Tick(self.walk.capture.len()).since(reference));
        before > self.clearance.before || after < self.clearance.after
    }

    /// Whether anything involved is unknown where a change would count.
    fn is_unknown(&self, reference: Tick) -> bool {
        let Clearance { before, after, .. } = self.clearance;
        let from = reference.offset(before.saturating_add(1).min(0));
        self.walk.unknown_within(from, reference.offset(after.max(1)))
    }
}

impl<S: Take> Pairs for Changes<'_, '_, S> {
    fn certain(&mut self, _: Tick, _: Tick) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }

    fn open(&mut self, reference: Hit, changes: &[Partner]) -> ControlFlow<()> {
        if self.is_unknown(reference.tick) {
            return self.tell(reference, self.nearest(changes), Verdict::Inconclusive, Doubt::Unknown);
        }
        let mut quiet = true;
        for change in changes {
            let (verdict, doubt) = match self.clearance.decide(change.ticks) {
                Verdict::Pass => continue,
                Verdict::Fail if change.certain && !self.walk.open_events => (Verdict::Fail, Doubt::Order),
                Verdict::Fail => (Verdict::Inconclusive, Doubt::Order),
                open => (open, Doubt::Resolution),
            };
            quiet = false;
            self.tell(reference, Some(change), verdict, doubt)?;
        }
        if !quiet {
            return ControlFlow::Continue(());
        }
        if self.reaches_outside(reference.tick) {
            return match reference.is_recorded() {
                true => self.sink.found(Visited::Unpaired(reference.tick)),
                false => ControlFlow::Continue(()),
            };
        }
        let hides = self.walk.hides.anchor || self.walk.hides.partner;
        let verdict = if hides { Verdict::Inconclusive } else { Verdict::Pass };
        self.tell(reference, self.nearest(changes), verdict, Doubt::Hidden)
    }
}
