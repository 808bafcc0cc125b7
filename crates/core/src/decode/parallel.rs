//! Parallel buses: a word with each edge of a clock, or memory cycles with read and write strobes.

use std::ops::ControlFlow;

use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Level, Levels};
use crate::time::Tick;

/// What says when the lines count.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Strobes {
    /// An edge of a clock: the rising one, or the falling one.
    Clock(bool),
    /// The end of a strobe. Each has its active level, if there is such a line.
    Cycles {
        /// A write.
        write: Option<Level>,
        /// A read.
        read: Option<Level>,
    },
}

/// What lines there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ParallelConfig {
    /// What says when they count.
    pub strobes: Strobes,
    /// The select line's level while cycles are meant for this part, if there is such a line.
    pub select: Option<Level>,
    /// The level of a line while the data lines carry an address, which counts at its end; if there is
    /// such a line.
    pub latch: Option<Level>,
    /// Data lines.
    pub data: u32,
    /// Address lines of their own.
    pub address: u32,
}

impl ParallelConfig {
    /// So many data lines and nothing else but what says when they count.
    pub fn new(strobes: Strobes, data: u32) -> Self {
        ParallelConfig { strobes, select: None, latch: None, data, address: 0 }
    }
}

settable!(ParallelConfig { strobes: Strobes, data: u32, select: Option<Level>, latch: Option<Level>, address: u32 });

impl ParallelConfig {
    /// Whether there is a strobe for writes and one for reads.
    pub fn has_both_strobes(&self) -> bool {
        matches!(self.strobes, Strobes::Cycles { write: Some(_), read: Some(_) })
    }
}

/// Decodes a parallel bus. Its lines are, as far as they are there: the clock, or the write and the
/// read strobe; the select; the latch; the data lines, lowest first; the address lines, lowest first.
///
/// Frames are `word` with each edge of the clock; `write` and `read` from the beginning of a strobe to
/// its end, where address and data count. Fields are `address` (what was latched is its lower part) and
/// `data`. Faults are `address` (it changes during a strobe), `conflict` (both strobes at once),
/// `order` (data changes with what takes it), `unknown` and `cut-off`.
#[derive(Clone, Debug)]
pub struct Parallel {
    config: ParallelConfig,
    levels: Levels,
    latched: u64,
    /// The strobe that is active: its kind, since when, and what is wrong.
    cycle: Option<(&'static str, Tick, Vec<Fault>)>,
}

/// Some lines that follow each other.
#[derive(Clone, Copy, Debug)]
struct Group {
    first: u32,
    count: u32,
}

impl Group {
    fn mask(self) -> u64 {
        let ones = if self.count >= 64 { u64::MAX } else { (1 << self.count) - 1 };
        ones.checked_shl(self.first).unwrap_or(0)
    }

    fn value(self, levels: Levels) -> u64 {
        (levels.high & self.mask()).checked_shr(self.first).unwrap_or(0)
    }
}

impl Parallel {
    /// The instants of its frames: a word is taken, or a strobe becomes active.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] =
        &["word", "write", "read", "address", "data", "conflict", "order", "spike", "unknown", "cut-off"];

    /// A decoder.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] without data lines, with more than 64 lines in all, and with nothing that
    /// says when they count.
    pub fn new(config: ParallelConfig) -> Result<Self> {
        let wrong = |message: &str, help: &str| Err(Error::new(ErrorKind::Range, message).with_help(help));
        if config.data == 0 {
            return wrong("there is no data line", "give the lines of the data bus");
        }
        if matches!(config.strobes, Strobes::Cycles { write: None, read: None }) {
            return wrong(
                "nothing says when the lines count",
                "give a clock, a write strobe or a read strobe",
            );
        }
        let parallel = Parallel { config, levels: Levels::default(), latched: 0, cycle: None };
        if config.data.saturating_add(config.address) > 64 || parallel.lines() > 64 {
            return wrong("a bus has at most 64 lines", "leave out address lines that do not matter");
        }
        Ok(parallel)
    }

    fn control_lines(&self) -> u32 {
        let strobes = match self.config.strobes {
            Strobes::Clock(_) => 1,
            Strobes::Cycles { write, read } => u32::from(write.is_some()) + u32::from(read.is_some()),
        };
        strobes + u32::from(self.config.select.is_some()) + u32::from(self.config.latch.is_some())
    }

    fn data(&self) -> Group {
        Group { first: self.control_lines(), count: self.config.data }
    }

    fn address(&self) -> Group {
        Group { first: self.control_lines() + self.config.data, count: self.config.address }
    }

    /// Whether a control line, the `place`th from the first, has the level that it must have.
    fn is(&self, levels: Levels, place: u32, level: Level) -> bool {
        levels.level(place as usize) == level
    }

    fn selected(&self, levels: Levels) -> bool {
        let place = self.control_lines() - 1 - u32::from(self.config.latch.is_some());
        self.config.select.is_none_or(|level| self.is(levels, place, level))
    }

    fn latching(&self, levels: Levels) -> bool {
        self.config.latch.is_some_and(|level| self.is(levels, self.control_lines() - 1, level))
    }

    /// The strobe that is active, and whether both are.
    fn strobe(&self, levels: Levels) -> (Option<&'static str>, bool) {
        let Strobes::Cycles { write, read } = self.config.strobes else { return (None, false) };
        if !self.selected(levels) {
            return (None, false);
        }
        let writes = write.is_some_and(|level| self.is(levels, 0, level));
        let reads = read.is_some_and(|level| self.is(levels, u32::from(write.is_some()), level));
        (if writes { Some("write") } else { reads.then_some("read") }, writes && reads)
    }

    /// What the lines carry at the tick before `at`.
    fn frame(&self, kind: &'static str, start: Tick, at: Tick, before: Levels, now: Levels) -> Frame {
        let (data, address) = (self.data(), self.address());
        let latch_bits = if self.config.latch.is_some() { data.count } else { 0 };
        let mut frame = Frame::new(kind, start..at);
        let bits = (latch_bits + address.count).min(64);
        if bits > 0 {
            let high = address.value(before).checked_shl(latch_bits).unwrap_or(0);
            let field = Field::new(FieldKind::Address, "address", start..at, high | self.latched, bits);
            frame.fields.push(field);
        }
        frame.fields.push(Field::new(FieldKind::Data, "data", start..at, data.value(before), data.count));
        if before.unknown & (data.mask() | address.mask()) != 0 {
            frame.faults.push(Fault::unknown(at));
        }
        if (before.high ^ now.high | before.unknown ^ now.unknown) & data.mask() != 0 {
            let what = "data changes with the edge that takes it: the other edge, or too few samples";
            frame.faults.push(Fault::new("order", at, what));
        }
        frame
    }
}

impl Decoder for Parallel {
    fn lines(&self) -> usize {
        (self.control_lines() + self.config.data + self.config.address) as usize
    }

    fn begin(&mut self, _: Tick, levels: Levels) {
        (self.levels, self.latched, self.cycle) = (levels, 0, None);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let before = std::mem::replace(&mut self.levels, levels);
        if self.latching(before) && !self.latching(levels) {
            if self.strobe(levels).0.is_none() {
                out.settled(at);
            }
            out.look(Look::telling(at, self.data().mask()));
            self.latched = self.data().value(before);
        }
        if let Strobes::Clock(rising) = self.config.strobes {
            let takes = if rising { (Level::Low, Level::High) } else { (Level::High, Level::Low) };
            let select = u64::from(self.config.select.is_some()) << 1;
            if (before.level(0), levels.level(0)) == takes && !self.selected(before) {
                out.look(Look::telling(at, select));
            } else if (before.level(0), levels.level(0)) == takes {
                if self.config.latch.is_none() {
                    out.settled(at);
                }
                out.look(Look::taking(at, self.data().mask() | self.address().mask()).shifting(select));
                out.mark(BusMark::new("begin", at))?;
                let mut frame = self.frame("word", at, at, before, levels);
                frame.end = Tick(at.0 + 1);
                frame.fields.iter_mut().for_each(|field| field.end = frame.end);
                return out.frame(frame);
            }
            return ControlFlow::Continue(());
        }
        let ((active, both), (was, _)) = (self.strobe(levels), self.strobe(before));
        if let Some((kind, start, mut faults)) = self.cycle.take() {
            if active != Some(kind) {
                out.look(Look::taking(at, self.data().mask() | self.address().mask()));
                let mut frame = self.frame(kind, start, at, before, levels);
                faults.append(&mut frame.faults);
                out.frame(Frame { faults, ..frame })?;
            } else {
                let moved = (before.high ^ levels.high) & self.address().mask() != 0;
                if moved && faults.iter().all(|fault| fault.kind != "address") {
                    faults.push(Fault::new("address", at, "the address changes while the strobe is active"));
                }
                if both && faults.iter().all(|fault| fault.kind != "conflict") {
                    faults.push(Fault::new("conflict", at, "read and write are active at once"));
                }
                self.cycle = Some((kind, start, faults));
                return ControlFlow::Continue(());
            }
        }
        if let Some(kind) = active.filter(|_| was != active) {
            let mut faults = Vec::new();
            if both {
                faults.push(Fault::new("conflict", at, "read and write are active at once"));
            }
            if self.config.latch.is_none() {
                out.settled(at);
            }
            out.mark(BusMark::new("begin", at))?;
            self.cycle = Some((kind, at, faults));
        }
        ControlFlow::Continue(())
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some((kind, start, mut faults)) = self.cycle.take() else { return ControlFlow::Continue(()) };
        faults.push(Fault::cut_off(at));
        out.frame(Frame { faults, ..Frame::new(kind, start..at) })
    }
}
