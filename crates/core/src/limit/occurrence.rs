//! Finding the occurrences of a limit: which events belong together, and how sure that is.
//!
//! Where a record cannot tell the order of two events, or whether one happened at all, an
//! occurrence has several possible partners. It passes when all of them pass, fails when a partner
//! is certain and all of them fail, and is inconclusive otherwise.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use serde::Serialize;

use super::judge::{Judge, Rule, Verdict};
use super::lookahead::Lookahead;
use super::part::{BoundLimit, Kind, Programs};
use crate::capture::Capture;
use crate::error::Result;
use crate::event::{Certainty, ConditionProgram, Hit, Program};
use crate::line::{Crossing, LineId};
use crate::time::{Bounds, Interval, Resolution, Tick, Time, TimeBase};

/// Why an occurrence could not be decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Doubt {
    /// The limit lies within the uncertainty of the measured interval.
    Resolution,
    /// The order of events, or whether one happened, is not certain at this resolution.
    Order,
    /// A line involved has an unknown level within the occurrence.
    Unknown,
}

/// One place where a limit applies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Occurrence {
    /// The earlier end.
    pub start: Tick,
    /// The later end.
    pub end: Tick,
    /// The interval as counted.
    pub interval: Interval,
    /// The fewest and the most ticks over all partners that it may have.
    pub partners: (i64, i64),
    /// The decision.
    pub verdict: Verdict,
    /// Why it is inconclusive, if it is.
    pub doubt: Option<Doubt>,
}

impl Occurrence {
    /// What is known of the true interval, over all partners that it may have; `None` when exact
    /// arithmetic does not fit. For the rule [`Rule::Measured`], give [`Resolution::EXACT`].
    pub fn bounds(&self, base: TimeBase, resolution: &Resolution) -> Option<Bounds> {
        let of = |ticks| Some(Interval { ticks, ..self.interval }.bounds(base, resolution)?.not_negative());
        let (shortest, longest) = (of(self.partners.0)?, of(self.partners.1)?);
        Some(Bounds { hi: longest.hi, hi_exclusive: longest.hi_exclusive, ..shortest })
    }
}

/// What a walk over the occurrences of a limit yields.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Found {
    /// An occurrence.
    Occurrence(Occurrence),
    /// A starting event without partner, or a pulse cut off by an end of the record.
    Unpaired(Tick),
}

impl BoundLimit {
    /// Walks over all occurrences in order of time, until `sink` says stop.
    ///
    /// - `delay`: each starting event is paired with the first answer before the next starting
    ///   event. In an exact record an answer at the very tick counts; in a sampled one it counts
    ///   as an answer that may also have come before.
    /// - `setup`: each reference event is paired with the last change of the data before it;
    ///   `hold`: with the first change after it. Exactly together, the change belongs to `hold`.
    /// - `period`: each event but the first is paired with the one before.
    /// - `width`: each stretch of the condition whose beginning and end are recorded.
    ///
    /// # Errors
    /// When the limit cannot be expressed in exact ticks.
    pub fn occurrences(
        &self,
        capture: &Capture,
        rule: Rule,
        sink: &mut dyn FnMut(Found) -> ControlFlow<()>,
    ) -> Result<()> {
        let blurred = self.blurred(capture);
        self.walk(blurred.as_ref().unwrap_or(capture), rule, &mut Each(sink))
    }

    /// A capture as this limit sees it, where it looks at voltages of analog lines, or at lines made
    /// from them: these are known less well than other edges. `None` where it looks at none.
    pub fn blurred(&self, capture: &Capture) -> Option<Capture> {
        let spreads = self.lines().into_iter().map(|line| match Crossing::of_line(line) {
            Some(crossing) => capture.crossing_spread(crossing),
            None => capture.lines().get(line.0).map_or(Time::ZERO, |line| line.extra),
        });
        let sum = |a: Time, b: Time| {
            a.to_rational().checked_add(b.to_rational()).map_or(capture.duration(), Time::from_rational)
        };
        spreads.reduce(sum).filter(|extra| *extra > Time::ZERO).map(|extra| capture.blurred(extra))
    }

    /// The same, made for one kind of sink: what is done for each of millions is then one piece.
    pub(super) fn walk(&self, capture: &Capture, rule: Rule, sink: &mut impl Take) -> Result<()> {
        let walk = Walk::new(self, capture, rule)?;
        // A stop asked for by the sink is not an error.
        let _ = match &self.programs {
            Programs::Data { data, reference } if self.limit.kind == Kind::Setup => {
                walk.setup(data, reference, sink)
            }
            Programs::Data { data, reference } => walk.forward(reference, data, false, sink),
            Programs::Pair { from, to } => walk.forward(from, to, true, sink),
            Programs::Repeat(event) => walk.period(event, sink),
            Programs::Pulse { pulse, condition } => walk.width(pulse, condition.as_ref(), sink),
        };
        Ok(())
    }
}

/// Takes what a walk finds, and may say stop.
pub(super) trait Take {
    fn found(&mut self, found: Found) -> ControlFlow<()>;

    /// The same for two events that certainly belong together; by far the most are such.
    #[inline]
    fn certain(&mut self, certain: CertainPair, like: Interval) -> ControlFlow<()> {
        self.found(Found::Occurrence(certain.occurrence(like)))
    }
}

/// Passes everything on.
struct Each<'s>(&'s mut dyn FnMut(Found) -> ControlFlow<()>);

impl Take for Each<'_> {
    fn found(&mut self, found: Found) -> ControlFlow<()> {
        (self.0)(found)
    }
}

/// Two events that certainly belong together.
#[derive(Clone, Copy, Debug)]
pub(super) struct CertainPair {
    start: Tick,
    end: Tick,
    pub(super) verdict: Verdict,
}

impl CertainPair {
    #[inline]
    pub(super) fn ticks(self) -> i64 {
        self.end.since(self.start)
    }

    pub(super) fn occurrence(self, like: Interval) -> Occurrence {
        let CertainPair { start, end, verdict } = self;
        let ticks = self.ticks();
        let doubt = (verdict == Verdict::Inconclusive).then_some(Doubt::Resolution);
        let interval = Interval { ticks, ..like };
        Occurrence { start, end, interval, partners: (ticks, ticks), verdict, doubt }
    }
}

struct Walk<'a> {
    capture: &'a Capture,
    judge: Judge,
    like: Interval,
    rule: Rule,
    /// Lines involved that are unknown somewhere.
    unknown: Vec<LineId>,
}

/// A partner that an event may have.
#[derive(Clone, Copy)]
struct Partner {
    tick: Tick,
    ticks: i64,
    certain: bool,
    recorded: bool,
}

impl BoundLimit {
    /// An interval like those of this limit, of no length, and all lines that it looks at.
    fn likeness(&self, resolution: &Resolution, rule: Rule) -> (Interval, Vec<LineId>) {
        // Start and end of the interval in order of time.
        let (start, end, lines) = match &self.programs {
            Programs::Data { data, reference } => {
                let lines = joined(data, reference);
                let pair = if self.limit.kind == Kind::Setup { (data, reference) } else { (reference, data) };
                (pair.0.early(resolution), pair.1.early(resolution), lines)
            }
            Programs::Pair { from, to } => (from.early(resolution), to.early(resolution), joined(from, to)),
            Programs::Repeat(event) => (event.early(resolution), event.early(resolution), event.lines()),
            Programs::Pulse { pulse, .. } => {
                (resolution.quantum(), resolution.quantum(), pulse.lines().to_vec())
            }
        };
        let same_input = match &self.programs {
            Programs::Data { data: a, reference: b } | Programs::Pair { from: a, to: b } => {
                a.event_lines().len() == 1 && a.event_lines() == b.event_lines()
            }
            Programs::Repeat(event) => event.event_lines().len() == 1,
            Programs::Pulse { pulse, .. } => pulse.lines().len() == 1,
        };
        let like = match rule {
            Rule::Proven => Interval { ticks: 0, start_early: start, end_early: end, same_input },
            Rule::Measured => Interval { ticks: 0, start_early: 0, end_early: 0, same_input },
        };
        (like, lines)
    }

    /// The decisions about intervals of this limit.
    pub(super) fn judge(&self, base: TimeBase, resolution: &Resolution, rule: Rule) -> Result<Judge> {
        let (like, _) = self.likeness(resolution, rule);
        let resolution = match rule {
            Rule::Proven => *resolution,
            Rule::Measured => Resolution::EXACT,
        };
        let together = self.limit.kind != Kind::Setup;
        Judge::new(self.limit.required, base, &resolution, like, together)
    }
}

impl<'a> Walk<'a> {
    fn new(limit: &BoundLimit, capture: &'a Capture, rule: Rule) -> Result<Self> {
        let (like, lines) = limit.likeness(capture.resolution(), rule);
        let judge = limit.judge(capture.base(), capture.resolution(), rule)?;
        let unknown = lines.into_iter().filter(|l| capture.trace(*l).is_ever_unknown()).collect();
        Ok(Walk { capture, judge, like, rule, unknown })
    }

    fn hits(&self, program: &'a Program) -> Lookahead<'a> {
        Lookahead::new(program, self.capture, self.rule)
    }

    /// Decides one event that certainly has this one partner.
    #[inline]
    fn settle_certain<S: Take>(&self, start: Tick, end: Tick, sink: &mut S) -> ControlFlow<()> {
        let verdict = self.judge.decide(end.since(start));
        sink.certain(CertainPair { start, end, verdict }, self.like)
    }

    /// Decides one event that has these possible partners, nearest first.
    fn settle<S: Take>(
        &self,
        anchor: Hit,
        partners: &[Partner],
        backwards: bool,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let recorded = anchor.is_recorded();
        let Some(shown) = partners.iter().find(|p| p.recorded && p.ticks >= 0).or(partners.first()) else {
            return if recorded {
                sink.found(Found::Unpaired(anchor.tick))
            } else {
                ControlFlow::Continue(())
            };
        };
        let definite = anchor.certainty == Certainty::Certain && partners.iter().any(|p| p.certain);
        let verdicts = || partners.iter().map(|p| self.judge.decide(p.ticks));
        let mut doubt = None;
        let mut verdict = if verdicts().all(|v| v == Verdict::Pass) {
            Verdict::Pass
        } else if definite && verdicts().all(|v| v == Verdict::Fail) {
            Verdict::Fail
        } else {
            let straddles = definite && partners.len() == 1;
            doubt = Some(if straddles { Doubt::Resolution } else { Doubt::Order });
            Verdict::Inconclusive
        };
        if !recorded && verdict == Verdict::Pass {
            return ControlFlow::Continue(());
        }
        let (start, end) = if backwards { (shown.tick, anchor.tick) } else { (anchor.tick, shown.tick) };
        let (start, end) = (start.min(end), start.max(end));
        if self.unknown_within(start, end) {
            (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
        }
        let ticks = partners.iter().map(|p| p.ticks);
        let span = (ticks.clone().min().unwrap_or(shown.ticks), ticks.max().unwrap_or(shown.ticks));
        let interval = Interval { ticks: shown.ticks, ..self.like };
        sink.found(Found::Occurrence(Occurrence { start, end, interval, partners: span, verdict, doubt }))
    }

    fn unknown_within(&self, start: Tick, end: Tick) -> bool {
        // The last tick belongs to the end event; a single-tick occurrence still has its tick.
        let range = start..end.max(Tick(start.0 + 1));
        self.unknown.iter().any(|l| self.capture.is_unknown_within(*l, range.clone()))
    }

    /// `delay` and `hold`: the partner follows.
    fn forward<S: Take>(
        &self,
        from: &'a Program,
        to: &'a Program,
        superseded: bool,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (mut starts, mut answers) = (self.hits(from), self.hits(to));
        let mut partners = Vec::new();
        while let Some(start) = starts.next() {
            while answers.peek().is_some_and(|a| a.tick.since(start.tick) < self.judge.possible_from) {
                answers.next();
            }
            // As nearly always: one certain answer before the next certain start.
            if let Some(answer) = answers.peek()
                && self.unknown.is_empty()
                && start.is_certain()
                && answer.is_certain()
                && answer.tick.since(start.tick) >= self.judge.certain_from
                && (!superseded || starts.peek().is_none_or(|next| self.certainly_before(answer, next)))
            {
                self.settle_certain(start.tick, answer.tick, sink)?;
                continue;
            }
            // After the next certain start, an answer is that one's; after one before it that may
            // have happened, an answer may be that one's.
            let (mut next, mut doubtful) = (None, None);
            let mut place = 0;
            while superseded && let Some(start) = starts.get(place) {
                if start.is_certain() {
                    next = Some(start);
                    break;
                }
                doubtful = doubtful.or(Some(start));
                place += 1;
            }
            partners.clear();
            let mut place = 0;
            while let Some(answer) = answers.get(place) {
                if next.is_some_and(|n| answer.tick.since(n.tick) >= self.judge.certain_from) {
                    break;
                }
                let ticks = answer.tick.since(start.tick);
                let before = |other: Option<Hit>| {
                    other.is_none_or(|s| s.tick.since(answer.tick) >= self.judge.certain_from.max(1))
                };
                let certain = answer.is_certain()
                    && ticks >= self.judge.certain_from
                    && before(next)
                    && before(doubtful);
                partners.push(Partner { tick: answer.tick, ticks, certain, recorded: answer.is_recorded() });
                if certain {
                    break;
                }
                place += 1;
            }
            self.settle(start, &partners, false, sink)?;
        }
        ControlFlow::Continue(())
    }

    /// Whether a start is certain, and certainly comes after this answer.
    #[inline]
    fn certainly_before(&self, answer: Hit, start: Hit) -> bool {
        start.is_certain() && start.tick.since(answer.tick) >= self.judge.certain_from.max(1)
    }

    /// `setup`: the partner comes before.
    fn setup<S: Take>(&self, data: &'a Program, reference: &'a Program, sink: &mut S) -> ControlFlow<()> {
        let (mut anchors, mut changes) = (self.hits(reference), self.hits(data));
        // The last change that was certain, and those after it that may not count.
        let mut last: Option<Hit> = None;
        let mut open: VecDeque<Hit> = VecDeque::new();
        let mut partners = Vec::new();
        let certain = |change: Hit, anchor: Tick| {
            change.is_certain() && anchor.since(change.tick) >= self.judge.certain_from
        };
        while let Some(anchor) = anchors.next() {
            while let Some(change) = changes.peek()
                && anchor.tick.since(change.tick) >= self.judge.possible_from
            {
                changes.next();
                // Whatever lies before a certain change can never be the last one again.
                if certain(change, anchor.tick) {
                    last = Some(change);
                    open.clear();
                } else {
                    open.push_back(change);
                }
            }
            // A change may be certain for this reference event that was not for the one before.
            if !open.is_empty()
                && let Some(place) = open.iter().rposition(|change| certain(*change, anchor.tick))
            {
                last = open.drain(..=place).next_back();
            }
            if let Some(change) = last
                && open.is_empty()
                && self.unknown.is_empty()
                && anchor.is_certain()
            {
                self.settle_certain(change.tick, anchor.tick, sink)?;
                continue;
            }
            partners.clear();
            for change in open.iter().rev().chain(&last) {
                let certain = certain(*change, anchor.tick);
                let ticks = anchor.tick.since(change.tick);
                partners.push(Partner { tick: change.tick, ticks, certain, recorded: change.is_recorded() });
            }
            self.settle(anchor, &partners, true, sink)?;
        }
        ControlFlow::Continue(())
    }

    fn period<S: Take>(&self, event: &'a Program, sink: &mut S) -> ControlFlow<()> {
        let mut last: Option<Hit> = None;
        let mut hits = self.hits(event);
        while let Some(hit) = hits.next() {
            if let Some(previous) = last
                && self.unknown.is_empty()
                && previous.is_certain()
                && hit.is_certain()
            {
                self.settle_certain(previous.tick, hit.tick, sink)?;
            } else if let Some(previous) = last {
                let both = [previous.certainty, hit.certainty];
                let certain = both.iter().all(|c| *c == Certainty::Certain);
                let recorded = previous.is_recorded() && hit.is_recorded();
                let ticks = hit.tick.since(previous.tick);
                let certainty = if certain {
                    Certainty::Certain
                } else if recorded {
                    Certainty::Doubtful
                } else {
                    Certainty::Possible
                };
                let partner = Partner { tick: hit.tick, ticks, certain, recorded };
                self.settle(Hit { tick: previous.tick, certainty }, &[partner], false, sink)?;
            }
            last = Some(hit);
        }
        ControlFlow::Continue(())
    }

    fn width<S: Take>(
        &self,
        pulse: &'a ConditionProgram,
        condition: Option<&ConditionProgram>,
        sink: &mut S,
    ) -> ControlFlow<()> {
        for stretch in pulse.stretches(self.capture, self.capture.range()) {
            let mut sure = !stretch.doubtful || self.rule == Rule::Measured;
            if let Some(condition) = condition {
                match condition.holds(|l| self.capture.trace(l).level_at(stretch.start)) {
                    Some(true) => {}
                    Some(false) => continue,
                    None => sure = false,
                }
            }
            let cut_start = !stretch.begins && stretch.start.0 == 0;
            let cut_end = !stretch.ends && stretch.end.0 == self.capture.len();
            if cut_start || cut_end {
                sink.found(Found::Unpaired(stretch.start))?;
                continue;
            }
            let certainty = if sure { Certainty::Certain } else { Certainty::Doubtful };
            let ticks = stretch.end.since(stretch.start);
            if stretch.begins && stretch.ends {
                let partner = Partner { tick: stretch.end, ticks, certain: sure, recorded: true };
                self.settle(Hit { tick: stretch.start, certainty }, &[partner], false, sink)?;
            } else {
                // An unknown level touches an end: the length is a lower bound at best.
                let interval = Interval { ticks, ..self.like };
                let (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
                let (start, end, partners) = (stretch.start, stretch.end, (ticks, ticks));
                sink.found(Found::Occurrence(Occurrence { start, end, interval, partners, verdict, doubt }))?;
            }
        }
        ControlFlow::Continue(())
    }
}

fn joined(a: &Program, b: &Program) -> Vec<LineId> {
    let mut lines = a.lines();
    lines.extend(b.lines());
    lines.sort_unstable();
    lines.dedup();
    lines
}
