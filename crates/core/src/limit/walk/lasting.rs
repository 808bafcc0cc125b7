//! How long a condition lasts, and for which share of a period.

use std::ops::ControlFlow;

use super::{Holding, Take, Walk};
use crate::event::{Certainty, ConditionProgram, Hit, Stretch, Stretches};
use crate::known::{Rule, Span};
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::limit::required::Required;
use crate::pair::Partner;
use crate::quantity::Quantity;

impl Walk<'_> {
    pub(super) fn width<S: Take>(
        &self,
        pulse: &ConditionProgram,
        condition: Option<&ConditionProgram>,
        sink: &mut S,
    ) -> ControlFlow<()> {
        for stretch in self.stretches(pulse) {
            let mut sure = (!stretch.doubtful || self.rule == Rule::Measured) && !self.hides.condition;
            match self.counts(condition, stretch) {
                Some(true) => {}
                // A hidden edge may begin a pulse in it that counts.
                Some(false) => {
                    sink.cut(stretch.end.since(stretch.start));
                    continue;
                }
                None => sure = false,
            }
            let cut_start = !stretch.begins && stretch.start.0 == 0;
            let cut_end = !stretch.ends && stretch.end.0 == self.capture.len();
            if cut_start || cut_end {
                sink.cut(stretch.end.since(stretch.start));
                sink.found(Visited::Unpaired(stretch.start))?;
                continue;
            }
            let certainty = match (sure, stretch.recorded) {
                (true, _) => Certainty::Certain,
                (false, true) => Certainty::Doubtful,
                (false, false) => Certainty::Possible,
            };
            let ticks = stretch.end.since(stretch.start);
            if stretch.begins && stretch.ends {
                let recorded = stretch.recorded;
                let partner = Partner { tick: stretch.end, ticks, certain: sure, recorded };
                self.settle(Hit { tick: stretch.start, certainty }, &[partner], sink)?;
            } else {
                // An unknown level touches an end: the length is a lower bound at best.
                let (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
                let (start, end, partners) = (stretch.start, stretch.end, (ticks, ticks));
                let measured = Measured::Interval { ticks, partners };
                sink.found(Visited::Occurrence(Occurrence {
                    start,
                    end,
                    measured,
                    verdict,
                    doubt,
                    certain: sure,
                }))?;
            }
        }
        ControlFlow::Continue(())
    }

    /// The stretches of a condition, with those that may have happened where that is minded.
    fn stretches<'p>(&'p self, pulse: &'p ConditionProgram) -> Stretches<'p> {
        match self.rule {
            Rule::Proven => pulse.stretches_with_doubt(self.capture, self.capture.range()),
            Rule::Measured => pulse.stretches(self.capture, self.capture.range()),
        }
    }

    /// Whether a stretch counts: the condition holds where it begins; `None` when that is open.
    pub(super) fn counts(&self, condition: Option<&ConditionProgram>, stretch: Stretch) -> Option<bool> {
        let Some(condition) = condition else { return Some(true) };
        condition.holds_around(self.capture, stretch.start, self.order)
    }

    pub(super) fn duty<S: Take>(
        &self,
        pulse: &ConditionProgram,
        condition: Option<&ConditionProgram>,
        required: Required,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let limits = Shares::new(self.span, required);
        let mut holding = Holding::new(condition, self.capture, self.order);
        let mut last: Option<Stretch> = None;
        for stretch in self.stretches(pulse) {
            // A share that is not seen cannot be told; the doubt is with those that it would change.
            if !stretch.recorded {
                continue;
            }
            let Some(first) = last.replace(stretch) else { continue };
            let counts = self.counts(condition, first);
            if counts == Some(false) {
                continue;
            }
            let held = match counts {
                None => None,
                Some(_) => holding.all_the_way(first.start, stretch.start),
            };
            if !first.begins || !first.ends || !stretch.begins || held == Some(false) {
                sink.found(Visited::Unpaired(first.start))?;
                continue;
            }
            let (part, period) = (first.end.since(first.start), stretch.start.since(first.start));
            let doubtful = (first.doubtful || stretch.doubtful) && self.rule == Rule::Proven;
            let certain = held.is_some() && !doubtful && !self.hides.condition;
            let decided = limits.decide(part, period);
            let (verdict, doubt) = if self.unknown_within(first.start, stretch.start) {
                (Verdict::Inconclusive, Some(Doubt::Unknown))
            } else if doubtful || held.is_none() {
                (Verdict::Inconclusive, Some(Doubt::Order))
            } else {
                let open = if self.span.hides() { Doubt::Hidden } else { Doubt::Resolution };
                (decided, (decided == Verdict::Inconclusive).then_some(open))
            };
            let measured = Measured::Share { part, period };
            let (start, end) = (first.start, stretch.start);
            sink.found(Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain }))?;
        }
        last.map_or(ControlFlow::Continue(()), |last| sink.found(Visited::Unpaired(last.start)))
    }
}

/// A required share, ready to be compared with millions of measured ones.
struct Shares {
    span: Span,
    required: Required,
    /// Of the ends as fractions: numerators and denominators, where nothing blurs the edges.
    plain: Option<[Option<(i128, i128)>; 2]>,
    early: i128,
}

impl Shares {
    fn new(span: Span, required: Required) -> Self {
        const LARGEST: i128 = 1 << 60;
        let parts = |end: Option<Quantity>| {
            end.map(|end| (end.to_rational().numerator(), end.to_rational().denominator()))
        };
        let ends = [parts(required.min), parts(required.max)];
        let small = ends.iter().flatten().all(|(num, den)| num.abs() < LARGEST && *den < LARGEST);
        let plain = (!span.is_blurred() && !span.hides() && small).then_some(ends);
        Shares { span, required, plain, early: i128::from(span.early()) }
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
