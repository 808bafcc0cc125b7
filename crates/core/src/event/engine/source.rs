//! Where windows come from: stored traces, or arriving samples.

use std::ops::Range;

use super::Part;
use super::census::{BusSeen, Census};
use super::window::{NONE, Window};
use crate::capture::{Capture, Edge, Edges, Extremes, Trace};
use crate::event::program::Program;
use crate::event::search::{Certainty, Hit};
use crate::event::states::StateReport;
use crate::event::table::StateTable;
use crate::line::{AnalogLine, AnalogScale, Gate, Level, Signal};
use crate::scan::{GROUP, Plane, SPAN, Samples, Slicer};
use crate::time::{Tick, TimeBase, Voltage};

/// The number of a bit that no sample has.
const NO_BIT: u32 = 64;
/// Ticks per word of a window.
const WORD: u64 = GROUP as u64;

/// The occurrences of an event that a stored record shows, in order of time. Made by
/// [`Program::hits`].
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
pub(super) struct Stored<'a> {
    edges: Edges<'a>,
    upcoming: Option<Edge>,
    level: Level,
}

impl<'a> Stored<'a> {
    /// Reads a line from a tick on, a multiple of 64.
    pub(super) fn new(trace: &'a Trace, start: u64) -> Self {
        // An edge at the very start is one of the window, unless nothing comes before it.
        let level = trace.level_at(Tick(start.saturating_sub(1)));
        let mut edges = trace.edges(Tick(start)..Tick(u64::MAX));
        Stored { upcoming: edges.next(), edges, level }
    }

    /// Reads the levels from `start` to before `end`; whether any is unknown.
    pub(super) fn read(&mut self, start: u64, end: u64, plane: &mut [u64], unknown: &mut [u64]) -> bool {
        let mut open = self.level == Level::Unknown;
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
            open |= edge.to == Level::Unknown;
            self.upcoming = self.edges.next();
        }
        (plane[at], unknown[at]) = (levels, unknowns);
        let (levels, unknowns) = spread(self.level);
        plane[at + 1..].fill(levels);
        unknown[at + 1..].fill(unknowns);
        open
    }
}

/// A word of one level, and whether it is unknown.
fn spread(level: Level) -> (u64, u64) {
    let all = |is: bool| if is { u64::MAX } else { 0 };
    (all(level == Level::High), all(level == Level::Unknown))
}

impl<'a> Hits<'a> {
    pub(in crate::event) fn new(program: &Program, capture: &'a Capture, range: Range<Tick>) -> Self {
        let lines = program.signals();
        let part = Part::new(&program.root, &lines, capture.base());
        let end = range.end.0.min(capture.len());
        // What lasts, counts or follows has a past; an edge needs only the tick before.
        let start =
            if program.root.is_instantaneous() { (range.start.0 / WORD).saturating_sub(1) * WORD } else { 0 };
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
            range: range.start.0..end,
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
            self.before[slot] = (line.level == Level::High, line.level == Level::Unknown);
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

/// Searches arriving samples for an event. The same program over the same samples gives the same
/// hits as a search of the stored record, however the samples are cut into blocks.
///
/// ```
/// use deep_tap_core::event::{Meaning, Program, Scope, StreamSearch};
/// use deep_tap_core::line::Signal;
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
#[derive(Debug)]
pub struct StreamSearch {
    part: Part,
    lines: Vec<Signal>,
    /// The bit of a sample that each of them is.
    bits: Vec<u32>,
    slicer: Slicer,
    planes: Vec<Plane>,
    unknown: Vec<Plane>,
    before: Vec<(bool, bool)>,
    position: u64,
    last: Option<(u64, u64)>,
    /// The bits of a sample that matter.
    mask: u64,
    /// Per line, the changes seen.
    edges: Vec<u64>,
    /// The lines that analog codes make.
    gates: Vec<Gated>,
    table: StateTable,
    /// The buses it looks at, and whether their values count only where the event happens apart
    /// from its `while`.
    buses: Vec<Census>,
    at_event: bool,
}

/// A line that the codes of an analog input make.
#[derive(Clone, Debug)]
struct Gated {
    slot: usize,
    input: usize,
    gate: Gate,
    level: Level,
    /// What was seen of it.
    extremes: Option<Extremes>,
    line: AnalogLine,
    scale: AnalogScale,
}

impl Gated {
    /// The levels at these samples.
    fn fill(&mut self, samples: Samples<'_>, plane: &mut Plane) {
        let (first, every, codes) = samples.analog(self.input);
        self.extremes = self.extremes.into_iter().chain(Extremes::of(codes)).reduce(Extremes::join);
        let mut from = 0;
        let mut codes = codes.iter().enumerate().peekable();
        plane.fill(0);
        loop {
            let next = codes.next().map(|(n, code)| ((first + n as u64 * every) as usize, *code));
            let to = next.map_or(samples.len(), |(at, _)| at.min(samples.len()));
            if self.level == Level::High {
                (from..to).for_each(|at| plane[at / GROUP] |= 1 << (at % GROUP));
            }
            let Some((at, code)) = next else { return };
            (from, self.level) = (at, self.gate.next(self.level, code));
        }
    }

    /// Before anything came: what the first code shows.
    fn begin(&mut self, samples: Samples<'_>) {
        if let (Level::Unknown, [code, ..]) = (self.level, samples.analog(self.input).2) {
            self.level = self.gate.next(Level::Unknown, *code);
        }
    }
}

impl StreamSearch {
    /// Searches samples whose bit `i` is the line numbered `i`; lines from 64 on read as low.
    pub fn new(program: &Program, base: TimeBase) -> Self {
        let lines = program.signals();
        let bit = |signal: &Signal| signal.line().map_or(NO_BIT, |line| line.0.min(NO_BIT as usize) as u32);
        let bits: Vec<u32> = lines.iter().map(bit).collect();
        let mask = bits.iter().fold(0, |all, bit| all | 1u64.checked_shl(*bit).unwrap_or(0));
        let (buses, at_event) = Census::of(program, &lines);
        StreamSearch {
            buses,
            at_event,
            part: Part::new(&program.root, &lines, base),
            planes: vec![NONE; lines.len()],
            unknown: vec![NONE; lines.len()],
            before: vec![(false, false); lines.len()],
            edges: vec![0; lines.len()],
            bits,
            gates: Vec::new(),
            slicer: Slicer::new(),
            lines,
            table: program.state_table().clone(),
            position: 0,
            last: None,
            mask,
        }
    }

    /// The same with each analog line and its scale, in the order of their ids, so that the codes that
    /// come with the samples are looked at, too.
    #[must_use]
    pub fn with_analog(mut self, lines: &[(AnalogLine, AnalogScale)]) -> Self {
        let gated = |(slot, line): (usize, &Signal)| {
            let crossing = line.crossing()?;
            let input = crossing.analog().0;
            let (line, scale) = lines.get(input)?.clone();
            let gate = crossing.gate(scale, line.hysteresis);
            Some(Gated { slot, input, gate, level: Level::Unknown, extremes: None, line, scale })
        };
        self.gates = self.lines.iter().enumerate().filter_map(gated).collect();
        self
    }

    /// Samples taken in so far.
    pub fn position(&self) -> Tick {
        Tick(self.position)
    }

    /// The analog lines that it looks at, each once, with the lowest and the highest voltage seen.
    pub fn voltages(&self) -> Vec<(&str, Voltage, Voltage)> {
        let mut seen: Vec<(&str, Voltage, Voltage)> = Vec::new();
        for gate in &self.gates {
            let Some(extremes) = gate.extremes else { continue };
            if seen.iter().all(|(name, ..)| *name != gate.line.name) {
                let volts = |code| gate.scale.voltage(code);
                seen.push((&gate.line.name, volts(extremes.least), volts(extremes.most)));
            }
        }
        seen
    }

    /// What was seen so far on the lines that the event looks at: changes, and the last level.
    pub fn activity(&self) -> Vec<(Signal, u64, Level)> {
        let (level, unknown) = self.last.unwrap_or((0, u64::MAX));
        let bit = |word: u64, slot: usize| word.checked_shr(self.bits[slot]).unwrap_or(0) & 1 == 1;
        let last = |slot: usize| match self.gates.iter().find(|gate| gate.slot == slot) {
            Some(gate) => gate.level,
            None if bit(unknown, slot) => Level::Unknown,
            None => Level::from(bit(level, slot)),
        };
        let lines = self.lines.iter().zip(&self.edges).enumerate();
        lines.map(|(slot, (line, edges))| (*line, *edges, last(slot))).collect()
    }

    /// The values seen so far of the buses that it looks at.
    pub fn bus_values(&self) -> Vec<BusSeen> {
        self.buses.iter().map(|bus| bus.report(self.at_event)).collect()
    }

    /// For a state machine, how far it has come; nothing for anything else.
    pub fn states(&self) -> Vec<StateReport> {
        match &self.part {
            Part::Machine(machine) => machine.report(&self.table),
            _ => Vec::new(),
        }
    }

    /// The hits in the next samples.
    pub fn push(&mut self, samples: Samples<'_>) -> Vec<Tick> {
        let mut hits = Vec::new();
        let mut at = 0;
        while at < samples.len() {
            at += self.skip_quiet(samples.slice(at..samples.len()));
            let end = (at + SPAN * GROUP).min(samples.len());
            if at < end {
                self.window(samples.slice(at..end), &mut hits);
            }
            at = end;
        }
        hits
    }

    /// Passes samples that equal the last one, up to where a time runs out; how many.
    fn skip_quiet(&mut self, samples: Samples<'_>) -> usize {
        let Some((levels, 0)) = self.last.filter(|_| samples.unknown().is_empty()) else { return 0 };
        if !self.gates.is_empty() {
            return 0;
        }
        if levels & self.mask & samples.width().beyond() != 0 {
            return 0;
        }
        let soon = self.part.wake().map_or(u64::MAX, |tick| tick.saturating_sub(self.position));
        let samples = samples.slice(0..usize::try_from(soon).unwrap_or(usize::MAX));
        let quiet = self.slicer.quiet(samples.levels(), samples.width(), levels, self.mask);
        self.position += quiet as u64;
        quiet
    }

    fn window(&mut self, samples: Samples<'_>, hits: &mut Vec<Tick>) {
        let (start, count, width) = (self.position, samples.len(), samples.width());
        self.position += count as u64;
        let (levels, unknown) = self.last.unwrap_or(samples.get(0));
        let mut open = unknown & self.mask != 0;
        if !samples.unknown().is_empty() {
            open |= self.slicer.differing(samples.unknown(), width, 0) & self.mask != 0;
        }
        self.slicer.planes(samples.levels(), width, &self.bits, &mut self.planes);
        if open && samples.unknown().is_empty() {
            self.unknown.fill(NONE);
        } else if open {
            self.slicer.planes(samples.unknown(), width, &self.bits, &mut self.unknown);
            for (plane, unknown) in self.planes.iter_mut().zip(&self.unknown) {
                plane.iter_mut().zip(unknown).for_each(|(level, unknown)| *level &= !unknown);
            }
        }
        for (before, bit) in self.before.iter_mut().zip(&self.bits) {
            let is_set = |word: u64| word.checked_shr(*bit).unwrap_or(0) & 1 == 1;
            *before = (is_set(levels) && !is_set(unknown), is_set(unknown));
        }
        for gate in &mut self.gates {
            gate.begin(samples);
            self.before[gate.slot] = (gate.level == Level::High, false);
            gate.fill(samples, &mut self.planes[gate.slot]);
        }
        let window = Window {
            start,
            len: count as u32,
            planes: &self.planes,
            unknown: &self.unknown,
            before: &self.before,
            open,
        };
        self.last = Some(samples.get(count - 1));
        let whole_words = count.is_multiple_of(GROUP) && start > 0 && !open;
        for (slot, edges) in self.edges.iter_mut().enumerate() {
            *edges += if whole_words {
                let plane = &window.planes[slot][..window.words()];
                self.slicer.count_changes(plane, window.before[slot].0)
            } else {
                let mut changes = window.changes(slot);
                window.trim_to_past(&mut changes);
                changes.iter().map(|word| u64::from(word.count_ones())).sum()
            };
        }
        let found = match &mut self.part {
            Part::Guard(event, guard) if self.at_event => {
                let mut happens = event.advance(&window);
                self.buses.iter_mut().for_each(|bus| bus.count_at(&window, &happens));
                guard.and_into(&window, &mut happens);
                happens
            }
            part => {
                self.buses.iter_mut().for_each(|bus| bus.count_changes(&window));
                part.advance(&window)
            }
        };
        for (word, mut found) in found.into_iter().enumerate().take(window.words()) {
            while found != 0 {
                hits.push(Tick(window.ticks(word).0 + u64::from(found.trailing_zeros())));
                found &= found - 1;
            }
        }
    }
}
