//! How narrow the pulses of a trace are.

use super::trace::Trace;
use crate::line::{Level, Narrowest};
use crate::time::Tick;

/// Edges that are looked at together.
const STEPS: usize = 4096;

impl Trace {
    /// The narrowest pulse, high or low, between two edges of known levels; `None` without any. Looks at
    /// every edge when it is asked for the first time.
    pub fn narrowest(&self) -> Option<Narrowest> {
        *self.asked.narrowest.get_or_init(|| self.find_narrowest())
    }

    /// Where the first pulse of a single tick begins. Looks at every edge when it is asked for the first
    /// time, much faster than [`narrowest`](Trace::narrowest).
    pub fn first_single(&self) -> Option<Tick> {
        *self.asked.single.get_or_init(|| match self.is_two_level() {
            false => self.narrowest().filter(|narrow| narrow.ticks <= 1).map(|narrow| narrow.at),
            true => self.find_single(),
        })
    }

    fn find_single(&self) -> Option<Tick> {
        let mut search = Narrowing::new(false);
        search.add(self);
        search.single()
    }

    fn find_narrowest(&self) -> Option<Narrowest> {
        let mut search = Narrowing::new(true);
        search.add(self);
        search.narrowest()
    }
}

/// How narrow the pulses of a line are, one part of it after the other.
#[derive(Clone, Debug)]
pub(super) struct Narrowing {
    /// Whether the narrowest of all is looked for, or only one of a single tick.
    all: bool,
    found: Option<Narrowest>,
    /// The level, once there is one, and the last edge between known levels.
    level: Option<Level>,
    last: Option<u64>,
}

impl Narrowing {
    pub(super) fn new(all: bool) -> Self {
        Narrowing { all, found: None, level: None, last: None }
    }

    pub(super) fn narrowest(&self) -> Option<Narrowest> {
        self.found
    }

    pub(super) fn single(&self) -> Option<Tick> {
        self.found.filter(|narrow| narrow.ticks <= 1).map(|narrow| narrow.at)
    }

    /// Looks at the part of a trace that comes next.
    pub(super) fn add(&mut self, part: &Trace) {
        // None is narrower.
        if self.single().is_some() || part.segments.is_empty() {
            return;
        }
        let known = self.level.is_none_or(|level| level.bit().is_some());
        match !self.all && known && part.is_two_level() {
            true => self.add_known(part),
            false => self.add_edges(part),
        }
    }

    fn add_known(&mut self, part: &Trace) {
        for (start, chunks) in part.segments.iter().filter_map(|s| Some((s.start, s.chunks()?))) {
            if let Some(single) = chunks.first_single(start, &mut self.last) {
                self.found = Some(Narrowest { ticks: 1, at: Tick(single) });
                return;
            }
            self.level = Some(chunks.exit());
        }
    }

    fn add_edges(&mut self, part: &Trace) {
        let first = part.segments.first().map_or(0, |segment| segment.start);
        let mut level = self.level.unwrap_or_else(|| part.level_at(Tick(first)));
        let mut edges = part.edges(Tick(first)..Tick(part.len));
        let mut steps = Vec::new();
        loop {
            edges.fill(STEPS, &mut steps);
            if steps.is_empty() {
                self.level = Some(level);
                return;
            }
            for (tick, to) in steps.drain(..) {
                let known = level.bit().is_some() && to.bit().is_some();
                if let Some(start) = self.last.filter(|_| known) {
                    let ticks = tick - start;
                    if self.found.is_none_or(|narrow| ticks < narrow.ticks) {
                        self.found = Some(Narrowest { ticks, at: Tick(start) });
                        if ticks <= 1 {
                            return;
                        }
                    }
                }
                (level, self.last) = (to, known.then_some(tick));
            }
        }
    }
}
