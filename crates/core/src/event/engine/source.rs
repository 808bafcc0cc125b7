//! Where windows come from: stored traces, or arriving samples.

use std::ops::Range;

use super::{Part, Window};
use crate::capture::{Capture, Edge, Edges};
use crate::event::program::Program;
use crate::event::search::{Certainty, Hit};
use crate::event::states::StateReport;
use crate::line::{Level, LineId};
use crate::scan::{GROUP, Samples, Slicer};
use crate::time::{Tick, TimeBase};

/// Ticks per window of a stored record.
const SPAN: u64 = 64;

/// The occurrences of an event that a stored record shows, in order of time. Made by
/// [`Program::hits`].
#[derive(Clone, Debug)]
pub struct Hits<'a> {
    part: Part,
    lines: Vec<Stored<'a>>,
    planes: Vec<u64>,
    unknown: Vec<u64>,
    before: Vec<(bool, bool)>,
    /// First tick of the next window.
    next: u64,
    range: Range<u64>,
    /// Hits of the last window that have not been given out.
    found: u64,
    found_at: u64,
}

/// One line of a stored record, read from its start.
#[derive(Clone, Debug)]
struct Stored<'a> {
    edges: Edges<'a>,
    upcoming: Option<Edge>,
    level: Level,
}

fn bits(level: Level) -> (bool, bool) {
    (level == Level::High, level == Level::Unknown)
}

impl<'a> Hits<'a> {
    pub(in crate::event) fn new(program: &Program, capture: &'a Capture, range: Range<Tick>) -> Self {
        let lines = program.lines();
        let part = Part::new(&program.root, &lines, capture.base());
        let end = range.end.0.min(capture.len());
        // What lasts, counts or follows has a past; an edge needs only the tick before.
        let start =
            if program.root.is_instantaneous() { (range.start.0 / SPAN).saturating_sub(1) * SPAN } else { 0 };
        let stored = |line: &LineId| {
            let trace = capture.trace(*line);
            let mut edges = trace.edges(Tick(start)..Tick(end));
            let level = trace.level_at(Tick(start.saturating_sub(1)));
            Stored { upcoming: edges.next(), edges, level }
        };
        let stored: Vec<Stored<'a>> = lines.iter().map(stored).collect();
        Hits {
            part,
            planes: vec![0; stored.len()],
            unknown: vec![0; stored.len()],
            before: vec![(false, false); stored.len()],
            lines: stored,
            next: start,
            range: range.start.0..end,
            found: 0,
            found_at: 0,
        }
    }

    /// Evaluates the next window that can hold anything; `false` at the end.
    fn window(&mut self) -> bool {
        let start = self.next;
        if start >= self.range.end {
            return false;
        }
        let end = (start + SPAN).min(self.range.end);
        for (slot, line) in self.lines.iter_mut().enumerate() {
            self.before[slot] = bits(line.level);
            let (high, unknown) = bits(line.level);
            let (mut plane, mut open) =
                (0u64.wrapping_sub(u64::from(high)), 0u64.wrapping_sub(u64::from(unknown)));
            while let Some(edge) = line.upcoming.filter(|e| e.tick.0 < end) {
                let from = u64::MAX << (edge.tick.0 - start);
                let (high, unknown) = bits(edge.to);
                plane = if high { plane | from } else { plane & !from };
                open = if unknown { open | from } else { open & !from };
                line.level = edge.to;
                line.upcoming = line.edges.next();
            }
            (self.planes[slot], self.unknown[slot]) = (plane, open);
        }
        let window = Window {
            start,
            len: (end - start) as u32,
            planes: &self.planes,
            unknown: &self.unknown,
            before: &self.before,
        };
        self.found = self.part.advance(&window);
        self.found_at = start;
        // Nothing happens before the next edge, unless a time runs out first.
        let edge = self.lines.iter().filter_map(|l| l.upcoming).map(|e| e.tick.0).min();
        let next = edge.into_iter().chain(self.part.wake()).min();
        self.next = next.map_or(self.range.end, |tick| (tick / SPAN * SPAN).max(start + SPAN));
        true
    }
}

impl Iterator for Hits<'_> {
    type Item = Hit;

    fn next(&mut self) -> Option<Hit> {
        loop {
            while self.found != 0 {
                let tick = self.found_at + u64::from(self.found.trailing_zeros());
                self.found &= self.found - 1;
                if self.range.contains(&tick) {
                    return Some(Hit { tick: Tick(tick), certainty: Certainty::Certain });
                }
            }
            if !self.window() {
                return None;
            }
        }
    }
}

/// Searches arriving samples for an event. The same program over the same samples gives the same
/// hits as a search of the stored record, however the samples are cut into blocks.
///
/// ```
/// use deep_tap_core::event::{Meaning, Program, Scope, StreamSearch};
/// use deep_tap_core::line::LineId;
/// use deep_tap_core::scan::{SampleWidth, Samples};
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let mut scope = Scope::new();
/// scope.define("CLK", Meaning::Line(LineId(0)));
/// let program = Program::compile("CLK rises 2 times", &scope)?;
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let mut search = StreamSearch::new(&program, base);
/// let mut hits = Vec::new();
/// for bytes in [&[0, 1, 0][..], &[1, 0, 1, 0, 1]] {
///     hits.extend(search.push(Samples::new(SampleWidth::W8, bytes)));
/// }
/// assert_eq!(hits, [Tick(3), Tick(7)]);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug)]
pub struct StreamSearch {
    part: Part,
    lines: Vec<LineId>,
    /// The bit of a sample that each of them is.
    bits: Vec<u32>,
    slicer: Slicer,
    planes: Vec<u64>,
    unknown: Vec<u64>,
    before: Vec<(bool, bool)>,
    position: u64,
    last: Option<(u64, u64)>,
    /// The bits of a sample that matter.
    mask: u64,
    /// Per line, the changes seen.
    edges: Vec<u64>,
    labels: Vec<(String, Vec<String>)>,
}

impl StreamSearch {
    /// Searches samples whose bit `i` is the line numbered `i`; lines from 64 on read as low.
    pub fn new(program: &Program, base: TimeBase) -> Self {
        let lines = program.lines();
        let mask = lines.iter().fold(0, |all, l| all | 1u64.checked_shl(l.0 as u32).unwrap_or(0));
        StreamSearch {
            part: Part::new(&program.root, &lines, base),
            planes: vec![0; lines.len()],
            unknown: vec![0; lines.len()],
            before: vec![(false, false); lines.len()],
            edges: vec![0; lines.len()],
            bits: lines.iter().map(|l| l.0.min(64) as u32).collect(),
            slicer: Slicer::new(),
            lines,
            labels: program.labels.clone(),
            position: 0,
            last: None,
            mask,
        }
    }

    /// Samples taken in so far.
    pub fn position(&self) -> Tick {
        Tick(self.position)
    }

    /// What was seen so far on the lines that the event looks at: changes, and the last level.
    pub fn activity(&self) -> Vec<(LineId, u64, Level)> {
        let (level, unknown) = self.last.unwrap_or((0, u64::MAX));
        let bit = |word: u64, line: &LineId| word.checked_shr(line.0 as u32).unwrap_or(0) & 1 == 1;
        let last =
            |line: &LineId| if bit(unknown, line) { Level::Unknown } else { Level::from(bit(level, line)) };
        self.lines.iter().zip(&self.edges).map(|(line, edges)| (*line, *edges, last(line))).collect()
    }

    /// For a state machine, how far it has come; nothing for anything else.
    pub fn states(&self) -> Vec<StateReport> {
        match &self.part {
            Part::Machine(machine) => machine.report(&self.labels),
            _ => Vec::new(),
        }
    }

    /// The hits in the next samples.
    pub fn push(&mut self, samples: Samples<'_>) -> Vec<Tick> {
        let mut hits = Vec::new();
        let mut at = 0;
        while at < samples.len() {
            let end = (at + GROUP).min(samples.len());
            self.window(samples.slice(at..end), &mut hits);
            at = end;
        }
        hits
    }

    fn window(&mut self, samples: Samples<'_>, hits: &mut Vec<Tick>) {
        let (start, count, width) = (self.position, samples.len(), samples.width());
        self.position += count as u64;
        let last = self.last.replace(samples.get(count - 1));
        let known = samples.unknown().is_empty();
        if let Some((levels, 0)) = last {
            // A stretch without a change costs one comparison.
            let quiet = self.slicer.differing(samples.levels(), width, levels) & self.mask == 0;
            let known = known || self.slicer.differing(samples.unknown(), width, 0) & self.mask == 0;
            if quiet && known && self.part.wake().is_none_or(|tick| tick >= self.position) {
                return;
            }
        }
        self.slicer.planes(samples.levels(), width, &self.bits, &mut self.planes);
        if known {
            self.unknown.fill(0);
        } else {
            self.slicer.planes(samples.unknown(), width, &self.bits, &mut self.unknown);
        }
        let (levels, open) = last.unwrap_or(samples.get(0));
        for (slot, bit) in self.bits.iter().enumerate() {
            self.planes[slot] &= !self.unknown[slot];
            let is_set = |word: u64| word.checked_shr(*bit).unwrap_or(0) & 1 == 1;
            self.before[slot] = (is_set(levels) && !is_set(open), is_set(open));
        }
        let window = Window {
            start,
            len: count as u32,
            planes: &self.planes,
            unknown: &self.unknown,
            before: &self.before,
        };
        for (slot, edges) in self.edges.iter_mut().enumerate() {
            let (was, was_unknown) = window.shifted(slot);
            let changes = (window.planes[slot] ^ was) | (window.unknown[slot] ^ was_unknown);
            *edges += u64::from((changes & window.has_before()).count_ones());
        }
        let mut found = self.part.advance(&window);
        while found != 0 {
            hits.push(Tick(start + u64::from(found.trailing_zeros())));
            found &= found - 1;
        }
    }
}
