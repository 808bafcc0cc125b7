//! One limit that is watched.

use std::ops::ControlFlow;

use super::plans::{Doubts, plans};
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result};
use crate::known::{Precision, Rule};
use crate::limit::bound::BoundLimit;
use crate::limit::check::beyond;
use crate::limit::count::Count;
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Occurrence, Visited};
use crate::limit::result::LimitResult;
use crate::limit::walk::{Given, Plan, Run, Take, Wanted};
use crate::line::Signal;
use crate::pair::Batch;
use crate::quantity::{Bounds, Quantity, Time};
use crate::time::{Tick, TimeBase};

/// A violation, as it was decided by what had arrived.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Violation {
    /// Which limit, by its place among those that are watched.
    pub limit: usize,
    /// The occurrence.
    pub occurrence: Occurrence,
    /// What was measured there, and what is known of that.
    pub measured: Option<(Quantity, Bounds<Quantity>)>,
    /// How far that is beyond the limit: negative.
    pub margin: Option<Quantity>,
}

/// A limit, and what was found of it.
#[derive(Debug)]
pub(super) struct Watched {
    bound: BoundLimit,
    /// None where a record like this cannot show its events.
    run: std::result::Result<Run, Box<LimitResult>>,
    /// What makes each of the run's plans the one that counts.
    doubts: Vec<Doubts>,
    found: Found,
}

/// What was found, counted for every plan; violations are those of the present one.
#[derive(Debug)]
struct Found {
    count: Count,
    present: usize,
    plan: Plan,
    fresh: Vec<Occurrence>,
}

impl Take for Found {
    #[inline]
    fn certain(&mut self, start: Tick, end: Tick) -> ControlFlow<()> {
        if self.plan.fails(end.since(start)) {
            self.fresh.push(self.plan.certain(start, end));
        }
        self.count.certain(start, end)
    }

    fn unanswered(&mut self, start: Tick, ticks: i64) -> ControlFlow<()> {
        self.count.unanswered(start, ticks)
    }

    fn all_certain(&mut self, batch: &Batch) -> ControlFlow<()> {
        let (least, most) = batch.ends();
        // Where neither fails, none between them does.
        if self.plan.fails(least) || self.plan.fails(most) {
            let pairs = batch.pairs().iter().map(|(one, other)| (*one.min(other), *one.max(other)));
            let failing = pairs.filter(|(start, end)| self.plan.fails(end.since(*start)));
            self.fresh.extend(failing.map(|(start, end)| self.plan.certain(start, end)));
        }
        self.count.all_certain(batch)
    }

    fn found(&mut self, plan: usize, found: Visited) -> ControlFlow<()> {
        if let Visited::Occurrence(occurrence) = found
            && plan == self.present
            && occurrence.verdict == Verdict::Fail
            && occurrence.certain
        {
            self.fresh.push(occurrence);
        }
        self.count.found(plan, found)
    }

    fn cut(&mut self, ticks: i64) {
        self.count.cut(ticks);
    }

    fn waited(&mut self, plan: usize, ticks: i64) {
        self.count.waited(plan, ticks);
    }
}

/// Why a limit cannot be watched.
fn undecidable(name: &str, why: &str) -> Error {
    let message = format!("{name} cannot be decided while the samples arrive: {why}");
    Error::new(ErrorKind::Limits, message).with_help("leave it out, or record and check what was recorded")
}

impl Watched {
    pub(super) fn new(bound: BoundLimit, capture: &Capture, wanted: &mut Wanted) -> Result<Self> {
        let name = bound.name();
        let made = |signal: &Signal| {
            let line = signal.line().and_then(|line| capture.lines().get(line.0));
            line.is_some_and(|line| line.extra != Time::ZERO || line.step > 1)
        };
        if bound.is_analog() {
            return Err(undecidable(&name, "it is about voltages"));
        }
        if bound.signals().iter().any(made) {
            return Err(undecidable(&name, "it is about lines that are made from voltages"));
        }
        let precision = Precision::of(capture, Rule::Proven);
        let (doubts, plans): (Vec<Doubts>, Vec<Plan>) = plans(&bound, &precision)?.into_iter().unzip();
        let count = Count::new(capture.base(), bound.limit.required, &plans);
        let plan = plans[0].clone();
        let run = match Run::new(&bound, capture, Rule::Proven, plans, wanted) {
            Ok(run) => Ok(run),
            Err(error) => {
                let unseen = count.result((0, &plan), &bound, capture, Rule::Proven);
                Err(Box::new(beyond(error, capture, &bound, unseen)?))
            }
        };
        let found = Found { count, present: 0, plan, fresh: Vec::new() };
        Ok(Watched { bound, run, doubts, found })
    }

    pub(super) fn bound(&self) -> &BoundLimit {
        &self.bound
    }

    pub(super) fn signals(&self) -> Vec<Signal> {
        self.bound.signals()
    }

    /// The stretches at whose beginning levels are asked for when they have ended, and of which signals.
    pub(super) fn asked_at_starts(&self) -> Option<(usize, Vec<Signal>)> {
        self.run.as_ref().ok()?.asked_at_starts()
    }

    /// The beginning of the first stretch that still waits to be decided.
    pub(super) fn waits_since(&self, now: Tick) -> Tick {
        self.run.as_ref().ok().and_then(Run::waits_since).unwrap_or(now)
    }

    /// The lines of a bus whose edges are asked for when a frame has ended, and from where on.
    pub(super) fn asked_of_frames(&self) -> Option<(Vec<Signal>, Tick)> {
        self.run.as_ref().ok()?.asked_of_frames()
    }

    pub(super) fn take(&mut self, capture: &Capture, given: &Given) {
        let present = self.present(capture);
        let Ok(run) = &mut self.run else { return };
        // By now, lines may be known to hide pulses that were not before.
        (self.found.present, self.found.plan) = (present, run.plans[present].clone());
        // It never says stop.
        let _ = run.advance(capture, given, &mut self.found);
    }

    /// The plan that counts by what is known of the record.
    fn present(&self, capture: &Capture) -> usize {
        let now = Doubts::of(&self.bound, &Precision::of(capture, Rule::Proven));
        self.doubts.iter().position(|doubts| *doubts == now).unwrap_or(0)
    }

    pub(super) fn violations(&mut self, limit: usize, base: TimeBase) -> impl Iterator<Item = Violation> {
        let (required, span) = (self.bound.limit.required, self.found.plan.span);
        std::mem::take(&mut self.found.fresh).into_iter().map(move |occurrence| {
            let value = occurrence.value(base);
            let margin = value.and_then(|value| Some(value.unit().of(required.margin(value.to_rational())?)));
            Violation { limit, occurrence, measured: value.zip(occurrence.bounds(&span)), margin }
        })
    }

    pub(super) fn result(&self, capture: &Capture) -> LimitResult {
        let run = match &self.run {
            Ok(run) => run,
            Err(result) => return LimitResult::clone(result),
        };
        let present = self.present(capture);
        self.found.count.result((present, &run.plans[present]), &self.bound, capture, Rule::Proven)
    }
}
