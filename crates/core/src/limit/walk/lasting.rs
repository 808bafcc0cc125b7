//! How long a condition lasts, and for which share of a period.

use std::ops::ControlFlow;

use super::given::{Given, Held, NextStretch};
use super::paired::Holding;
use super::plan::Plan;
use super::{Scene, Take};
use crate::event::{Certainty, ConditionProgram, Hit, Stretch};
use crate::known::{Rule, Span};
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::limit::required::Required;
use crate::line::Signal;
use crate::pair::{Batch, Partner, Pulled};
use crate::quantity::Quantity;
use crate::time::Tick;

impl Scene<'_> {
    /// Whether a stretch counts: the condition holds where it begins; `None` when that is open.
    pub(super) fn counts(&self, condition: Option<&ConditionProgram>, stretch: Stretch) -> Option<bool> {
        let Some(condition) = condition else { return Some(true) };
        condition.holds_around(self.capture, stretch.start, self.terms.order)
    }
}

/// `width`: how long each stretch of a condition is.
#[derive(Debug)]
pub(super) struct Durations {
    stretches: Held,
    condition: Option<ConditionProgram>,
    /// Those that are counted together.
    plain: Batch,
}

/// Where a condition is asked for at the beginnings of stretches, and what of.
fn asked_at_starts(stretches: &Held, condition: Option<&ConditionProgram>) -> Option<(usize, Vec<Signal>)> {
    Some((stretches.place(), condition?.signals()))
}

impl Durations {
    pub(super) fn asked_at_starts(&self) -> Option<(usize, Vec<Signal>)> {
        asked_at_starts(&self.stretches, self.condition.as_ref())
    }

    pub(super) fn new(stretches: Held, condition: Option<ConditionProgram>) -> Self {
        Durations { stretches, condition, plain: Batch::default() }
    }

    pub(super) fn advance(
        &mut self,
        scene: Scene<'_>,
        given: &Given,
        sink: &mut impl Take,
    ) -> ControlFlow<()> {
        self.stretches.take(given);
        let all_count = self.condition.is_none() && scene.unknown.is_empty();
        while let Some(stretch) = self.stretches.next() {
            if all_count && stretch.begins && stretch.ends && !stretch.doubtful {
                self.plain.push(stretch.start, stretch.end);
                if self.plain.is_full() {
                    self.plain.give(|plain| sink.all_certain(plain))?;
                }
                continue;
            }
            self.plain.give(|plain| sink.all_certain(plain))?;
            let counts = scene.counts(self.condition.as_ref(), stretch);
            found(scene, stretch, counts, sink)?;
        }
        self.plain.give(|plain| sink.all_certain(plain))
    }
}

/// One stretch, and whether it counts.
fn found(scene: Scene<'_>, stretch: Stretch, counts: Option<bool>, sink: &mut impl Take) -> ControlFlow<()> {
    let ticks = stretch.end.since(stretch.start);
    let sure = (!stretch.doubtful || scene.terms.rule == Rule::Measured) && counts.is_some();
    // A hidden edge may begin a pulse in it that counts.
    if counts == Some(false) {
        sink.cut(ticks);
        return ControlFlow::Continue(());
    }
    let cut_start = !stretch.begins && stretch.start.0 == 0;
    let cut_end = !stretch.ends && stretch.end.0 == scene.capture.len();
    if cut_start || cut_end {
        sink.cut(ticks);
        return scene.each(sink, |_| Visited::Unpaired(stretch.start));
    }
    if stretch.begins && stretch.ends {
        if sure {
            return scene.certain(stretch.start, stretch.end, sink);
        }
        let certainty = if stretch.recorded { Certainty::Doubtful } else { Certainty::Possible };
        let recorded = stretch.recorded;
        let partner = Partner { tick: stretch.end, ticks, certain: false, recorded, hidden: false };
        return scene.decide(Hit { tick: stretch.start, certainty }, &[partner], sink);
    }
    // An unknown level touches an end: the length is a lower bound at best.
    scene.each(sink, |plan| {
        let (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
        let (start, end, partners) = (stretch.start, stretch.end, (ticks, ticks));
        let measured = Measured::Interval { ticks, partners };
        let certain = sure && !plan.hides.condition;
        Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain })
    })
}

/// `duty`: which share of its period each stretch of a condition takes.
#[derive(Debug)]
pub(super) struct Shares {
    stretches: Held,
    condition: Option<ConditionProgram>,
    holding: Option<Holding>,
    /// For each plan.
    limits: Vec<ShareLimits>,
    /// The stretch whose period has not ended, and whether it counts.
    last: Option<(Stretch, Option<bool>)>,
}

impl Shares {
    pub(super) fn asked_at_starts(&self) -> Option<(usize, Vec<Signal>)> {
        asked_at_starts(&self.stretches, self.condition.as_ref())
    }

    /// The beginning of the first stretch that was given and waits.
    pub(super) fn waits_since(&self) -> Option<Tick> {
        self.stretches.looked_at().map(|stretch| stretch.start)
    }

    pub(super) fn new(
        stretches: Held,
        condition: Option<ConditionProgram>,
        holding: Option<Holding>,
        plans: &[Plan],
        required: Required,
    ) -> Self {
        let limits = plans.iter().map(|plan| ShareLimits::new(plan.span, required)).collect();
        Shares { stretches, condition, holding, limits, last: None }
    }

    pub(super) fn advance(
        &mut self,
        scene: Scene<'_>,
        given: &Given,
        sink: &mut impl Take,
    ) -> ControlFlow<()> {
        self.stretches.take(given);
        if let Some(holding) = &mut self.holding {
            holding.take(given);
        }
        while let NextStretch::Is(next) = self.stretches.peek() {
            // A share that is not seen cannot be told; the doubt is with those that it would change.
            if !next.recorded {
                self.stretches.pass();
                continue;
            }
            let held = match (&self.last, &mut self.holding) {
                (Some((first, Some(true))), Some(holding)) => {
                    match holding.all_the_way(first.start, next.start) {
                        Pulled::Some(held) => held,
                        Pulled::End => Some(false),
                        Pulled::NotYet => return ControlFlow::Continue(()),
                    }
                }
                (Some((_, counts)), _) => *counts,
                (None, _) => None,
            };
            self.stretches.pass();
            let counts = scene.counts(self.condition.as_ref(), next);
            let Some((first, counted)) = self.last.replace((next, counts)) else { continue };
            if counted != Some(false) {
                self.share(scene, first, next, held, sink)?;
            }
        }
        match self.last.take_if(|_| given.ended) {
            Some((last, _)) => scene.each(sink, |_| Visited::Unpaired(last.start)),
            None => ControlFlow::Continue(()),
        }
    }

    /// The share of one stretch in the period up to the next; `held` says whether what must hold does so.
    fn share(
        &self,
        scene: Scene<'_>,
        first: Stretch,
        next: Stretch,
        held: Option<bool>,
        sink: &mut impl Take,
    ) -> ControlFlow<()> {
        if !first.begins || !first.ends || !next.begins || held == Some(false) {
            return scene.each(sink, |_| Visited::Unpaired(first.start));
        }
        let (start, end) = (first.start, next.start);
        let (part, period) = (first.end.since(start), end.since(start));
        let doubtful = (first.doubtful || next.doubtful) && scene.terms.rule == Rule::Proven;
        let unknown = scene.unknown_within(start, end);
        for ((number, plan), limits) in scene.plans.iter().enumerate().zip(&self.limits) {
            let certain = held.is_some() && !doubtful && !plan.hides.condition;
            let decided = limits.decide(part, period);
            let (verdict, doubt) = if unknown {
                (Verdict::Inconclusive, Some(Doubt::Unknown))
            } else if doubtful || held.is_none() {
                (Verdict::Inconclusive, Some(Doubt::Order))
            } else {
                let open = if plan.span.hides() { Doubt::Hidden } else { Doubt::Resolution };
                (decided, (decided == Verdict::Inconclusive).then_some(open))
            };
            let measured = Measured::Share { part, period };
            let occurrence = Occurrence { start, end, measured, verdict, doubt, certain };
            sink.found(number, Visited::Occurrence(occurrence))?;
        }
        ControlFlow::Continue(())
    }
}

/// A required share, ready to be compared with millions of measured ones.
#[derive(Debug)]
struct ShareLimits {
    span: Span,
    required: Required,
    /// Of the ends as fractions: numerators and denominators, where nothing blurs the edges.
    plain: Option<[Option<(i128, i128)>; 2]>,
    early: i128,
}

impl ShareLimits {
    fn new(span: Span, required: Required) -> Self {
        const LARGEST: i128 = 1 << 60;
        let parts = |end: Option<Quantity>| {
            end.map(|end| (end.to_rational().numerator(), end.to_rational().denominator()))
        };
        let ends = [parts(required.min), parts(required.max)];
        let small = ends.iter().flatten().all(|(num, den)| num.abs() < LARGEST && *den < LARGEST);
        let plain = (!span.is_blurred() && !span.hides() && small).then_some(ends);
        ShareLimits { span, required, plain, early: i128::from(span.early()) }
    }

    fn decide(&self, part: i64, period: i64) -> Verdict {
        let Some([min, max]) = self.plain else {
            let bounds = self.span.share(1, part, period);
            return bounds.map_or(Verdict::Inconclusive, |bounds| self.required.decide(bounds));
        };
        let (part, period) = (i128::from(part), i128::from(period));
        let (least, most) = ((part - self.early).max(0), (part + self.early).min(period));
        // How a share of the period compares with an end, without dividing.
        let against = |ticks: i128, (num, den): (i128, i128)| (ticks * den).cmp(&(num * period));
        let low = min.map(|min| (against(least, min), against(most, min)));
        let high = max.map(|max| (against(least, max), against(most, max)));
        let open = self.early > 0;
        let under = low.is_some_and(|(_, most)| most.is_lt() || (open && most.is_eq()));
        let over = high.is_some_and(|(least, _)| least.is_gt() || (open && least.is_eq()));
        if under || over {
            Verdict::Fail
        } else if low.is_none_or(|(least, _)| least.is_ge()) && high.is_none_or(|(_, most)| most.is_le()) {
            Verdict::Pass
        } else {
            Verdict::Inconclusive
        }
    }
}
