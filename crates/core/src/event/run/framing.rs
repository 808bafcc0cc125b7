//! Frames of a serial bus.

use std::collections::BTreeSet;
use std::fmt;
use std::ops::ControlFlow;

use super::window::{NONE, Window};
use crate::bus::{Decoder, Frame, FrameSink};
use crate::event::check::{FrameForm, FrameTests};
use crate::line::{Levels, Signal};
use crate::scan::{GROUP, Plane};
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
    /// The bus's lines, in its own order.
    slots: Vec<usize>,
    /// Ends of frames that were found and lie ahead.
    ahead: BTreeSet<u64>,
    ends: Ends,
}

impl fmt::Debug for FramePart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("FramePart").field("slots", &self.slots).field("ahead", &self.ahead).finish()
    }
}

impl FramePart {
    pub(super) fn new(form: &FrameForm, slots: &[Signal], base: TimeBase) -> Self {
        let slot = |line: &Signal| slots.binary_search(line).unwrap_or(0);
        FramePart {
            decoder: form.bus.decoder(base).ok(),
            slots: form.bus.lines().iter().map(|line| slot(&line.into())).collect(),
            ahead: BTreeSet::new(),
            ends: Ends { tests: form.tests.clone(), found: Vec::new() },
        }
    }

    pub(super) fn advance(&mut self, window: &Window<'_>) -> Plane {
        let Some(decoder) = &mut self.decoder else { return NONE };
        let at = |planes: &[Plane], tick: usize| {
            let bit = |slot: &usize| planes[*slot][tick / GROUP] >> (tick % GROUP) & 1;
            self.slots.iter().enumerate().fold(0, |word, (line, slot)| word | bit(slot) << line)
        };
        let levels = |tick: usize| {
            let unknown = if window.open { at(window.unknown, tick) } else { 0 };
            Levels { high: at(window.planes, tick) & !unknown, unknown }
        };
        if window.start == 0 {
            decoder.begin(Tick(0), levels(0));
        }
        let mut changes = NONE;
        self.slots.iter().for_each(|slot| window.or_into(&mut changes, &window.changes(*slot)));
        window.trim_to_past(&mut changes);
        for (word, mut changes) in changes.into_iter().enumerate().take(window.words()) {
            while changes != 0 {
                let tick = word * GROUP + changes.trailing_zeros() as usize;
                changes &= changes - 1;
                // The sink never says stop.
                let _ = decoder.change(Tick(window.start + tick as u64), levels(tick), &mut self.ends);
            }
        }
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
