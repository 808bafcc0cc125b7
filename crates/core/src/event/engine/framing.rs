//! Frames of a serial bus.

use std::collections::BTreeSet;
use std::fmt;

use super::window::{NONE, Window};
use crate::event::frames::{FrameForm, FrameReader};
use crate::line::Signal;
use crate::scan::{GROUP, Plane};
use crate::time::{Tick, TimeBase};

/// A bus that is read for frames.
pub(super) struct FramePart {
    /// `None` for a time base at which the bus cannot be read: no frame is found.
    reader: Option<Box<dyn FrameReader>>,
    /// The bus's lines, in its own order.
    slots: Vec<usize>,
    /// Ends of frames that were found and lie ahead.
    ahead: BTreeSet<u64>,
    found: Vec<Tick>,
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
            reader: form.reader(base).ok(),
            slots: form.bus.0.lines().iter().map(|line| slot(&line.into())).collect(),
            ahead: BTreeSet::new(),
            found: Vec::new(),
        }
    }

    pub(super) fn advance(&mut self, window: &Window<'_>) -> Plane {
        let Some(reader) = &mut self.reader else { return NONE };
        let at = |planes: &[Plane], tick: usize| {
            let bit = |slot: &usize| planes[*slot][tick / GROUP] >> (tick % GROUP) & 1;
            self.slots.iter().enumerate().fold(0, |word, (line, slot)| word | bit(slot) << line)
        };
        let levels = |tick: usize| {
            let unknown = if window.open { at(window.unknown, tick) } else { 0 };
            (at(window.planes, tick) & !unknown, unknown)
        };
        if window.start == 0 {
            let (high, unknown) = levels(0);
            reader.begin(Tick(0), high, unknown);
        }
        let mut changes = NONE;
        self.slots.iter().for_each(|slot| window.or_into(&mut changes, &window.changes(*slot)));
        window.trim_to_past(&mut changes);
        for (word, mut changes) in changes.into_iter().enumerate().take(window.words()) {
            while changes != 0 {
                let tick = word * GROUP + changes.trailing_zeros() as usize;
                changes &= changes - 1;
                let (high, unknown) = levels(tick);
                reader.change(Tick(window.start + tick as u64), high, unknown, &mut self.found);
            }
        }
        let end = window.start + u64::from(window.len);
        reader.pass(Tick(end), &mut self.found);
        // A frame is found at its end at the latest, and perhaps before.
        self.ahead.extend(self.found.drain(..).map(|tick| tick.0.max(window.start)));
        let mut hits = NONE;
        while let Some(tick) = self.ahead.first().copied().filter(|tick| *tick < end) {
            self.ahead.pop_first();
            let at = (tick - window.start) as usize;
            hits[at / GROUP] |= 1 << (at % GROUP);
        }
        hits
    }

    pub(super) fn wake(&self) -> Option<u64> {
        let due = self.reader.as_ref().and_then(|reader| reader.due()).map(|tick| tick.0);
        due.into_iter().chain(self.ahead.first().copied()).min()
    }
}
