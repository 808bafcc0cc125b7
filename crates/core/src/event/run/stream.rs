//! Arriving samples, searched window by window.

use super::census::{BusSeen, Census, FramesSeen};
use super::part::Part;
use super::window::{NONE, Running, Window};
use crate::capture::Extremes;
use crate::event::check::{StateReport, StateTable};
use crate::event::timed::TimedProgram;
use crate::line::{AnalogLine, AnalogScale, Gate, Level, Signal};
use crate::quantity::Voltage;
use crate::scan::{GROUP, Plane, SPAN, Samples, Slicer};
use crate::time::Tick;

/// The number of a bit that no sample has.
const NO_BIT: u32 = 64;

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
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let program = Program::compile("CLK rises 2 times", &scope)?.at(base)?;
/// let mut search = StreamSearch::new(&program);
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
    /// Where began what the first hit ended.
    began: Option<u64>,
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
    pub fn new(program: &TimedProgram) -> Self {
        let lines = program.signals();
        let bit = |signal: &Signal| signal.line().map_or(NO_BIT, |line| line.0.min(NO_BIT as usize) as u32);
        let bits: Vec<u32> = lines.iter().map(bit).collect();
        let mask = bits.iter().fold(0, |all, bit| all | 1u64.checked_shl(*bit).unwrap_or(0));
        let (buses, at_event) = Census::of(program.root(), &lines);
        StreamSearch {
            buses,
            at_event,
            part: Part::new(program.root(), &lines, program.base()),
            planes: vec![NONE; lines.len()],
            unknown: vec![NONE; lines.len()],
            before: vec![(false, false); lines.len()],
            edges: vec![0; lines.len()],
            bits,
            gates: Vec::new(),
            slicer: Slicer::new(),
            lines,
            table: program.program().state_table().clone(),
            position: 0,
            began: None,
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

    /// The first tick of what is under way and may yet be a hit, such as a frame or an attempt at a sequence.
    pub fn since(&self) -> Option<Tick> {
        self.part.since().map(Tick)
    }

    /// Where began what the first hit ended, or a little before that; `None` without a hit.
    pub fn began(&self) -> Option<Tick> {
        self.began.map(Tick)
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

    /// What came so far on the serial buses that it looks at.
    pub fn frames_seen(&self) -> Vec<FramesSeen> {
        let mut seen = Vec::new();
        self.part.frames_seen(&mut seen);
        seen
    }

    /// For a state machine or a sequence, how far it has come; nothing for anything else.
    pub fn states(&self) -> Vec<StateReport> {
        self.part.report(&self.table)
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
        // Within a window, it is not known where something begins.
        let since = self.part.began_by(start);
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
        if let (None, Some(first)) = (self.began, hits.first()) {
            self.began = Some(since.unwrap_or(first.0));
        }
    }
}
