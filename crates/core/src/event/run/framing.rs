//! Frames of a serial bus.

use std::collections::{BTreeSet, VecDeque};
use std::fmt;
use std::ops::ControlFlow;

use super::census::{FrameCensus, FramesSeen};
use super::window::{NONE, Window};
use crate::bus::{BusMark, Decoder, Frame, FrameSink, Look};
use crate::decode::SerialBus;
use crate::event::check::{Asked, FrameForm, FrameMatcher};
use crate::line::Signal;
use crate::scan::{Feeder, GROUP, Plane, Stretch};
use crate::time::{Tick, TimeBase};

/// Ends of the frames that meet some tests, or the instants of one name.
struct Found {
    tests: Option<FrameMatcher>,
    mark: &'static str,
    ticks: Vec<Tick>,
    /// Where the frames began that a row of data may reach back to, and the one under way.
    starts: VecDeque<Tick>,
    reach: usize,
    begun: Option<Tick>,
    /// The instants that end a transfer: what is under way is all of it.
    closes: &'static [&'static str],
    census: FrameCensus,
}

impl FrameSink for Found {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.census.count(&frame);
        if self.closes.is_empty() {
            self.begun = None;
        }
        if self.reach > 0 {
            self.starts.push_back(frame.start);
            if self.starts.len() > self.reach {
                self.starts.pop_front();
            }
        }
        if self.tests.as_mut().map_or(self.mark == "end", |tests| tests.meets(&frame)) {
            self.ticks.push(frame.end);
        }
        ControlFlow::Continue(())
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        if self.closes.contains(&mark.name) {
            self.begun = None;
        } else if mark.name == "begin" {
            self.begun = self.begun.or(Some(mark.at));
        }
        if mark.name == self.mark {
            self.ticks.push(mark.at);
        }
        ControlFlow::Continue(())
    }

    fn look(&mut self, look: Look) {
        if look.takes && self.mark == "sample" {
            self.ticks.push(look.at);
        }
    }
}

/// A bus that is read for frames.
pub(super) struct FramePart {
    /// `None` for a clock at which the bus cannot be decoded; that is refused before.
    decoder: Option<Box<dyn Decoder>>,
    bus: SerialBus,
    /// Ticks of rest before a frame without which it is not read.
    rest: u64,
    feeder: Feeder,
    /// Ends of frames that were found and lie ahead.
    ahead: BTreeSet<u64>,
    found: Found,
}

impl fmt::Debug for FramePart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("FramePart").field("ahead", &self.ahead).finish()
    }
}

impl FramePart {
    pub(super) fn new(form: &FrameForm, slots: &[Signal], base: TimeBase) -> Self {
        let slot = |line: &Signal| slots.binary_search(line).unwrap_or(0);
        let (tests, mark, reach) = match &form.asked {
            Asked::Units(_, tests) => {
                (Some(tests.matching(form.bus.protocol().is_stream())), "", tests.longest_row())
            }
            Asked::Mark(name) => (None, *name, 0),
        };
        let closes = form.bus.protocol().closing().unwrap_or_default();
        let fields = match &form.asked {
            Asked::Units(_, tests) => tests.tested_fields(),
            Asked::Mark(_) => Vec::new(),
        };
        let census = FrameCensus::of(fields.into_iter());
        FramePart {
            decoder: form.decoder(base).ok(),
            bus: form.bus.clone(),
            rest: form.bus.protocol().rest_before(base),
            feeder: Feeder::new(form.bus.lines().iter().map(|line| slot(&line.into())).collect()),
            ahead: BTreeSet::new(),
            found: Found {
                tests,
                mark,
                ticks: Vec::new(),
                starts: VecDeque::new(),
                reach,
                begun: None,
                closes,
                census,
            },
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
            decoder.change(Tick(window.start + tick as u64), levels, &mut self.found)
        });
        let end = window.start + u64::from(window.len);
        let _ = decoder.pass(Tick(end), &mut self.found);
        // It is found at its tick at the latest, and perhaps before.
        self.ahead.extend(self.found.ticks.drain(..).map(|tick| tick.0.max(window.start)));
        let mut hits = NONE;
        while let Some(tick) = self.ahead.first().copied().filter(|tick| *tick < end) {
            self.ahead.pop_first();
            let at = (tick - window.start) as usize;
            hits[at / GROUP] |= 1 << (at % GROUP);
        }
        hits
    }

    /// What came on the bus.
    pub(super) fn seen(&self) -> FramesSeen {
        self.found.census.report(&self.bus)
    }

    pub(super) fn since(&self) -> Option<u64> {
        let starts = self.found.starts.front().copied().into_iter().chain(self.found.begun);
        starts.map(|tick| tick.0.saturating_sub(self.rest)).min()
    }

    pub(super) fn wake(&self) -> Option<u64> {
        let due = self.decoder.as_ref().and_then(|decoder| decoder.due()).map(|tick| tick.0);
        due.into_iter().chain(self.ahead.first().copied()).min()
    }
}
