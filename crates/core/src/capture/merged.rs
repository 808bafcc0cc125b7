//! Several lines read together.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::ops::Range;

use super::record::Capture;
use super::trace::{Edges, Trace};
use crate::line::{Bus, Level, LineId, Signal, Value};
use crate::time::Tick;

/// Several lines of a capture, read change by change in order of time.
///
/// Each [`step`](Merged::step) moves to the next tick at which at least one of the lines changes,
/// after which [`level`](Merged::level) answers for that tick, all its changes included.
#[derive(Clone, Debug)]
pub struct Merged<'a> {
    signals: Vec<Signal>,
    edges: Vec<Edges<'a>>,
    /// The tick of each line's next edge, with the line's place. A heap, since a simulation may have
    /// thousands of lines.
    upcoming: BinaryHeap<Reverse<(Tick, usize)>>,
    /// Per line, the level that its next edge leads to.
    leads_to: Vec<Level>,
    levels: Vec<Level>,
    changed: u64,
    /// What changed in the last step: the places of the lines, with the levels that they had.
    flips: Vec<(usize, Level)>,
}

impl<'a> Merged<'a> {
    /// Reads `lines` from the start of `range`; lines beyond the 64th do not report
    /// [`changed`](Merged::changed). The levels are those just before the range, or at tick 0.
    pub fn new<S: Into<Signal> + Copy>(capture: &'a Capture, signals: &[S], range: Range<Tick>) -> Self {
        let signals: Vec<Signal> = signals.iter().map(|signal| (*signal).into()).collect();
        let traces: Vec<&Trace> = signals.iter().map(|signal| capture.trace(*signal)).collect();
        Merged::over(signals, &traces, range)
    }

    /// The same of lines as they were recorded, whatever pulls them while they float.
    pub fn recorded(capture: &'a Capture, lines: &[LineId], range: Range<Tick>) -> Self {
        let traces: Vec<&Trace> = lines.iter().map(|line| capture.recorded(*line)).collect();
        Merged::over(lines.iter().map(Signal::from).collect(), &traces, range)
    }

    fn over(signals: Vec<Signal>, traces: &[&'a Trace], range: Range<Tick>) -> Self {
        let mut edges: Vec<_> = traces.iter().map(|trace| trace.edges(range.clone())).collect();
        let mut upcoming = BinaryHeap::with_capacity(signals.len());
        let mut leads_to = vec![Level::Unknown; signals.len()];
        for (i, edge) in edges.iter_mut().map(Iterator::next).enumerate() {
            if let Some(edge) = edge {
                upcoming.push(Reverse((edge.tick, i)));
                leads_to[i] = edge.to;
            }
        }
        let before = Tick(range.start.0.saturating_sub(1));
        let levels = traces.iter().map(|trace| trace.level_at(before)).collect();
        Merged { signals, edges, upcoming, leads_to, levels, changed: 0, flips: Vec::new() }
    }

    /// The tick of the next change, without moving there.
    pub fn peek(&self) -> Option<Tick> {
        self.upcoming.peek().map(|Reverse((tick, _))| *tick)
    }

    /// Moves to the next tick with a change and returns it.
    pub fn step(&mut self) -> Option<Tick> {
        let tick = self.peek()?;
        self.changed = 0;
        self.flips.clear();
        while self.peek() == Some(tick) {
            let Some(Reverse((_, i))) = self.upcoming.pop() else { break };
            self.flips.push((i, std::mem::replace(&mut self.levels[i], self.leads_to[i])));
            self.changed |= 1u64.checked_shl(i as u32).unwrap_or(0);
            if let Some(edge) = self.edges[i].next() {
                self.upcoming.push(Reverse((edge.tick, i)));
                self.leads_to[i] = edge.to;
            }
        }
        Some(tick)
    }

    /// The present level of a signal; [`Level::Unknown`] for one that is not read here.
    pub fn level(&self, of: impl Into<Signal>) -> Level {
        let of = of.into();
        self.signals.iter().position(|signal| *signal == of).map_or(Level::Unknown, |i| self.levels[i])
    }

    /// The present levels, in the order of the lines given at the start.
    pub fn levels(&self) -> &[Level] {
        &self.levels
    }

    /// What changed in the last step: the place of each line, and the levels that it had and has.
    pub(crate) fn flips(&self) -> impl Iterator<Item = (usize, [Level; 2])> {
        self.flips.iter().map(|(place, had)| (*place, [*had, self.levels[*place]]))
    }

    /// Whether the line with this place in the list changed in the last step.
    pub fn changed(&self, place: usize) -> bool {
        place < 64 && self.changed >> place & 1 == 1
    }
}

/// The values that a bus takes, in order of time. Made by [`Capture::bus_values`].
#[derive(Clone, Debug)]
pub struct BusValues<'a> {
    merged: Merged<'a>,
    bus: &'a Bus,
    /// The value in force at the start of the range, until it has been given out.
    first: Option<(Tick, Value)>,
    /// Lines of the bus with their order, then the clock if there is one.
    clock: Option<Level>,
    last: Option<Value>,
}

impl Capture {
    /// The values of a bus in a range of ticks: the one in force at its start, then each new one
    /// with the tick it appears at. A clocked bus gives the value that stood just before each
    /// clock edge, repeated values included.
    pub fn bus_values<'a>(&'a self, bus: &'a Bus, range: Range<Tick>) -> BusValues<'a> {
        BusValues::new(self, bus, range)
    }
}

impl<'a> BusValues<'a> {
    pub(super) fn new(capture: &'a Capture, bus: &'a Bus, range: Range<Tick>) -> Self {
        let mut lines = Vec::new();
        lines.extend(bus.clock.map(|(line, _)| line));
        lines.extend(&bus.lines);
        // Start one tick in, so that a change at the range's first tick is part of the first value.
        let start = Tick(range.start.0.saturating_add(1));
        let rest = if bus.clock.is_some() { range.clone() } else { start..range.end };
        let merged = Merged::new(capture, &lines, rest);
        let value = bus.value(|l| capture.trace(l).level_at(range.start));
        let first = (bus.clock.is_none() && range.start < range.end).then_some((range.start, value));
        BusValues { merged, bus, first, clock: bus.clock.map(|(_, to)| to), last: None }
    }
}

impl Iterator for BusValues<'_> {
    type Item = (Tick, Value);

    fn next(&mut self) -> Option<(Tick, Value)> {
        if let Some(first) = self.first.take() {
            self.last = Some(first.1);
            return Some(first);
        }
        loop {
            let before = self.clock.map(|_| self.bus.value(|l| self.merged.level(l)));
            let tick = self.merged.step()?;
            match (self.clock, before) {
                (Some(to), Some(before)) => {
                    if self.merged.changed(0) && self.merged.levels().first() == Some(&to) {
                        return Some((tick, before));
                    }
                }
                _ => {
                    let value = self.bus.value(|l| self.merged.level(l));
                    if self.last != Some(value) {
                        self.last = Some(value);
                        return Some((tick, value));
                    }
                }
            }
        }
    }
}
