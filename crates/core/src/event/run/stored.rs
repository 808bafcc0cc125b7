//! Stored traces, searched window by window.

use std::ops::Range;

use super::part::Part;
use super::window::{NONE, Running, Window};
use crate::capture::{Capture, Edge, Edges, Trace};
use crate::event::hit::{Certainty, Hit};
use crate::event::timed::TimedProgram;
use crate::line::Level;
use crate::scan::{GROUP, Plane, SPAN};
use crate::time::Tick;

/// Ticks per word of a window.
const WORD: u64 = GROUP as u64;

impl TimedProgram {
    /// The occurrences that a record shows, with ticks in `range`, in order of time. The record has this
    /// program's clock.
    ///
    /// What happens at the end of the range does not depend on what comes after it. The instants
    /// are those of `docs/events.md`.
    pub fn hits<'a>(&self, capture: &'a Capture, range: Range<Tick>) -> Hits<'a> {
        Hits::new(self, capture, range)
    }
}

/// The occurrences of an event that a stored record shows, in order of time. Made by
/// [`TimedProgram::hits`].
#[derive(Debug)]
pub struct Hits<'a> {
    part: Part,
    lines: Vec<Stored<'a>>,
    planes: Vec<Plane>,
    unknown: Vec<Plane>,
    before: Vec<(bool, bool)>,
    /// First tick of the next window, and its words: few where windows are skipped in between.
    next: u64,
    words: usize,
    range: Range<u64>,
    /// Hits of the last window that have not been given out, and the word that is next.
    found: Plane,
    found_at: u64,
    found_word: usize,
}

/// One line of a stored record, read from its start.
#[derive(Clone, Debug)]
pub(in crate::event) struct Stored<'a> {
    edges: Edges<'a>,
    upcoming: Option<Edge>,
    level: Level,
}

impl<'a> Stored<'a> {
    /// Reads a line from a tick on, a multiple of 64.
    pub(in crate::event) fn new(trace: &'a Trace, start: u64) -> Self {
        // An edge at the very start is one of the window, unless nothing comes before it.
        let level = trace.level_at(Tick(start.saturating_sub(1)));
        let mut edges = trace.edges(Tick(start)..Tick(u64::MAX));
        Stored { upcoming: edges.next(), edges, level }
    }

    /// Reads the levels from `start` to before `end`; whether any is neither low nor high.
    pub(in crate::event) fn read(
        &mut self,
        start: u64,
        end: u64,
        plane: &mut [u64],
        unknown: &mut [u64],
    ) -> bool {
        let mut open = self.level.bit().is_none();
        if !open
            && self.upcoming.is_some_and(|e| e.tick.0 < end)
            && let Some(level) = self.edges.words(start, plane)
        {
            unknown.fill(0);
            self.level = level;
            self.upcoming = self.edges.next();
            return false;
        }
        let mut at = 0;
        let (mut levels, mut unknowns) = spread(self.level);
        while let Some(edge) = self.upcoming.filter(|e| e.tick.0 < end) {
            let word = ((edge.tick.0 - start) / WORD) as usize;
            while at < word {
                (plane[at], unknown[at]) = (levels, unknowns);
                (levels, unknowns) = spread(self.level);
                at += 1;
            }
            let (to, to_unknown) = spread(edge.to);
            let earlier = (1 << ((edge.tick.0 - start) % WORD)) - 1;
            levels = levels & earlier | to & !earlier;
            unknowns = unknowns & earlier | to_unknown & !earlier;
            self.level = edge.to;
            open |= edge.to.bit().is_none();
            self.upcoming = self.edges.next();
        }
        (plane[at], unknown[at]) = (levels, unknowns);
        let (levels, unknowns) = spread(self.level);
        plane[at + 1..].fill(levels);
        unknown[at + 1..].fill(unknowns);
        open
    }
}

/// A word of one level, and whether it is neither low nor high, as a [`Window`] has them.
fn spread(level: Level) -> (u64, u64) {
    let all = |is: bool| if is { u64::MAX } else { 0 };
    let (one, open) = bits(level);
    (all(one), all(open))
}

fn bits(level: Level) -> (bool, bool) {
    (matches!(level, Level::High | Level::Floating), level.bit().is_none())
}

impl<'a> Hits<'a> {
    pub(in crate::event) fn new(program: &TimedProgram, capture: &'a Capture, range: Range<Tick>) -> Self {
        let end = range.end.0.min(capture.len());
        // What lasts, counts or follows has a past; an edge needs only the tick before.
        let start = if program.root().is_instantaneous() {
            (range.start.0 / WORD).saturating_sub(1) * WORD
        } else {
            0
        };
        let part = Part::new(program.root(), &program.signals(), program.base());
        Hits::of(part, program, capture, start, range.start.0..end)
    }

    fn of(part: Part, program: &TimedProgram, capture: &'a Capture, start: u64, range: Range<u64>) -> Self {
        let lines = program.signals();
        let stored: Vec<Stored<'a>> =
            lines.iter().map(|line| Stored::new(capture.trace(*line), start)).collect();
        Hits {
            part,
            planes: vec![NONE; stored.len()],
            unknown: vec![NONE; stored.len()],
            before: vec![(false, false); stored.len()],
            lines: stored,
            next: start,
            words: 1,
            range,
            found: NONE,
            found_at: 0,
            found_word: SPAN,
        }
    }

    /// Evaluates the next window that can hold anything; `false` at the end.
    fn window(&mut self) -> bool {
        let start = self.next;
        if start >= self.range.end {
            return false;
        }
        let end = (start + self.words as u64 * WORD).min(self.range.end);
        let words = (end - start).div_ceil(WORD) as usize;
        let mut open = false;
        for (slot, line) in self.lines.iter_mut().enumerate() {
            self.before[slot] = bits(line.level);
            let (plane, unknown) = (&mut self.planes[slot][..words], &mut self.unknown[slot][..words]);
            open |= line.read(start, end, plane, unknown);
        }
        let window = Window {
            start,
            len: (end - start) as u32,
            planes: &self.planes,
            unknown: &self.unknown,
            before: &self.before,
            open,
        };
        self.found = self.part.advance(&window);
        (self.found_at, self.found_word) = (start, 0);
        // Nothing happens before the next edge, unless a time runs out first.
        let edge = self.lines.iter().filter_map(|l| l.upcoming).map(|e| e.tick.0).min();
        let next = edge.into_iter().chain(self.part.wake()).min();
        self.next = next.map_or(self.range.end, |tick| (tick / WORD * WORD).max(end));
        self.words = if self.next == end { (self.words * 2).min(SPAN) } else { 1 };
        true
    }
}

/// Reads the occurrences that a record shows which goes on.
#[derive(Debug)]
pub(in crate::event) struct HitReader {
    /// The event, where it stands.
    part: Option<Part>,
    read: u64,
}

impl HitReader {
    pub(in crate::event) fn new(program: &TimedProgram) -> Self {
        HitReader { part: Some(Part::new(program.root(), &program.signals(), program.base())), read: 0 }
    }

    /// Those up to a tick, a multiple of 64 or the end of the record.
    pub(in crate::event) fn read(&mut self, program: &TimedProgram, capture: &Capture, to: Tick) -> Vec<Hit> {
        let from = std::mem::replace(&mut self.read, to.0);
        let Some(part) = self.part.take() else { return Vec::new() };
        let mut hits = Hits::of(part, program, capture, from, from..to.0);
        let found = hits.by_ref().collect();
        self.part = Some(hits.part);
        found
    }
}

impl Iterator for Hits<'_> {
    type Item = Hit;

    fn next(&mut self) -> Option<Hit> {
        loop {
            while let Some(word) = self.found.get_mut(self.found_word) {
                if *word == 0 {
                    self.found_word += 1;
                    continue;
                }
                let tick = self.found_at + self.found_word as u64 * WORD + u64::from(word.trailing_zeros());
                *word &= *word - 1;
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
