//! What the occurrences of a limit are decided by.

use super::super::bound::BoundLimit;
use super::super::hidden::Hides;
use super::super::judge::{Judge, Verdict};
use super::super::occurrence::{Doubt, Measured, Occurrence};
use super::super::row::Answer;
use crate::capture::Capture;
use crate::error::Result;
use crate::known::{Instants, Precedence, Precision, Rule, Span};
use crate::line::Signal;
use crate::pair::Together;
use crate::quantity::Voltage;
use crate::time::Tick;

/// What holds of a limit in records of one kind, whatever their lines may hide.
#[derive(Clone, Debug)]
pub(super) struct Terms {
    pub(super) rule: Rule,
    pub(super) together: Together,
    /// How close edges of its signals are whose order is open.
    pub(super) order: Precedence,
    /// What its intervals begin and end with.
    pub(super) ends: (Instants, Instants),
    /// The signals whose unknown levels leave an occurrence open.
    involved: Vec<Signal>,
}

impl Terms {
    pub(super) fn new(limit: &BoundLimit, capture: &Capture, rule: Rule) -> Result<Self> {
        let precision = Precision::of(capture, rule);
        Ok(Terms {
            rule,
            together: limit.together(&limit.span_within(&precision))?,
            order: precision.order(&limit.signals(), Voltage::ZERO),
            ends: limit.ends(),
            involved: limit.involved(),
        })
    }

    /// Those of its signals that are unknown somewhere.
    pub(super) fn unknown(&self, capture: &Capture) -> Vec<Signal> {
        let ever_unknown = |signal: &&Signal| capture.trace(**signal).is_ever_unknown();
        self.involved.iter().filter(ever_unknown).copied().collect()
    }
}

/// How occurrences are decided where these of the limit's lines may hide pulses.
#[derive(Clone, Debug)]
pub(in crate::limit) struct Plan {
    pub(super) judge: Judge,
    pub(in crate::limit) span: Span,
    /// What lines that may hide pulses leave open.
    pub(in crate::limit) hides: Hides,
    /// The judge who thinks that they hide none, where they may.
    trusting: Option<Judge>,
    /// Whether its events are of several parts, in a record that may hide some of them.
    pub(super) open_events: bool,
    /// Whether a start must have an answer.
    pub(super) must_answer: bool,
}

impl Plan {
    /// As the record has it.
    pub(in crate::limit) fn of(limit: &BoundLimit, precision: &Precision<'_>) -> Result<Self> {
        Plan::hiding(limit, precision, limit.hides(precision), limit.is_open(precision))
    }

    pub(in crate::limit) fn hiding(
        limit: &BoundLimit,
        precision: &Precision<'_>,
        hides: Hides,
        open_events: bool,
    ) -> Result<Self> {
        let (required, span) = (limit.limit.required, limit.span_hiding(precision, hides));
        let trusting = span.hides().then(|| Judge::new(required, &span.hiding(false, false)));
        Ok(Plan {
            judge: Judge::new(required, &span)?,
            span,
            hides,
            trusting: trusting.transpose()?,
            open_events,
            must_answer: limit.limit.answer == Answer::Must,
        })
    }

    /// From where on intervals are decided otherwise, in ticks.
    pub(in crate::limit) fn borders(&self) -> impl Iterator<Item = i64> {
        [Some(self.judge), self.trusting].into_iter().flatten().flat_map(|judge| {
            let Judge { pass_from, fail_to, pass_to, fail_from } = judge;
            [fail_to.saturating_add(1), pass_from, pass_to.saturating_add(1), fail_from]
        })
    }

    /// Whether an interval of so many ticks between events that certainly belong together is a violation.
    #[inline]
    pub(in crate::limit) fn fails(&self, ticks: i64) -> bool {
        (ticks <= self.judge.fail_to || ticks >= self.judge.fail_from)
            && !self.open_events
            && !self.hides.condition
    }

    /// Why an interval whose bounds reach to both sides of the limit is open: since pulses may be hidden,
    /// if it would not be open otherwise.
    pub(super) fn straddling(&self, ticks: i64) -> Doubt {
        let decided = |judge: &Judge| judge.decide(ticks) != Verdict::Inconclusive;
        if self.trusting.as_ref().is_some_and(decided) { Doubt::Hidden } else { Doubt::Resolution }
    }

    /// The occurrence that two events make which certainly belong together, all levels being known.
    pub(in crate::limit) fn certain(&self, start: Tick, end: Tick) -> Occurrence {
        let ticks = end.since(start);
        let (certain, decided) = (!self.hides.condition, self.judge.decide(ticks));
        let doubt = if certain { self.straddling(ticks) } else { Doubt::Hidden };
        let (verdict, doubt) = match decided {
            Verdict::Fail if certain && !self.open_events => (Verdict::Fail, None),
            Verdict::Pass => (Verdict::Pass, None),
            _ => (Verdict::Inconclusive, Some(doubt)),
        };
        let measured = Measured::Interval { ticks, partners: (ticks, ticks) };
        Occurrence { start, end, measured, verdict, doubt, certain }
    }
}
