//! Finding the occurrences of a limit: which events belong together, and how sure that is.
//!
//! [`pair`](crate::pair) says which events belong together. An occurrence with several possible partners
//! passes when all of them pass, fails when a partner is certain and all of them fail, and is inconclusive
//! otherwise.

mod bits;
mod lasting;
mod paired;
mod restricted;
mod steady;
mod voltage;
mod window;

use std::borrow::Cow;
use std::ops::ControlFlow;

use super::bound::{BoundLimit, Programs};
use super::hidden::Hides;
use super::judge::{Judge, Verdict};
use super::kind::Kind;
use super::occurrence::{Doubt, Measured, Occurrence, Visited};
use super::row::Answer;
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result};
use crate::event::{ConditionProgram, MarkWords, Stretch, Stretches, TimedProgram};
use crate::known::{Instants, Precedence, Precision, Rule, Span};
use crate::line::Signal;
use crate::pair::{Party, Together};
use crate::quantity::Voltage;
use crate::time::Tick;

impl BoundLimit {
    /// Walks over all occurrences in order of time, until `sink` says stop.
    ///
    /// - `delay`: each starting event is paired with the first answer before the next starting
    ///   event. In an exact record an answer at the very tick counts; in a sampled one it counts
    ///   as an answer that may also have come before.
    /// - `setup`: each reference event is paired with the last change of the data before it;
    ///   `hold`: with the first change after it. Exactly together, the change belongs to `hold`.
    /// - `period`: each event is paired with the one before, if the limit's condition holds all the way.
    /// - `recovery`: as `delay`, `removal`: as `setup`, once for each release of the control.
    /// - `skew`: each event is paired with the nearest partner on either side.
    /// - `width`: each stretch of the condition whose beginning and end are recorded; `duty`: each but
    ///   the last, with the period up to the beginning of the next, if the condition holds all the way.
    /// - `stable`: each change of the data while the condition holds, and each stretch without one.
    /// - `rise-time`, `fall-time`: as `delay`, between the crossings of the two levels.
    /// - `level`: each stretch in which the line is high, or low, or the condition holds.
    /// - `rate`: each frame, from its first edge to the last one of the same direction.
    /// - `window`: each change of the data in the range around a reference event, and each such event without
    ///   one.
    /// - `settle`: each event is paired with the last change of the data before the next one. After the last
    ///   event, that counts only if it is too late already.
    ///
    /// Of pairs, those count that lie inside one stretch of the limit's `within`, and have nothing of its
    /// `unless` between.
    ///
    /// # Errors
    /// When the limit cannot be expressed in exact ticks, or a bus cannot be decoded.
    pub fn occurrences(
        &self,
        capture: &Capture,
        rule: Rule,
        sink: &mut dyn FnMut(Visited) -> ControlFlow<()>,
    ) -> Result<()> {
        match self.settled(capture) {
            Some(limit) => limit.walk(capture, rule, &mut Each(sink)),
            None => Ok(()),
        }
    }

    /// The same; none where a record like this cannot show its events.
    pub(crate) fn shown(
        &self,
        capture: &Capture,
        rule: Rule,
        sink: &mut dyn FnMut(Visited) -> ControlFlow<()>,
    ) -> Result<()> {
        match self.occurrences(capture, rule, sink) {
            Err(error) if matches!(error.kind(), ErrorKind::TooSlow | ErrorKind::NotShown) => Ok(()),
            other => other,
        }
    }

    /// What is known of the intervals of this limit in a capture: what an
    /// [`Occurrence`](crate::limit::Occurrence) asks for its bounds.
    pub fn span(&self, capture: &Capture, rule: Rule) -> Span {
        let precision = Precision::of(capture, rule);
        self.settled(capture).map_or(Span::exact(capture.base()), |limit| limit.span_within(&precision))
    }

    /// The same limit with levels that are shares of a line's swing as voltages; `None` where the line
    /// has no swing in this record.
    pub(super) fn settled(&self, capture: &Capture) -> Option<Cow<'_, BoundLimit>> {
        match &self.programs {
            Programs::Ramp { ramp, condition } => {
                let programs = ramp.crossings(capture, condition.as_ref())?;
                Some(Cow::Owned(BoundLimit { programs, ..self.clone() }))
            }
            _ => Some(Cow::Borrowed(self)),
        }
    }

    /// The same, made for one kind of sink: what is done for each of millions is then one piece.
    pub(super) fn walk(&self, capture: &Capture, rule: Rule, sink: &mut impl Take) -> Result<()> {
        self.check_at(capture.base())?;
        let walk = Walk::new(self, capture, rule)?;
        let programs = self.programs.at(capture.base())?;
        // A stop asked for by the sink is not an error.
        let _ = match (&programs, self.limit.kind()) {
            (Programs::Data { data, reference }, Kind::Window) => {
                walk.window(data, reference, self.limit.required, sink)?;
                ControlFlow::Continue(())
            }
            (Programs::Data { data, reference }, Kind::Setup | Kind::Removal) => {
                walk.preceding(data, reference, sink)
            }
            (Programs::Data { data, reference }, _) => walk.following(reference, data, false, sink),
            (Programs::Pair { from, to }, Kind::Skew) => walk.nearest(from, to, sink),
            (Programs::Pair { from, to }, Kind::Settle) => {
                let precision = Precision::of(capture, rule);
                let before = precision.between(&to.instants(), &from.instants());
                let before = BoundLimit::in_order(&before, false)?;
                walk.settling(from, to, before, sink)
            }
            (Programs::Pair { from, to }, _) => walk.following(from, to, true, sink),
            (Programs::Repeat { event, condition }, _) => walk.period(event, condition.as_ref(), sink),
            (Programs::Pulse { pulse, condition }, Kind::Duty) => {
                walk.duty(pulse, condition.as_ref(), self.limit.required, sink)
            }
            (Programs::Pulse { pulse, condition }, _) => walk.width(pulse, condition.as_ref(), sink),
            (Programs::Steady { changes, holds }, _) => walk.steady(changes, holds, sink),
            (Programs::Voltage { line, which, condition }, _) => {
                walk.voltage(*line, *which, condition.as_ref(), self.limit.required, sink)
            }
            (Programs::Bits { bus, nominal }, _) => {
                walk.bits(bus, *nominal, self.limit.required, sink)?;
                ControlFlow::Continue(())
            }
            // Settled before.
            (Programs::Ramp { .. }, _) => ControlFlow::Continue(()),
        };
        Ok(())
    }
}

/// Takes what a walk finds, and may say stop.
pub(super) trait Take {
    fn found(&mut self, found: Visited) -> ControlFlow<()>;

    /// Takes note of how many ticks are seen of something that an end of the record cuts off, or that does not
    /// count.
    fn cut(&mut self, _: i64) {}

    /// Takes note of how many ticks were seen of a wait that nothing answered, or nothing that counts.
    fn waited(&mut self, _: i64) {}

    /// The same for two events that certainly belong together; by far the most are such.
    #[inline]
    fn certain(&mut self, certain: CertainPair) -> ControlFlow<()> {
        self.found(Visited::Occurrence(certain.occurrence()))
    }
}

/// Passes everything on.
struct Each<'s>(&'s mut dyn FnMut(Visited) -> ControlFlow<()>);

impl Take for Each<'_> {
    fn found(&mut self, found: Visited) -> ControlFlow<()> {
        (self.0)(found)
    }
}

/// Two events that certainly belong together.
#[derive(Clone, Copy, Debug)]
pub(super) struct CertainPair {
    start: Tick,
    end: Tick,
    pub(super) verdict: Verdict,
    doubt: Option<Doubt>,
}

impl CertainPair {
    #[inline]
    pub(super) fn ticks(self) -> i64 {
        self.end.since(self.start)
    }

    pub(super) fn occurrence(self) -> Occurrence {
        let CertainPair { start, end, verdict, doubt } = self;
        let ticks = self.ticks();
        let measured = Measured::Interval { ticks, partners: (ticks, ticks) };
        Occurrence { start, end, measured, verdict, doubt, certain: true }
    }
}

struct Walk<'a> {
    capture: &'a Capture,
    judge: Judge,
    together: Together,
    /// How close edges of its signals are whose order is open.
    order: Precedence,
    span: Span,
    rule: Rule,
    /// Whether its events are of several parts, in a record that may hide some of them.
    open_events: bool,
    /// Whether a start must have an answer.
    must_answer: bool,
    /// What lines that may hide pulses leave open.
    hides: Hides,
    /// The judge who thinks that they hide none, where they may.
    trusting: Option<Judge>,
    /// Signals involved that are unknown somewhere.
    unknown: Vec<Signal>,
    /// What its pairs must lie in, and what must not be between.
    within: Option<&'a ConditionProgram>,
    unless: Option<TimedProgram>,
    /// What its intervals begin and end with.
    ends: (Instants, Instants),
}

impl BoundLimit {
    /// What its intervals begin and end with, in order of time.
    fn ends(&self) -> (Instants, Instants) {
        match &self.programs {
            Programs::Data { data, reference } => match self.limit.kind() {
                Kind::Setup | Kind::Removal => (data.instants(), reference.instants()),
                _ => (reference.instants(), data.instants()),
            },
            Programs::Pair { from, to } => (from.instants(), to.instants()),
            Programs::Repeat { event, .. } => (event.instants(), event.instants()),
            Programs::Pulse { pulse, .. } => (pulse.instants(), pulse.instants()),
            Programs::Steady { changes, holds } => (holds.instants(), changes.instants()),
            Programs::Ramp { ramp, .. } => (ramp.instants(), ramp.instants()),
            // The edges that bits are counted between.
            Programs::Bits { bus, .. } => {
                let edges = Instants::edges(bus.lines().first());
                (edges.clone(), edges)
            }
            Programs::Voltage { .. } => (Instants::none(), Instants::none()),
        }
    }

    /// What is known of its intervals at this precision.
    pub(super) fn span_within(&self, precision: &Precision<'_>) -> Span {
        let (start, end) = self.ends();
        let (shorter, longer) = self.hides(precision).widen(self.limit.kind());
        let span = precision.between(&start, &end).hiding(shorter, longer);
        // Of a skew, either end may be the first.
        if self.limit.kind() == Kind::Skew { span.either_way() } else { span }
    }

    /// From which distance on its events are in order. Exactly together, they are, but for those that
    /// precede a reference.
    pub(super) fn together(&self, span: &Span) -> Result<Together> {
        let same_tick = !matches!(self.limit.kind(), Kind::Setup | Kind::Removal);
        Self::in_order(span, same_tick)
    }

    /// From which distance on two events are in order whose intervals are known like this.
    fn in_order(span: &Span, same_tick: bool) -> Result<Together> {
        Together::new(span, same_tick).ok_or_else(|| {
            let message = "the uncertainty of this record cannot be compared exactly";
            Error::new(ErrorKind::Range, message).with_help("state skew and uncertainty with fewer digits")
        })
    }

    /// The signals whose unknown levels leave an occurrence open.
    fn involved(&self) -> Vec<Signal> {
        match &self.programs {
            // The condition of a pulse counts at its beginning only.
            Programs::Pulse { pulse, .. } => pulse.signals(),
            _ => self.signals(),
        }
    }
}

impl<'a> Walk<'a> {
    fn new(limit: &'a BoundLimit, capture: &'a Capture, rule: Rule) -> Result<Self> {
        let precision = Precision::of(capture, rule);
        let span = limit.span_within(&precision);
        let (judge, together) = (Judge::new(limit.limit.required, &span)?, limit.together(&span)?);
        let open_events = limit.is_open(&precision);
        let ever_unknown = |signal: &Signal| capture.trace(*signal).is_ever_unknown();
        let unknown = limit.involved().into_iter().filter(ever_unknown).collect();
        let hides = limit.hides(&precision);
        let trusting = span.hides().then(|| Judge::new(limit.limit.required, &span.hiding(false, false)));
        let trusting = trusting.transpose()?;
        let order = precision.order(&limit.signals(), Voltage::ZERO);
        let must_answer = limit.limit.answer == Answer::Must;
        Ok(Walk {
            must_answer,
            capture,
            judge,
            together,
            order,
            span,
            rule,
            open_events,
            hides,
            trusting,
            unknown,
            within: limit.within.as_ref(),
            unless: limit.unless.as_ref().map(|unless| unless.at(capture.base())).transpose()?,
            ends: limit.ends(),
        })
    }

    /// The marks of an event, to be paired with others.
    fn party<'p>(&self, program: &'p TimedProgram) -> Party<MarkWords<'p>>
    where
        'a: 'p,
    {
        Party::new(program.marks(self.capture, self.capture.range(), self.rule))
    }

    /// Why an interval whose bounds reach to both sides of the limit is open: since pulses may be hidden,
    /// if it would not be open otherwise.
    fn straddling(&self, ticks: i64) -> Doubt {
        let decided = |judge: &Judge| judge.decide(ticks) != Verdict::Inconclusive;
        if self.trusting.as_ref().is_some_and(decided) { Doubt::Hidden } else { Doubt::Resolution }
    }

    fn unknown_within(&self, start: Tick, end: Tick) -> bool {
        // The last tick belongs to the end event; a single-tick occurrence still has its tick.
        let range = start..end.max(Tick(start.0 + 1));
        self.unknown.iter().any(|l| self.capture.is_unknown_within(*l, range.clone()))
    }
}

/// Where a condition holds all the way from one tick to another, asked with rising ticks.
struct Holding<'a> {
    stretches: Option<Stretches<'a>>,
    present: Option<Stretch>,
    order: Precedence,
}

impl<'a> Holding<'a> {
    fn new(condition: Option<&'a ConditionProgram>, capture: &'a Capture, order: Precedence) -> Self {
        let mut stretches = condition.map(|condition| condition.stretches(capture, capture.range()));
        let present = stretches.as_mut().and_then(Iterator::next);
        Holding { stretches, present, order }
    }

    /// `None` where the order of edges at the ends leaves it open.
    fn all_the_way(&mut self, from: Tick, to: Tick) -> Option<bool> {
        let Some(stretches) = &mut self.stretches else { return Some(true) };
        // An edge of the condition that is this far from an end is in order with it.
        let reach = self.order.reach().map_or(0, |reach| i64::try_from(reach).unwrap_or(i64::MAX / 4) + 1);
        while let Some(stretch) = self.present
            && stretch.end < to.offset(-reach)
        {
            self.present = stretches.next();
        }
        let Some(stretch) = self.present else { return Some(false) };
        let covers = |inward: i64| {
            let begins = stretch.start <= from.offset(inward) || (inward < 0 && !stretch.begins);
            begins && (stretch.end >= to.offset(-inward) || (inward < 0 && !stretch.ends))
        };
        match (covers(-reach), covers(reach)) {
            (true, _) => Some(true),
            (false, true) => None,
            (false, false) => Some(false),
        }
    }
}
