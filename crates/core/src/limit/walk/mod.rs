//! Finding the occurrences of a limit: which events belong together, and how sure that is.
//!
//! [`pair`](crate::pair) says which events belong together. An occurrence with several possible partners
//! passes when all of them pass, fails when a partner is certain and all of them fail, and is inconclusive
//! otherwise.

mod bits;
mod given;
mod lasting;
mod paired;
mod plan;
mod pulses;
mod restricted;
mod run;
mod steady;
mod voltage;
mod whole;
mod window;

use std::borrow::Cow;
use std::ops::ControlFlow;

pub(super) use given::{Given, Piece, Stored, Wanted};
pub(super) use plan::Plan;
pub(super) use run::Run;

use super::bound::{BoundLimit, Programs};
use super::hidden::Hides;
use super::judge::Verdict;
use super::kind::Kind;
use super::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result};
use crate::event::Hit;
use crate::event::MarkWord;
use crate::known::{Instants, Precision, Rule, Span};
use crate::line::Signal;
use crate::pair::{Batch, Paired, Partner, Party, Supply, Together};
use crate::time::Tick;
use plan::Terms;

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
            Some(limit) => limit.walk(capture, rule, sink),
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

    /// The same of a limit whose levels are settled.
    fn walk(
        &self,
        capture: &Capture,
        rule: Rule,
        sink: &mut dyn FnMut(Visited) -> ControlFlow<()>,
    ) -> Result<()> {
        let plan = Plan::of(self, &Precision::of(capture, rule))?;
        let mut wanted = Wanted::default();
        let mut run = Run::new(self, capture, rule, vec![plan.clone()], &mut wanted)?;
        let mut stored = Stored::new(&wanted, capture, rule);
        let mut each = Each { plan, sink };
        loop {
            let given = stored.next(false);
            if run.advance(capture, &given, &mut each).is_break() || given.ended {
                return Ok(());
            }
        }
    }

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
        self.span_hiding(precision, self.hides(precision))
    }

    /// The same where these of its lines may hide pulses.
    fn span_hiding(&self, precision: &Precision<'_>, hides: Hides) -> Span {
        let (start, end) = self.ends();
        let (shorter, longer) = hides.widen(self.limit.kind());
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

/// Takes what is found of a limit, and may say stop.
pub(super) trait Take {
    /// Two events that certainly belong together, all levels being known; by far the most are such. It is for the
    /// taker to [decide](Plan::certain) about them.
    fn certain(&mut self, start: Tick, end: Tick) -> ControlFlow<()>;

    /// A wait of so many ticks that nothing answered, whatever the plan.
    fn unanswered(&mut self, start: Tick, ticks: i64) -> ControlFlow<()>;

    /// Many of both kinds. Of two events that belong together, either may be the first.
    fn all_certain(&mut self, batch: &Batch) -> ControlFlow<()> {
        self.one_by_one(batch)
    }

    /// The same as a call for each.
    fn one_by_one(&mut self, batch: &Batch) -> ControlFlow<()> {
        batch.in_order().try_for_each(|paired| match paired {
            Paired::Certain(one, other) => self.certain(one.min(other), one.max(other)),
            Paired::Unanswered(wait) => self.unanswered(wait.start, wait.ticks()),
        })
    }

    /// Anything else, as it is decided under the plan of this number.
    fn found(&mut self, plan: usize, found: Visited) -> ControlFlow<()>;

    /// Takes note of how many ticks are seen of something that an end of the record cuts off, or that does not
    /// count.
    fn cut(&mut self, _: i64) {}

    /// Takes note of how many ticks were seen of a wait that nothing answered, or nothing that counts, under the
    /// plan of this number.
    fn waited(&mut self, _plan: usize, _ticks: i64) {}
}

/// Passes everything on, as a single plan decides it.
struct Each<'s> {
    plan: Plan,
    sink: &'s mut dyn FnMut(Visited) -> ControlFlow<()>,
}

impl Take for Each<'_> {
    fn certain(&mut self, start: Tick, end: Tick) -> ControlFlow<()> {
        (self.sink)(Visited::Occurrence(self.plan.certain(start, end)))
    }

    fn unanswered(&mut self, start: Tick, _: i64) -> ControlFlow<()> {
        (self.sink)(Visited::Unpaired(start))
    }

    fn found(&mut self, _: usize, found: Visited) -> ControlFlow<()> {
        (self.sink)(found)
    }
}

/// The marks of one event.
#[derive(Debug)]
struct Events {
    /// Where they are given.
    place: usize,
    party: Party<Supply<MarkWord>>,
}

impl Events {
    /// What comes later does not lie before this tick.
    fn known(&self) -> Tick {
        self.party.known()
    }

    /// Takes in what is given.
    fn take<'e, const N: usize>(
        all: &'e mut [Events; N],
        given: &Given,
    ) -> [&'e mut Party<Supply<MarkWord>>; N] {
        all.each_mut().map(|events| {
            let supply = events.party.feed();
            if let Some(piece) = given.marks.get(events.place) {
                supply.add(&piece.items, piece.known);
            }
            if given.ended {
                supply.end();
            }
            &mut events.party
        })
    }
}

/// What is looked at: a record as far as it is known, and how its occurrences are decided.
#[derive(Clone, Copy)]
struct Scene<'a> {
    capture: &'a Capture,
    terms: &'a Terms,
    plans: &'a [Plan],
    /// Signals involved that are unknown somewhere.
    unknown: &'a [Signal],
}

impl Scene<'_> {
    fn unknown_within(&self, start: Tick, end: Tick) -> bool {
        // The last tick belongs to the end event; a single-tick occurrence still has its tick.
        let range = start..end.max(Tick(start.0 + 1));
        self.unknown.iter().any(|l| self.capture.is_unknown_within(*l, range.clone()))
    }

    /// Two events that certainly belong together.
    #[inline]
    fn certain(&self, start: Tick, end: Tick, sink: &mut impl Take) -> ControlFlow<()> {
        if self.unknown.is_empty() || !self.unknown_within(start, end) {
            return sink.certain(start, end);
        }
        self.each(sink, |plan| {
            let (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
            Visited::Occurrence(Occurrence { verdict, doubt, ..plan.certain(start, end) })
        })
    }

    /// The same for all plans.
    fn each(&self, sink: &mut impl Take, found: impl Fn(&Plan) -> Visited) -> ControlFlow<()> {
        self.plans.iter().enumerate().try_for_each(|(number, plan)| sink.found(number, found(plan)))
    }

    /// Decides one event that has these possible partners, the likeliest first.
    fn decide(&self, event: Hit, partners: &[Partner], sink: &mut impl Take) -> ControlFlow<()> {
        for (number, plan) in self.plans.iter().enumerate() {
            if let Some(found) = self.decided(plan, event, partners) {
                sink.found(number, found)?;
            }
        }
        ControlFlow::Continue(())
    }

    fn decided(&self, plan: &Plan, event: Hit, partners: &[Partner]) -> Option<Visited> {
        let recorded = event.is_recorded();
        let Some(shown) = partners.iter().find(|p| p.recorded && p.ticks >= 0).or(partners.first()) else {
            return recorded.then_some(Visited::Unpaired(event.tick));
        };
        let happened = event.is_certain() && partners.iter().any(|p| p.certain);
        let certain = happened && !plan.hides.condition;
        let definite = certain && !plan.open_events;
        let verdicts = || partners.iter().map(|p| plan.judge.decide(p.ticks));
        let mut doubt = None;
        let mut verdict = if verdicts().all(|v| v == Verdict::Pass) {
            Verdict::Pass
        } else if definite && verdicts().all(|v| v == Verdict::Fail) {
            Verdict::Fail
        } else {
            // One that hides before the next event is no question of order.
            let seen = match partners {
                [seen, hidden] if plan.hides.partner && !hidden.recorded => std::slice::from_ref(seen),
                all => all,
            };
            doubt = Some(match (happened, seen) {
                (true, [only]) if certain && seen.len() < partners.len() => {
                    match plan.judge.decide(only.ticks) {
                        Verdict::Inconclusive => plan.straddling(only.ticks),
                        _ => Doubt::Hidden,
                    }
                }
                (true, [only]) if certain => plan.straddling(only.ticks),
                (true, _) if !certain => Doubt::Hidden,
                _ => Doubt::Order,
            });
            Verdict::Inconclusive
        };
        let (start, end) = (shown.tick.min(event.tick), shown.tick.max(event.tick));
        if self.unknown_within(start, end) {
            (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
        }
        let all = partners.iter().map(|p| p.ticks);
        let ticks = shown.ticks;
        let partners = (all.clone().min().unwrap_or(ticks), all.max().unwrap_or(ticks));
        let measured = Measured::Interval { ticks, partners };
        Some(Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain }))
    }
}
