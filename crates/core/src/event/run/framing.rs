//! Frames of a serial bus.

use std::collections::BTreeSet;
use std::fmt;
use std::ops::ControlFlow;

use super::window::{NONE, Window};
use crate::bus::{Decoder, Frame, FrameSink};
use crate::event::check::{FrameForm, FrameTests};
use crate::line::Signal;
use crate::scan::{Feeder, GROUP, Plane, Stretch};
use crate::time::{Tick, TimeBase};

/// Ends of the frames that meet some tests.
struct Ends {
    tests: FrameTests,
    found: Vec<Tick>,
}

impl FrameSink for Ends {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        if self.tests.are_met_by(&frame) {
            self.found.push(frame.end);
        }
        ControlFlow::Continue(())
    }
}

/// A bus that is read for frames.
pub(super) struct FramePart {
    /// `None` for a clock at which the bus cannot be decoded; that is refused before.
    decoder: Option<Box<dyn Decoder>>,
    feeder: Feeder,
    /// Ends of frames that were found and lie ahead.
    ahead: BTreeSet<u64>,
    ends: Ends,
}

impl fmt::Debug for FramePart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("FramePart").field("ahead", &self.ahead).finish()
    }
}

impl FramePart {
    pub(super) fn new(form: &FrameForm, slots: &[Signal], base: TimeBase) -> Self {
        let slot = |line: &Signal| slots.binary_search(line).unwrap_or(0);
        FramePart {
            decoder: form.bus.decoder(base).ok(),
            feeder: Feeder::new(form.bus.lines().iter().map(|line| slot(&line.into())).collect()),
            ahead: BTreeSet::new(),
            ends: Ends { tests: form.tests.clone(), found: Vec::new() },
        }
    }

    pub(super) fn advance(&mut self, window: &Window<'_>) -> Plane {
        let Some(decoder) = &mut self.decoder else { return NONE };
        let unknown = window.open.then_some(window.unknown);
        let stretch = Stretch { planes: window.planes, unknown, len: window.len as usize };
        if let Some(levels) = self.feeder.begin(stretch) {
            decoder.begin(Tick(window.start), levels);
        }
        // The sink never says stop.
        let _ = self.feeder.feed(stretch, |tick, levels| {
            decoder.change(Tick(window.start + tick as u64), levels, &mut self.ends)
        });
        let end = window.start + u64::from(window.len);
        let _ = decoder.pass(Tick(end), &mut self.ends);
        // A frame is found at its end at the latest, and perhaps before.
        self.ahead.extend(self.ends.found.drain(..).map(|tick| tick.0.max(window.start)));
        let mut hits = NONE;
        while let Some(tick) = self.ahead.first().copied().filter(|tick| *tick < end) {
            self.ahead.pop_first();
            let at = (tick - window.start) as usize;
            hits[at / GROUP] |= 1 << (at % GROUP);
        }
        hits
    }

    pub(super) fn wake(&self) -> Option<u64> {
        let due = self.decoder.as_ref().and_then(|decoder| decoder.due()).map(|tick| tick.0);
        due.into_iter().chain(self.ahead.first().copied()).min()
    }
}
