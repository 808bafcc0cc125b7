//! The edges of a line, at hand.

use crate::capture::Capture;
use crate::line::{Level, LineId};
use crate::time::Tick;

/// A line's edges up to where the record is looked at: tick, and whether it is high from there on.
pub(super) struct Track {
    pub(super) line: LineId,
    pub(super) edges: Vec<(u64, bool)>,
    first: bool,
}

impl Track {
    pub(super) fn new(capture: &Capture, line: LineId, end: Tick) -> Track {
        let trace = capture.trace(line);
        let first = trace.level_at(Tick(0)) == Level::High;
        let edges = trace.edges(Tick(0)..end).map(|edge| (edge.tick.0, edge.to == Level::High));
        Track { line, edges: edges.collect(), first }
    }

    /// Whether it is high at a tick.
    pub(super) fn high_at(&self, tick: u64) -> bool {
        let after = self.edges.partition_point(|(at, _)| *at <= tick);
        after.checked_sub(1).and_then(|last| self.edges.get(last)).map_or(self.first, |(_, high)| *high)
    }

    /// Edges within a stretch, its first tick excluded.
    pub(super) fn within(&self, from: u64, to: u64) -> &[(u64, bool)] {
        let first = self.edges.partition_point(|(at, _)| *at <= from);
        let last = self.edges.partition_point(|(at, _)| *at < to);
        self.edges.get(first..last.max(first)).unwrap_or_default()
    }

    /// The length that a quarter of the pulses do not exceed.
    pub(super) fn quarter(&self) -> u64 {
        let mut pulses: Vec<u64> = self.edges.windows(2).map(|pair| pair[1].0 - pair[0].0).collect();
        let place = pulses.len() / 4;
        if pulses.is_empty() { 0 } else { *pulses.select_nth_unstable(place).1 }
    }

    /// The share of pulses that have the pace of the others: a clock's are alike, but for its rests.
    pub(super) fn regularity(&self) -> f64 {
        let pace = self.quarter();
        let alike = self.edges.windows(2).filter(|pair| {
            let pulse = pair[1].0 - pair[0].0;
            pulse * 2 >= pace && pulse <= pace * 2 + pace / 2 + 1
        });
        alike.count() as f64 / self.edges.len().saturating_sub(1).max(1) as f64
    }

    /// Stretches without a rest longer than so many ticks, with their edges.
    pub(super) fn bursts(&self, rest: u64) -> Vec<Burst> {
        let mut bursts: Vec<Burst> = Vec::new();
        for (at, _) in &self.edges {
            match bursts.last_mut() {
                Some(burst) if at - burst.end <= rest => (burst.end, burst.edges) = (*at, burst.edges + 1),
                _ => bursts.push(Burst { start: *at, end: *at, edges: 1 }),
            }
        }
        bursts
    }
}

/// Edges that follow each other: the first and the last of them, and how many.
#[derive(Clone, Copy, Debug)]
pub(super) struct Burst {
    pub(super) start: u64,
    pub(super) end: u64,
    pub(super) edges: u64,
}

/// After which edge of a clock another line changes, within stretches.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Alignment {
    pub(super) after_rise: u64,
    pub(super) after_fall: u64,
    /// Changes before the first edge of the clock in a stretch.
    pub(super) ahead: u64,
    /// Changes outside of the stretches.
    pub(super) outside: u64,
}

impl Alignment {
    pub(super) fn of(clock: &Track, data: &Track, stretches: &[(u64, u64)]) -> Alignment {
        let mut found = Alignment::default();
        let mut inside = 0;
        for (from, to) in stretches {
            for (at, _) in data.within(*from, *to) {
                inside += 1;
                let last = clock.within(*from, at + 1).last();
                match last {
                    Some((_, true)) => found.after_rise += 1,
                    Some((_, false)) => found.after_fall += 1,
                    None => found.ahead += 1,
                }
            }
        }
        found.outside = (data.edges.len() as u64).saturating_sub(inside);
        found
    }

    /// Whether nearly all changes follow one kind of edge: whether it is the rising one.
    pub(super) fn side(&self) -> Option<bool> {
        let all = self.after_rise + self.after_fall;
        let most = self.after_rise.max(self.after_fall);
        (all >= 3 && most * 20 >= all * 19).then_some(self.after_rise > self.after_fall)
    }
}
