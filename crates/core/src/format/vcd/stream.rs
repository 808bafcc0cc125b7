//! The changes of all lines in order of time, many at once.

use crate::capture::Capture;
use crate::line::Level;
use crate::time::Tick;

/// Changes that are sorted together, about.
const TOGETHER: u64 = 1 << 15;
/// Bits of a key below the tick: line and level.
const LINE_BITS: u32 = 22;

/// The changes of all lines of a capture.
///
/// PERF: changes of one line come in order and cost next to nothing; sorting them with those of the others, a
/// few ten thousand at a time, costs a third of taking the earliest from a heap each time.
pub(super) struct Changes<'a> {
    capture: &'a Capture,
    /// The first tick that is not in `keys`.
    end: u64,
    /// Ticks that are sorted together.
    window: u64,
    start: u64,
    /// Tick since `start`, line, level.
    keys: Vec<u64>,
    at: usize,
}

impl<'a> Changes<'a> {
    pub(super) fn of(capture: &'a Capture) -> Self {
        let edges: u64 = capture.traces().iter().map(|trace| trace.edge_count()).fold(0, u64::saturating_add);
        let window = u128::from(capture.len()) * u128::from(TOGETHER) / u128::from(edges.max(1));
        let window = (window as u64).clamp(64, 1 << 40);
        let mut changes = Changes { capture, end: 1, window, start: 0, keys: Vec::new(), at: 0 };
        changes.fill();
        changes
    }

    /// Sorts the next changes.
    fn fill(&mut self) {
        self.keys.clear();
        self.at = 0;
        while self.keys.is_empty() && self.end < self.capture.len() {
            self.start = self.end;
            self.end = self.start.saturating_add(self.window).min(self.capture.len());
            for (line, trace) in self.capture.traces().iter().enumerate() {
                for edge in trace.edges(Tick(self.start)..Tick(self.end)) {
                    let level = match edge.to {
                        Level::Low => 0,
                        Level::High => 1,
                        Level::Floating => 2,
                        Level::Unknown => 3,
                    };
                    self.keys.push((edge.tick.0 - self.start) << LINE_BITS | (line as u64) << 2 | level);
                }
            }
        }
        self.keys.sort();
    }

    /// The tick of the next change.
    pub(super) fn peek(&self) -> Option<Tick> {
        self.keys.get(self.at).map(|key| Tick(self.start + (key >> LINE_BITS)))
    }

    /// Takes the changes at a tick, if they are the next.
    pub(super) fn take(&mut self, tick: Tick, into: &mut Vec<(usize, Level)>) {
        while self.peek() == Some(tick) {
            let key = self.keys[self.at];
            let line = (key >> 2 & ((1 << (LINE_BITS - 2)) - 1)) as usize;
            into.push((line, [Level::Low, Level::High, Level::Floating, Level::Unknown][(key & 3) as usize]));
            self.at += 1;
        }
        if self.at == self.keys.len() {
            self.fill();
        }
    }
}
