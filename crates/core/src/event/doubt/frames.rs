//! Frames and instants of a serial bus, with how sure they are.

use std::collections::VecDeque;
use std::fmt;
use std::ops::{ControlFlow, Range};

use crate::bus::{BusMark, Frame, FrameSink};
use crate::capture::Capture;
use crate::decode::Reading;
use crate::event::check::{Asked, FrameForm, FrameMatcher, FrameTests};
use crate::event::hit::{Certainty, Hit};
use crate::time::Tick;

/// The occurrences of what is asked of a bus. A frame that is not certain may have been another: where it
/// is not what is asked for, it may have been.
pub(super) struct Framed<'a> {
    reading: Reading<'a>,
    found: Found,
    more: bool,
}

impl fmt::Debug for Framed<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Framed").field("ready", &self.found.ready).finish()
    }
}

/// What is asked for, as it is found.
pub(super) struct Found {
    tests: Option<FrameMatcher>,
    mark: &'static str,
    range: Range<Tick>,
    ready: VecDeque<Hit>,
    /// The last that was found.
    last: Tick,
}

impl<'a> Framed<'a> {
    /// `None` where the bus cannot be decoded; that is refused before.
    pub(super) fn new(form: &FrameForm, capture: &'a Capture, range: Range<Tick>) -> Option<Self> {
        let tests = match &form.asked {
            Asked::Units(_, tests) => Some(tests),
            Asked::Mark(_) => None,
        };
        // What ends with the first tick of the range lies before it.
        let start = Tick(range.start.0.saturating_sub(1));
        let start = if tests.is_some_and(FrameTests::look_back) { Tick(0) } else { start };
        let mut found = Found::new(form, range.clone());
        let reading = form.read(capture, start..range.end, &mut found).ok()?;
        Some(Framed { reading, found, more: true })
    }

    pub(super) fn next(&mut self) -> Option<Hit> {
        while self.found.ready.is_empty() && self.more {
            self.more = self.reading.step(&mut self.found) == ControlFlow::Continue(true);
        }
        self.found.ready.pop_front()
    }
}

impl Found {
    pub(super) fn new(form: &FrameForm, range: Range<Tick>) -> Self {
        let (tests, mark) = match &form.asked {
            Asked::Units(_, tests) => (Some(tests.matching(form.bus.protocol().is_stream())), ""),
            Asked::Mark(name) => (None, *name),
        };
        Found { tests, mark, range, ready: VecDeque::new(), last: Tick(0) }
    }

    /// What was found and not yet taken.
    pub(super) fn taken(&mut self) -> Vec<Hit> {
        self.ready.drain(..).collect()
    }

    /// What is found later does not lie before this tick.
    pub(super) fn known(&self) -> Tick {
        self.last
    }

    fn hit(&mut self, tick: Tick, is_asked: bool, certain: bool) {
        let certainty = match (is_asked, certain) {
            (true, true) => Certainty::Certain,
            (true, false) => Certainty::Doubtful,
            (false, true) => return,
            (false, false) => Certainty::Possible,
        };
        // What is found later is not earlier.
        let tick = tick.max(self.last);
        self.last = tick;
        if self.range.contains(&tick) {
            self.ready.push_back(Hit { tick, certainty });
        }
    }
}

impl FrameSink for Found {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        let (met, certain) = match &mut self.tests {
            Some(tests) => tests.meets_for_sure(&frame),
            None => (self.mark == "end", frame.certain),
        };
        self.hit(frame.end, met, certain);
        ControlFlow::Continue(())
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        if mark.name == self.mark {
            self.hit(mark.at, true, mark.certain);
        }
        ControlFlow::Continue(())
    }
}
