//! Follower exchanges, transfer by transfer.

use std::sync::Arc;

use super::Exchange;
use super::step::ExchangeStep;
use crate::bus::{Fault, Frame};
use crate::event::FrameMatcher;
use crate::quantity::Rational;
use crate::time::{Tick, TimeBase};

/// Most steps of one exchange that are kept, and most fields: one may repeat without end.
const MOST_STEPS: usize = 65_536;
const MOST_FIELDS: usize = 65_536;

/// What is found on the way through a record.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Followed {
    /// All steps of an exchange came.
    Whole(Exchanged),
    /// An exchange began, and something else came, or nothing.
    Broken(Exchanged, Broke),
    /// One that the record's end cuts off.
    CutOff(Exchanged),
    /// A transfer that belongs to no exchange, and where the first one may have begun before the record.
    Beside {
        /// When it begins.
        at: Tick,
        /// Its last tick.
        end: Tick,
        /// Whether it is certain that it belongs to none.
        certain: bool,
        /// Whether it may be the end, or the beginning, of one that the record cuts off.
        before_any: bool,
    },
}

/// An exchange as it came.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Exchanged {
    /// It as a frame: from its first step to its last, with the fields that the steps give.
    pub frame: Frame,
    /// The steps that came, in order of time.
    pub steps: Vec<StepSeen>,
}

/// One step as it came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct StepSeen {
    /// Which step it is.
    pub step: usize,
    /// Its first tick.
    pub start: Tick,
    /// The tick after the last thing that it carries.
    pub end: Tick,
}

/// Where an exchange broke.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Broke {
    /// The step that was due.
    pub step: usize,
    /// What it asks for.
    pub expected: String,
    /// What came; nothing where nothing came in time.
    pub found: Option<String>,
    /// When that begins, or since when the step is missing.
    pub at: Tick,
    /// Whether it is certain.
    pub certain: bool,
    /// Whether what came is done with: it begins no other exchange.
    pub takes: bool,
}

/// The state of an exchange on its way through transfers.
#[derive(Clone, Debug)]
pub struct Follower {
    exchange: Arc<Exchange>,
    only: Option<FrameMatcher>,
    /// Most ticks between two steps, and how many of them are not known.
    pause: Option<u64>,
    margin: u64,
    open: Option<Open>,
    /// Whether one has begun so far.
    begun: bool,
}

#[derive(Clone, Debug)]
struct Open {
    exchanged: Exchanged,
    /// The step that came last, and how often in a row; before the first one, how often is 0.
    step: usize,
    times: u64,
}

/// What ends an exchange: a transfer, and whether it is done with.
#[derive(Clone, Copy)]
struct By<'a> {
    bus: usize,
    transfer: &'a Frame,
    takes: bool,
}

/// What may come next.
struct Due {
    /// The steps, the first of them being the most likely.
    steps: Vec<usize>,
    /// The first that must come.
    must: Option<usize>,
}

impl Follower {
    /// At the start of a record.
    pub fn new(exchange: &Exchange, base: TimeBase) -> Self {
        let pause = exchange.pause().and_then(|time| base.ticks_in(time)).map(Rational::floor);
        let pause = pause.and_then(|ticks| u64::try_from(ticks).ok());
        let only = exchange.filter().map(|tests| tests.matching(false));
        let exchange = Arc::new(exchange.clone());
        Follower { exchange, only, pause, margin: 0, open: None, begun: false }
    }

    /// The same where so many ticks are not known of how long a pause was.
    #[must_use]
    pub fn uncertain_by(self, margin: u64) -> Self {
        Follower { margin, ..self }
    }

    /// Where the exchange under way begins.
    pub fn under_way(&self) -> Option<Tick> {
        self.open.as_ref().map(|open| open.exchanged.frame.start)
    }

    /// The next transfer on one of the buses, in the order of their ends.
    pub fn transfer(&mut self, bus: usize, transfer: &Frame, found: &mut dyn FnMut(Followed)) {
        if transfer.faults.iter().any(|fault| fault.kind == "cut-off") || !transfer.begins {
            // What it is is not known.
            return self.unknown(transfer, true, found);
        }
        if let Some(only) = &mut self.only {
            let (counts, certain) = only.meets_for_sure(transfer);
            if !counts {
                if !certain {
                    self.unknown(transfer, false, found);
                }
                return;
            }
        }
        let near = self.pause_before(transfer, found);
        if self.open.is_none() || !self.goes_on(bus, transfer, found) {
            // Where it is not known that the pause was too long, it may go on with what came before.
            self.begin(bus, transfer, !near, found);
        }
    }

    /// A new exchange must begin now: whatever is under way is over.
    pub fn restart(&mut self, at: Tick, certain: bool, found: &mut dyn FnMut(Followed)) {
        self.doubt(!certain);
        self.over(at, None, found);
    }

    /// The record ends.
    pub fn end(&mut self, at: Tick, found: &mut dyn FnMut(Followed)) {
        let Some(open) = &self.open else { return };
        let last = open.exchanged.steps.last().map_or(at, |step| step.end);
        let most = |pause: u64| last.0.saturating_add(pause).saturating_add(self.margin.max(1));
        let in_time = self.pause.is_none_or(|pause| most(pause) >= at.0);
        if in_time && due(&self.exchange, open).must.is_some() {
            let Some(Open { mut exchanged, .. }) = self.open.take() else { return };
            exchanged.frame.faults.push(Fault::cut_off(at));
            exchanged.frame.certain = false;
            exchanged.frame.end = exchanged.frame.end.max(at);
            found(Followed::CutOff(exchanged));
            return;
        }
        self.over(at, None, found);
    }

    fn doubt(&mut self, doubt: bool) {
        if let Some(open) = &mut self.open {
            open.exchanged.frame.certain &= !doubt;
        }
    }

    /// A transfer that may be any.
    fn unknown(&mut self, transfer: &Frame, before_any: bool, found: &mut dyn FnMut(Followed)) {
        match self.open.is_some() {
            true => self.doubt(true),
            false => {
                found(Followed::Beside { at: transfer.start, end: transfer.end, certain: false, before_any });
            }
        }
    }

    /// Ends what is under way where the pause before a transfer was too long; whether that is not certain.
    fn pause_before(&mut self, transfer: &Frame, found: &mut dyn FnMut(Followed)) -> bool {
        let (Some(pause), Some(open)) = (self.pause, &self.open) else { return false };
        let last = open.exchanged.steps.last().map_or(transfer.start, |step| step.end);
        let over = last.0.saturating_add(pause);
        let near = self.margin > 0 && transfer.start.0.abs_diff(over) <= self.margin;
        self.doubt(near);
        if transfer.start.0 > over {
            self.over(transfer.start.max(last), None, found);
        }
        near
    }

    /// Takes a transfer into the exchange under way; whether it is done with.
    fn goes_on(&mut self, bus: usize, transfer: &Frame, found: &mut dyn FnMut(Followed)) -> bool {
        let exchange = Arc::clone(&self.exchange);
        let Some(open) = &mut self.open else { return false };
        let next = due(&exchange, open);
        let steps = || next.steps.iter().map(|step| (*step, &exchange.steps[*step]));
        let fits = |(_, step): &(usize, &ExchangeStep)| {
            step.bus() == bus && step.is(transfer, &open.exchanged.frame)
        };
        if let Some((number, step)) = steps().find(fits) {
            open.take(number, step, transfer);
            self.close_where_nothing_is_due(found);
            return true;
        }
        let begins = {
            let first = Open::before(transfer);
            due(&exchange, &first).steps.iter().any(|step| {
                let step = &exchange.steps[*step];
                step.bus() == bus && step.is(transfer, &first.exchanged.frame)
            })
        };
        let is_due_here = steps().any(|(_, step)| step.bus() == bus);
        if next.must.is_some() && !begins && !is_due_here {
            // It is nobody's turn on this bus.
            self.doubt(!transfer.certain);
            found(Followed::Beside {
                at: transfer.start,
                end: transfer.end,
                certain: transfer.certain,
                before_any: false,
            });
            return true;
        }
        let breaks = next.must.is_some();
        self.doubt(!transfer.certain);
        self.over(transfer.start, Some(By { bus, transfer, takes: !begins }), found);
        // What broke one is done with, unless it begins another.
        breaks && !begins
    }

    fn begin(&mut self, bus: usize, transfer: &Frame, certain: bool, found: &mut dyn FnMut(Followed)) {
        let exchange = Arc::clone(&self.exchange);
        let mut open = Open::before(transfer);
        open.exchanged.frame.certain = certain;
        let due = due(&exchange, &open);
        let steps = due.steps.iter().map(|step| (*step, &exchange.steps[*step]));
        let mut fits =
            steps.filter(|(_, step)| step.bus() == bus && step.is(transfer, &open.exchanged.frame));
        match fits.next() {
            Some((number, step)) => {
                open.take(number, step, transfer);
                (self.open, self.begun) = (Some(open), true);
                self.close_where_nothing_is_due(found);
            }
            None => found(Followed::Beside {
                at: transfer.start,
                end: transfer.end,
                certain: transfer.certain && certain,
                before_any: !self.begun && transfer.certain,
            }),
        }
    }

    /// Where no further step can come, it is whole at once.
    fn close_where_nothing_is_due(&mut self, found: &mut dyn FnMut(Followed)) {
        if self.open.as_ref().is_some_and(|open| due(&self.exchange, open).steps.is_empty())
            && let Some(open) = self.open.take()
        {
            found(Followed::Whole(open.exchanged));
        }
    }

    /// What is under way is over: whole, or broken at the step that is due.
    fn over(&mut self, at: Tick, by: Option<By<'_>>, found: &mut dyn FnMut(Followed)) {
        let Some(open) = self.open.take() else { return };
        let must = due(&self.exchange, &open).must;
        let mut exchanged = open.exchanged;
        // It is known only now that it is over.
        exchanged.frame.end = exchanged.frame.end.max(by.map_or(at, |by| by.transfer.end));
        let Some(must) = must else {
            found(Followed::Whole(exchanged));
            return;
        };
        let step = &self.exchange.steps[must];
        let expected = step.words(&exchanged.frame);
        let name = step.name().map_or_else(|| format!("step {}", must + 1), str::to_string);
        let came = by.map(|by| self.exchange.buses()[by.bus].names().show(by.transfer));
        let what = match &came {
            Some(came) => format!("broken at {name}: {came}"),
            None => format!("broken: {name} is missing"),
        };
        exchanged.frame.faults.push(Fault::new("broken", at, what));
        let (certain, takes) = (exchanged.frame.certain, by.is_some_and(|by| by.takes));
        found(Followed::Broken(exchanged, Broke { step: must, expected, found: came, at, certain, takes }));
    }
}

impl Open {
    /// Before the first step.
    fn before(transfer: &Frame) -> Open {
        let frame = Frame { certain: true, ..Frame::new("exchange", transfer.start..transfer.start) };
        Open { exchanged: Exchanged { frame, steps: Vec::new() }, step: 0, times: 0 }
    }

    fn take(&mut self, number: usize, step: &ExchangeStep, transfer: &Frame) {
        self.times = if number == self.step { self.times + 1 } else { 1 };
        self.step = number;
        let frame = &mut self.exchanged.frame;
        if frame.fields.len() < MOST_FIELDS {
            step.add_fields(transfer, frame);
        }
        frame.end = frame.end.max(transfer.end);
        frame.certain &= transfer.certain;
        frame.faults.extend(transfer.faults.iter().cloned());
        let end = transfer.carried_until();
        if self.exchanged.steps.len() < MOST_STEPS {
            self.exchanged.steps.push(StepSeen { step: number, start: transfer.start, end });
        }
    }
}

/// The steps that may come next, up to the first that must.
fn due(exchange: &Exchange, open: &Open) -> Due {
    let mut due = Due { steps: Vec::new(), must: None };
    let frame = &open.exchanged.frame;
    let (mut number, mut times) = (open.step, open.times);
    while let Some(step) = exchange.steps.get(number) {
        let (least, most) = step.repeats().of(frame);
        // One that was begun was found to apply.
        if times > 0 || step.applies(frame) {
            if times < most {
                due.steps.push(number);
            }
            if times < least {
                due.must = Some(number);
                return due;
            }
        }
        (number, times) = (number + 1, 0);
    }
    due
}
