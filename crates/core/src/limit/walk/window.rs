//! What must not change around a reference.

use std::ops::ControlFlow;

use super::plan::Plan;
use super::{Scene, Take};
use crate::event::Hit;
use crate::limit::judge::{Clearance, Verdict};
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::limit::required::Required;
use crate::pair::{Pairs, Partner};
use crate::quantity::Rational;
use crate::time::Tick;

/// Decides the changes around each reference as they come: each that is near is a violation.
pub(super) struct Changes<'r, S> {
    pub(super) scene: Scene<'r>,
    pub(super) clearance: Clearance,
    pub(super) required: Required,
    pub(super) sink: &'r mut S,
}

impl<S: Take> Changes<'_, S> {
    /// Tells of one change, or of none, what is said of it under each plan.
    fn tell(
        &mut self,
        reference: Hit,
        change: Option<&Partner>,
        said: impl Fn(&Plan) -> (Verdict, Doubt),
    ) -> ControlFlow<()> {
        let at = change.map_or(reference.tick, |change| change.tick);
        let (start, end) = (reference.tick.min(at), reference.tick.max(at));
        let measured = change.map_or(Measured::Quiet, |change| Measured::Offset { ticks: change.ticks });
        self.scene.each(self.sink, |plan| {
            let certain = reference.is_certain() && !plan.hides.condition;
            let (verdict, doubt) = match (said(plan), certain) {
                ((Verdict::Fail, _), false) if plan.hides.condition => (Verdict::Inconclusive, Doubt::Hidden),
                ((Verdict::Fail, _), false) => (Verdict::Inconclusive, Doubt::Order),
                (said, _) => said,
            };
            let doubt = (verdict == Verdict::Inconclusive).then_some(doubt);
            Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain })
        })
    }

    /// The change that is nearest to what must be clear.
    fn nearest<'p>(&self, changes: &'p [Partner]) -> Option<&'p Partner> {
        let base = self.scene.capture.base();
        let margin = |change: &&Partner| {
            self.required.margin(base.length_of(change.ticks).to_rational()).unwrap_or(Rational::ZERO)
        };
        changes.iter().filter(|change| change.recorded).min_by_key(margin)
    }

    /// Whether a change that the record does not show, beyond an end, may lie in the range.
    fn reaches_outside(&self, reference: Tick) -> bool {
        let (before, after) = (Tick(0).since(reference), Tick(self.scene.capture.len()).since(reference));
        before > self.clearance.before || after < self.clearance.after
    }

    /// Whether anything involved is unknown where a change would count.
    fn is_unknown(&self, reference: Tick) -> bool {
        let Clearance { before, after, .. } = self.clearance;
        let from = reference.offset(before.saturating_add(1).min(0));
        self.scene.unknown_within(from, reference.offset(after.max(1)))
    }
}

impl<S: Take> Pairs for Changes<'_, S> {
    fn certain(&mut self, _: Tick, _: Tick) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }

    fn open(&mut self, reference: Hit, changes: &[Partner]) -> ControlFlow<()> {
        if self.is_unknown(reference.tick) {
            return self.tell(reference, self.nearest(changes), |_| (Verdict::Inconclusive, Doubt::Unknown));
        }
        let mut quiet = true;
        for change in changes {
            let decided = self.clearance.decide(change.ticks);
            if decided == Verdict::Pass {
                continue;
            }
            quiet = false;
            self.tell(reference, Some(change), |plan| match decided {
                Verdict::Fail if change.certain && !plan.open_events => (Verdict::Fail, Doubt::Order),
                Verdict::Fail => (Verdict::Inconclusive, Doubt::Order),
                open => (open, Doubt::Resolution),
            })?;
        }
        if !quiet {
            return ControlFlow::Continue(());
        }
        if self.reaches_outside(reference.tick) {
            return match reference.is_recorded() {
                true => self.scene.each(self.sink, |_| Visited::Unpaired(reference.tick)),
                false => ControlFlow::Continue(()),
            };
        }
        self.tell(reference, self.nearest(changes), |plan| {
            let hides = plan.hides.anchor || plan.hides.partner;
            (if hides { Verdict::Inconclusive } else { Verdict::Pass }, Doubt::Hidden)
        })
    }
}
