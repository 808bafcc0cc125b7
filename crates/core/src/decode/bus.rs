//! A serial bus of a setup, and its frames as the event language asks for them.

use std::ops::ControlFlow;

use super::{Decoder, Frame, FrameSink, Levels, Protocol};
use crate::error::Result;
use crate::event::{FrameReader, FrameSource, FrameTests};
use crate::line::LineId;
use crate::time::{Tick, TimeBase};

/// A serial bus with the lines that its decoder asks for, in its order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SerialBus {
    /// Its name.
    pub name: String,
    /// What is spoken on it.
    pub protocol: Protocol,
    /// The lines.
    pub lines: Vec<LineId>,
}

impl FrameSource for SerialBus {
    fn lines(&self) -> &[LineId] {
        &self.lines
    }

    fn words(&self) -> &[&'static str] {
        self.protocol.words()
    }

    fn reader(&self, base: TimeBase, tests: &FrameTests) -> Result<Box<dyn FrameReader>> {
        Ok(Box::new(EventReader::new(self.protocol.decoder(base)?, tests)))
    }
}

/// A decoder that is read for the frames that meet some tests, for a
/// [`FrameSource`] of one's own.
pub struct EventReader {
    decoder: Box<dyn Decoder>,
    tests: FrameTests,
}

impl EventReader {
    /// Reads what this decoder finds.
    pub fn new(decoder: Box<dyn Decoder>, tests: &FrameTests) -> Self {
        EventReader { decoder, tests: tests.clone() }
    }
}

/// Keeps the ends of the frames that meet the tests.
struct Ends<'a> {
    tests: &'a FrameTests,
    ends: &'a mut Vec<Tick>,
}

impl FrameSink for Ends<'_> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        if frame.meets(self.tests) {
            self.ends.push(frame.end);
        }
        ControlFlow::Continue(())
    }
}

impl FrameReader for EventReader {
    fn begin(&mut self, at: Tick, high: u64, unknown: u64) {
        self.decoder.begin(at, Levels { high, unknown });
    }

    fn change(&mut self, at: Tick, high: u64, unknown: u64, ends: &mut Vec<Tick>) {
        let mut sink = Ends { tests: &self.tests, ends };
        // The sink never says stop.
        let _ = self.decoder.change(at, Levels { high, unknown }, &mut sink);
    }

    fn pass(&mut self, until: Tick, ends: &mut Vec<Tick>) {
        let _ = self.decoder.pass(until, &mut Ends { tests: &self.tests, ends });
    }

    fn due(&self) -> Option<Tick> {
        self.decoder.due()
    }
}
