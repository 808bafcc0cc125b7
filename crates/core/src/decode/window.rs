//! What lies in a window of a capture, read as it is in the whole.
//!
//! A decoder that begins in the middle of a record does not know where it is. So it begins well before the
//! window, and nothing counts until it says that the bus is settled: from there on, it reads what it
//! would have read from the record's first tick on. Where it says so too late, it begins earlier.

use std::collections::VecDeque;
use std::ops::{ControlFlow, Range};

use super::run::Walk;
use crate::bus::{BusMark, Decoder, Frame, FrameSink, Look};
use crate::capture::Capture;
use crate::error::Result;
use crate::line::LineId;
use crate::time::Tick;

/// Edges of a line before the window with which decoding begins at first, and by how much more it
/// begins earlier where these are too few.
const LEAD: u64 = 20_000;
const EARLIER: u64 = 16;

/// Lets through what lies in the window, at least in part.
#[derive(Debug)]
struct Gate {
    window: Range<Tick>,
    /// Whether everything from here on is read as in the whole.
    settled: bool,
    /// Whether what lies in the window came before that.
    late: bool,
    /// Where everything was first settled behind the window.
    behind: Option<Tick>,
    /// Whether nothing more can come.
    over: bool,
    /// The end of the last frame before the window.
    before: Option<Tick>,
}

struct Gated<'a> {
    gate: &'a mut Gate,
    out: &'a mut dyn FrameSink,
}

impl FrameSink for Gated<'_> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        let gate = &mut *self.gate;
        let ends_before = frame.end <= gate.window.start && frame.start < gate.window.start;
        if frame.start >= gate.window.end {
            gate.over = true;
        } else if !ends_before && !gate.settled {
            gate.late = true;
        } else if ends_before {
            gate.before = Some(frame.end).filter(|_| gate.settled);
        } else {
            return self.out.frame(frame);
        }
        ControlFlow::Continue(())
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        let gate = &mut *self.gate;
        if mark.at < gate.window.start || mark.at >= gate.window.end {
            return ControlFlow::Continue(());
        }
        gate.late |= !gate.settled;
        if gate.settled { self.out.mark(mark) } else { ControlFlow::Continue(()) }
    }

    fn look(&mut self, look: Look) {
        if self.gate.settled && self.gate.window.contains(&look.at) {
            self.out.look(look);
        }
    }

    fn settled(&mut self, at: Tick) {
        self.gate.settled |= at <= self.gate.window.start;
        self.gate.late |= !self.gate.settled;
        // What begins with the first such tick behind the window, or just before it, has been given out with
        // the second.
        if at >= self.gate.window.end {
            self.gate.over |= self.gate.behind.is_some_and(|behind| behind < at);
            self.gate.behind = self.gate.behind.or(Some(at));
        }
    }
}

/// What is read of a bus.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Reads {
    /// Frames, and instants.
    Frames,
    /// The same with the places where bits are taken.
    Samples,
    /// Transfers.
    Transfers,
}

/// A decoder on its way through a window.
pub(crate) struct Reading<'a> {
    walk: Walk<'a>,
    decoder: Box<dyn Decoder>,
    gate: Gate,
}

impl<'a> Reading<'a> {
    /// Begins where it is known how to go on; what is given out on the way there goes to the sink.
    pub(super) fn begin(
        capture: &'a Capture,
        lines: &[LineId],
        window: Range<Tick>,
        make: impl Fn() -> Result<Box<dyn Decoder>>,
        sink: &mut dyn FrameSink,
    ) -> Result<Reading<'a>> {
        let mut lead = LEAD;
        loop {
            let start = before(capture, lines, window.start, lead);
            let mut decoder = make()?;
            let walk = Walk::begin(capture, lines, start..capture.range().end, &mut *decoder)?;
            let window = window.clone();
            let gate = Gate {
                window,
                settled: start == Tick(0),
                late: false,
                behind: None,
                over: false,
                before: None,
            };
            let mut reading = Reading { walk, decoder, gate };
            let mut more = true;
            while more && !reading.gate.settled && !reading.gate.late {
                more = reading.step(sink) == ControlFlow::Continue(true);
            }
            if reading.gate.settled || start == Tick(0) {
                return Ok(reading);
            }
            lead = lead.saturating_mul(EARLIER);
        }
    }

    /// Goes on to the next change; `false` when nothing more can come.
    pub(crate) fn step(&mut self, sink: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        let mut gated = Gated { gate: &mut self.gate, out: sink };
        let more = self.walk.step(&mut *self.decoder, &mut gated)?;
        ControlFlow::Continue(more && !self.gate.over)
    }

    /// Reads the rest, until the sink says stop.
    pub(super) fn finish(&mut self, sink: &mut dyn FrameSink) {
        while self.step(sink) == ControlFlow::Continue(true) {}
    }
}

/// The tick so many edges of a line before another; the record's first where there are fewer.
fn before(capture: &Capture, lines: &[LineId], tick: Tick, edges: u64) -> Tick {
    let begin = lines.iter().filter_map(|line| {
        let trace = capture.trace(*line);
        trace.nth_edge(trace.count(Tick(0)..tick).checked_sub(edges)?)
    });
    begin.map(|edge| edge.tick).max().unwrap_or(Tick(0))
}

/// The frames of a stored capture that lie in a window, at least in part, found one after the other as they
/// are asked for. Made by [`SerialBus::frames`](super::SerialBus::frames).
pub struct Frames<'a> {
    reading: Reading<'a>,
    ready: Ready,
    more: bool,
}

/// Frames that were found and not asked for.
#[derive(Default)]
struct Ready(VecDeque<Frame>);

impl FrameSink for Ready {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.0.push_back(frame);
        ControlFlow::Continue(())
    }
}

impl<'a> Frames<'a> {
    pub(super) fn new(begin: impl FnOnce(&mut dyn FrameSink) -> Result<Reading<'a>>) -> Result<Self> {
        let mut ready = Ready::default();
        let reading = begin(&mut ready)?;
        Ok(Frames { reading, ready, more: true })
    }

    /// The end of the last frame before the window, as far as it is known. It is once a frame was asked
    /// for.
    pub fn before(&self) -> Option<Tick> {
        self.reading.gate.before
    }
}

impl Iterator for Frames<'_> {
    type Item = Frame;

    fn next(&mut self) -> Option<Frame> {
        while self.ready.0.is_empty() && self.more {
            self.more = self.reading.step(&mut self.ready) == ControlFlow::Continue(true);
        }
        self.ready.0.pop_front()
    }
}
