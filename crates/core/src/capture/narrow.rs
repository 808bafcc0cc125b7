//! How narrow the pulses of a trace are.

use super::trace::Trace;
use crate::line::Narrowest;
use crate::time::Tick;

/// Edges that are looked at together.
const STEPS: usize = 4096;

impl Trace {
    /// The narrowest pulse, high or low, between two edges of known levels; `None` without any. Looks at
    /// every edge when it is asked for the first time.
    pub fn narrowest(&self) -> Option<Narrowest> {
        *self.narrow.narrowest.get_or_init(|| self.find_narrowest())
    }

    /// Where the first pulse of a single tick begins. Looks at every edge when it is asked for the first
    /// time, much faster than [`narrowest`](Trace::narrowest).
    pub fn first_single(&self) -> Option<Tick> {
        *self.narrow.single.get_or_init(|| match self.is_two_level() {
            false => self.narrowest().filter(|narrow| narrow.ticks <= 1).map(|narrow| narrow.at),
            true => self.find_single(),
        })
    }

    fn find_single(&self) -> Option<Tick> {
        let mut last = None;
        let chunks = self.segments.iter().filter_map(|segment| Some((segment.start, segment.chunks()?)));
        for (start, chunks) in chunks {
            if let Some(single) = chunks.first_single(start, &mut last) {
                return Some(Tick(single));
            }
        }
        None
    }

    fn find_narrowest(&self) -> Option<Narrowest> {
        let mut edges = self.edges(Tick(0)..Tick(self.len));
        let mut found: Option<Narrowest> = None;
        let (mut level, mut last) = (self.level_at(Tick(0)), None);
        let mut steps = Vec::new();
        loop {
            edges.fill(STEPS, &mut steps);
            if steps.is_empty() {
                return found;
            }
            for (tick, to) in steps.drain(..) {
                let known = level.bit().is_some() && to.bit().is_some();
                if let Some(start) = last.filter(|_| known) {
                    let ticks = tick - start;
                    if found.is_none_or(|narrow| ticks < narrow.ticks) {
                        found = Some(Narrowest { ticks, at: Tick(start) });
                        // None is narrower.
                        if ticks <= 1 {
                            return found;
                        }
                    }
                }
                (level, last) = (to, known.then_some(tick));
            }
        }
    }
}
