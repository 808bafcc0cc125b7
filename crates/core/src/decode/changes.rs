//! The changes of several stored lines, in order of time.

use std::ops::Range;

use crate::capture::{Capture, Edges};
use crate::line::{Level, Levels, LineId};
use crate::scan::GROUP;
use crate::time::Tick;

/// Edges of a line, and changes, that are found at a time.
const BATCH: usize = 512;

/// The edges of one line, many of which are at hand.
struct Lane<'a> {
    edges: Edges<'a>,
    ready: Vec<(u64, Level)>,
    at: usize,
    /// The line's bit among the levels.
    bit: u64,
}

impl<'a> Lane<'a> {
    fn new(mut edges: Edges<'a>, line: usize) -> Self {
        let mut ready = Vec::with_capacity(BATCH + GROUP);
        edges.fill(BATCH, &mut ready);
        Lane { edges, ready, at: 0, bit: 1u64.checked_shl(line as u32).unwrap_or(0) }
    }

    /// The tick of the next edge, beyond all ticks where there is none.
    fn tick(&self) -> u64 {
        self.ready.get(self.at).map_or(u64::MAX, |(tick, _)| *tick)
    }

    /// Passes the next edge, which changes a level; the tick of the one after it.
    #[inline]
    fn pass(&mut self, levels: &mut Levels) -> u64 {
        let level = self.ready.get(self.at).map_or(Level::Unknown, |(_, level)| *level);
        let (high, unknown) = (levels.high & !self.bit, levels.unknown & !self.bit);
        levels.high = if level == Level::High { high | self.bit } else { high };
        levels.unknown = if level.bit().is_none() { unknown | self.bit } else { unknown };
        self.at += 1;
        if self.at >= self.ready.len() {
            self.refill();
        }
        self.tick()
    }

    #[cold]
    fn refill(&mut self) {
        self.ready.clear();
        self.edges.fill(BATCH, &mut self.ready);
        self.at = 0;
    }
}

/// The ticks at which any of some lines changes, with the levels of all from there on.
pub(super) struct Changes<'a> {
    lanes: Vec<Lane<'a>>,
    /// The tick of each line's next edge. There are few lines: looking at all of them is faster than
    /// keeping them in order.
    next: Vec<u64>,
    levels: Levels,
    ready: Vec<(Tick, Levels)>,
    at: usize,
}

impl<'a> Changes<'a> {
    /// Those in a range, the lines having these levels before it.
    pub(super) fn new(capture: &'a Capture, lines: &[LineId], range: Range<Tick>, levels: Levels) -> Self {
        let edges = lines.iter().map(|id| capture.trace(*id).edges(range.clone())).enumerate();
        let lanes: Vec<Lane<'a>> = edges.map(|(line, edges)| Lane::new(edges, line)).collect();
        let next = lanes.iter().map(Lane::tick).collect();
        Changes { lanes, next, levels, ready: Vec::with_capacity(BATCH), at: 0 }
    }

    /// The next change.
    #[inline]
    pub(super) fn next(&mut self) -> Option<(Tick, Levels)> {
        let next = self.some().first().copied();
        self.at += usize::from(next.is_some());
        next
    }

    /// Many changes, all of which are passed; none at the end.
    pub(super) fn next_many(&mut self) -> &[(Tick, Levels)] {
        self.some();
        let at = std::mem::replace(&mut self.at, self.ready.len());
        &self.ready[at..]
    }

    /// Those that are at hand, one at least if there is any.
    #[inline]
    fn some(&mut self) -> &[(Tick, Levels)] {
        if self.at == self.ready.len() {
            self.fill();
        }
        &self.ready[self.at..]
    }

    fn fill(&mut self) {
        self.ready.clear();
        self.at = 0;
        while self.ready.len() < BATCH {
            let tick = self.next.iter().copied().fold(u64::MAX, u64::min);
            if tick == u64::MAX {
                return;
            }
            for (next, lane) in self.next.iter_mut().zip(&mut self.lanes) {
                if *next == tick {
                    *next = lane.pass(&mut self.levels);
                }
            }
            self.ready.push((Tick(tick), self.levels));
        }
    }
}

/// The levels of some lines at a tick.
pub(super) fn levels_at(capture: &Capture, lines: &[LineId], tick: Tick) -> Levels {
    let level = |(line, id): (usize, &LineId)| (line, capture.trace(*id).level_at(tick));
    let levels = lines.iter().enumerate().map(level);
    levels.fold(Levels::default(), |all, (line, level)| all.with(line, level))
}
