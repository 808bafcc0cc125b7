//! What must not change while a condition holds.

use std::ops::ControlFlow;

use super::given::{Given, Held, NextStretch};
use super::{Events, Scene, Take};
use crate::event::{Certainty, Hit, Stretch};
use crate::known::Rule;
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::pair::{Pulled, Together};
use crate::time::Tick;

/// `stable`: each change while a condition holds is a violation.
#[derive(Debug)]
pub(super) struct Steadiness {
    changes: Events,
    stretches: Held,
    /// A change so soon after the end of a stretch may have been before it.
    window: u64,
    /// The stretch whose changes are looked for.
    present: Option<Stretch>,
    /// Changes that may belong to the next stretch as well.
    shared: Vec<Hit>,
}

impl Steadiness {
    pub(super) fn new(changes: Events, stretches: Held, together: Together) -> Self {
        let window = together.certain_from.max(0).unsigned_abs();
        Steadiness { changes, stretches, window, present: None, shared: Vec::new() }
    }

    pub(super) fn advance(
        &mut self,
        scene: Scene<'_>,
        given: &Given,
        sink: &mut impl Take,
    ) -> ControlFlow<()> {
        Events::take(std::array::from_mut(&mut self.changes), given);
        self.stretches.take(given);
        loop {
            if self.present.is_none() {
                self.present = self.stretches.next();
            }
            let Some(stretch) = self.present else { break };
            let until = Tick(stretch.end.0.saturating_add(self.window));
            let until = match self.stretches.peek() {
                NextStretch::Is(next) => until.min(next.start),
                NextStretch::NoneBefore(known) if known < until => return ControlFlow::Continue(()),
                NextStretch::NoneBefore(_) => {
                    self.stretches.open().map_or(until, |open| until.min(open.start))
                }
                NextStretch::None => until,
            };
            let until = until.max(stretch.end);
            if self.changes.known() < until {
                return ControlFlow::Continue(());
            }
            self.present = None;
            self.within(scene, stretch, until, sink)?;
        }
        if !given.ended {
            return ControlFlow::Continue(());
        }
        // The condition may have held for a moment after all.
        while let Pulled::Some(hit) = self.changes.party.peek() {
            self.changes.party.pass();
            let moment = Stretch::moment(hit.tick);
            tell(scene, moment, hit.tick, Verdict::Inconclusive, Doubt::Order, sink)?;
        }
        ControlFlow::Continue(())
    }

    /// What changes in a stretch, up to a tick at which nothing may belong to it any more.
    fn within(
        &mut self,
        scene: Scene<'_>,
        stretch: Stretch,
        until: Tick,
        sink: &mut impl Take,
    ) -> ControlFlow<()> {
        let mut quiet = true;
        for hit in std::mem::take(&mut self.shared) {
            if hit.tick.0.saturating_add(self.window) >= stretch.start.0 {
                quiet = false;
                tell(scene, stretch, hit.tick, Verdict::Inconclusive, Doubt::Order, sink)?;
            }
        }
        while let Pulled::Some(hit) = self.changes.party.peek()
            && hit.tick < until
        {
            self.changes.party.pass();
            if !hit.is_certain() {
                self.shared.push(hit);
            }
            let verdict = match hit.certainty {
                Certainty::Certain => Verdict::Fail,
                Certainty::Doubtful | Certainty::Possible => Verdict::Inconclusive,
            };
            quiet = false;
            tell(scene, stretch, hit.tick, verdict, Doubt::Order, sink)?;
        }
        if !quiet {
            return ControlFlow::Continue(());
        }
        if scene.unknown_within(stretch.start, stretch.end) {
            return tell(scene, stretch, stretch.end, Verdict::Inconclusive, Doubt::Unknown, sink);
        }
        if !stretch.begins || !stretch.ends {
            return scene.each(sink, |_| Visited::Unpaired(stretch.start));
        }
        // A change just outside the record may have been in it.
        let outside = |tick| scene.terms.order.reaches_outside(tick, scene.capture.len());
        let beyond = outside(stretch.start) || outside(stretch.end);
        for (number, plan) in scene.plans.iter().enumerate() {
            let (verdict, doubt) = match plan.hides.partner {
                true => (Verdict::Inconclusive, Doubt::Hidden),
                false if beyond => (Verdict::Inconclusive, Doubt::Order),
                false => (Verdict::Pass, Doubt::Order),
            };
            sink.found(number, told(scene, number, stretch, stretch.end, verdict, doubt))?;
        }
        ControlFlow::Continue(())
    }
}

fn tell(
    scene: Scene<'_>,
    stretch: Stretch,
    end: Tick,
    verdict: Verdict,
    doubt: Doubt,
    sink: &mut impl Take,
) -> ControlFlow<()> {
    (0..scene.plans.len())
        .try_for_each(|number| sink.found(number, told(scene, number, stretch, end, verdict, doubt)))
}

/// A stretch up to a change in it, or the whole of one without, under a plan.
fn told(
    scene: Scene<'_>,
    number: usize,
    stretch: Stretch,
    end: Tick,
    verdict: Verdict,
    doubt: Doubt,
) -> Visited {
    let plan = &scene.plans[number];
    let (start, end) = (stretch.start.min(end), stretch.start.max(end));
    let ticks = end.since(start);
    let measured = Measured::Interval { ticks, partners: (ticks, ticks) };
    let verdict = match verdict {
        Verdict::Fail if plan.open_events => Verdict::Inconclusive,
        other => other,
    };
    let doubt = (verdict == Verdict::Inconclusive).then_some(doubt);
    // Which stretches there are is open where the condition's lines may hide pulses.
    let recorded = stretch.recorded && (!stretch.doubtful || scene.terms.rule == Rule::Measured);
    let certain = !plan.hides.condition && recorded;
    let (verdict, doubt) = match (verdict, certain) {
        (Verdict::Fail, false) if plan.hides.condition => (Verdict::Inconclusive, Some(Doubt::Hidden)),
        (Verdict::Fail, false) => (Verdict::Inconclusive, Some(Doubt::Order)),
        _ => (verdict, doubt),
    };
    Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain })
}
