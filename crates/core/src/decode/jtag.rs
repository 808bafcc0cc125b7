//! The test access port (IEEE 1149.1, figure 6-1).

use std::collections::VecDeque;
use std::ops::ControlFlow;

use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Level, Levels};
use crate::time::Tick;

/// What is known of a chain of parts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct JtagConfig {
    /// Bits of each part's instruction register, from the part at TDI to the one at TDO; nothing
    /// when they are not known.
    pub chain: Vec<u32>,
    /// The data lines.
    pub data: JtagData,
    /// Whether there is a reset line, low for reset.
    pub reset: bool,
}

settable!(JtagConfig { chain: Vec<u32>, data: JtagData, reset: bool });

/// The data lines of a test access port.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum JtagData {
    /// One to the parts and one from them.
    #[default]
    Both,
    /// Only the one to the parts.
    Tdi,
    /// Only the one from them.
    Tdo,
}

impl JtagData {
    /// The roles of the lines, in the decoder's order.
    pub fn roles(self) -> &'static [&'static str] {
        match self {
            JtagData::Both => &["tdi", "tdo"],
            JtagData::Tdi => &["tdi"],
            JtagData::Tdo => &["tdo"],
        }
    }
}

/// Decodes a test access port. Its lines are TCK, TMS, then TDI, TDO and TRST as far as they are
/// there.
///
/// Frames are `ir-scan` and `dr-scan`, from the capture state to the update state, and `reset`
/// (test-logic reset is entered). Fields are `tdi` and `tdo` with up to 64 bits each, what is shifted
/// first being the lowest; in the instruction scan of a known chain, one for each part, the part at
/// TDO first. In the data scan of a known chain of which all parts but one are in bypass, `part` (from 0 at TDI)
/// says which one that is, and `tdi` and `tdo` are its own bits alone. Faults are `length` (an instruction scan of another length than the chain's), `unknown`
/// and `cut-off`. The first state is found from the mode line: after five ones at the latest.
#[derive(Clone, Debug)]
pub struct Jtag {
    config: JtagConfig,
    levels: Levels,
    /// The states that the port may be in, a bit for each.
    states: u16,
    /// Ones in a row on the mode line: five of them reset the port from any state.
    ones: u32,
    scan: Option<Scan>,
    /// The only part that is not in bypass, since the last instruction scan.
    active: Option<usize>,
}

#[derive(Clone, Debug)]
struct Scan {
    frame: Frame,
    bits: u64,
    /// Bits of parts in bypass: those that still come first, and how many come last; and the bits that may be
    /// such.
    first: usize,
    last: usize,
    held: VecDeque<(Tick, [bool; 2])>,
    /// The field under way: its bits, values, and where it began.
    field_bits: u32,
    values: [u64; 2],
    since: Tick,
}

const RESET: u16 = 0;
const CAPTURE_DR: u16 = 3;
const SHIFT_DR: u16 = 4;
const UPDATE_DR: u16 = 8;
const CAPTURE_IR: u16 = 10;
const SHIFT_IR: u16 = 11;
const UPDATE_IR: u16 = 15;
const PAUSE_DR: u16 = 6;
const PAUSE_IR: u16 = 13;

/// For each state, the next one with the mode line low and high: reset, idle, select DR, capture,
/// shift, exit 1, pause, exit 2 and update DR, select IR, and the same for IR.
const NEXT: [[u16; 2]; 16] = [
    [1, 0],
    [1, 2],
    [3, 9],
    [4, 5],
    [4, 5],
    [6, 8],
    [6, 7],
    [4, 8],
    [1, 2],
    [10, 0],
    [11, 12],
    [11, 12],
    [13, 15],
    [13, 14],
    [11, 15],
    [1, 2],
];

impl Jtag {
    /// The instants of its frames: a scan begins with its capture.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample", "reset", "pause"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] =
        &["ir-scan", "dr-scan", "reset", "part", "tdi", "tdo", "length", "spike", "unknown", "cut-off"];

    /// A decoder.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] when a part's register has not 2 to 64 bits.
    pub fn new(config: JtagConfig) -> Result<Self> {
        if let Some(bits) = config.chain.iter().find(|bits| !(2..=64).contains(*bits)) {
            let message = format!("an instruction register of {bits} bits cannot be decoded");
            return Err(Error::new(ErrorKind::Range, message).with_help("give 2 to 64 bits for each part"));
        }
        Ok(Jtag { config, levels: Levels::default(), states: u16::MAX, ones: 0, scan: None, active: None })
    }

    /// The data lines: which value, its name, which line.
    fn data(&self) -> impl Iterator<Item = (usize, &'static str, usize)> + use<> {
        let value = |name: &str| usize::from(name == "tdo");
        let lines = self.config.data.roles().iter().enumerate();
        lines.map(move |(place, name)| (value(name), *name, 2 + place))
    }

    fn reset_line(&self) -> Option<usize> {
        self.config.reset.then_some(2 + self.config.data.roles().len())
    }

    /// The state, once it is certain.
    fn state(&self) -> Option<u16> {
        (self.states.count_ones() == 1).then(|| self.states.trailing_zeros() as u16)
    }

    /// Bits of the field under way.
    fn wanted(&self, scan: &Scan) -> u32 {
        let chain = &self.config.chain;
        let fields = scan.frame.fields.iter().filter(|field| field.kind == FieldKind::Data).count();
        let part = fields / self.data().count().max(1);
        let known = if scan.frame.kind == "ir-scan" { chain.iter().rev().nth(part) } else { None };
        known.copied().unwrap_or(64)
    }

    fn shift(&mut self, at: Tick) {
        let Some(mut scan) = self.scan.take() else { return };
        let mut levels = [false; 2];
        for (place, name, line) in self.data() {
            let level = self.levels.level(line);
            if level == Level::Unknown {
                let what = format!("the level of {name} is not known where a bit is taken");
                scan.frame.faults.push(Fault::new("unknown", at, what));
            }
            levels[place] = level == Level::High;
        }
        scan.bits += 1;
        match scan.first {
            0 => scan.held.push_back((at, levels)),
            _ => scan.first -= 1,
        }
        if scan.held.len() > scan.last
            && let Some((at, levels)) = scan.held.pop_front()
        {
            self.take(&mut scan, at, levels);
        }
        self.scan = Some(scan);
    }

    /// Adds a bit to the field under way.
    fn take(&self, scan: &mut Scan, at: Tick, levels: [bool; 2]) {
        if scan.field_bits == 0 {
            scan.since = at;
        }
        for (value, level) in scan.values.iter_mut().zip(levels) {
            *value |= u64::from(level) << scan.field_bits;
        }
        scan.field_bits += 1;
        if scan.field_bits == self.wanted(scan) {
            self.close_field(scan, at);
        }
    }

    /// The only part whose instruction is not all ones, which is bypass (IEEE 1149.1, 8.4), if there is one.
    fn addressed(&self, scan: &Scan) -> Option<usize> {
        let chain = &self.config.chain;
        let sent: Vec<&Field> = scan.frame.fields.iter().filter(|field| field.name == "tdi").collect();
        if sent.len() != chain.len() || chain.len() < 2 {
            return None;
        }
        // The part at TDO comes first.
        let parts = sent.iter().rev().enumerate();
        let mut active = parts.filter(|(_, field)| field.value != u64::MAX >> (64 - field.bits.clamp(1, 64)));
        let (part, _) = active.next()?;
        active.next().is_none().then_some(part)
    }

    /// A scan that begins; of parts in bypass, a bit each.
    fn open(&self, kind: &'static str, at: Tick) -> Scan {
        let mut frame = Frame::new(kind, at..at);
        let (mut first, mut last) = (0, 0);
        if let Some(part) = self.active.filter(|_| kind == "dr-scan") {
            (first, last) = (self.config.chain.len() - 1 - part, part);
            frame.fields.push(Field::new(FieldKind::Address, "part", at..Tick(at.0 + 1), part as u64, 8));
        }
        let held = VecDeque::new();
        Scan { frame, bits: 0, first, last, held, field_bits: 0, values: [0; 2], since: at }
    }

    fn close_field(&self, scan: &mut Scan, at: Tick) {
        for (place, name, _) in self.data() {
            let span = scan.since..Tick(at.0 + 1);
            let field = Field::new(FieldKind::Data, name, span, scan.values[place], scan.field_bits);
            scan.frame.fields.push(field);
        }
        (scan.field_bits, scan.values) = (0, [0; 2]);
    }

    fn finish(&mut self, at: Tick, fault: Option<Fault>, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(mut scan) = self.scan.take() else { return ControlFlow::Continue(()) };
        if scan.field_bits > 0 {
            self.close_field(&mut scan, Tick(at.0.saturating_sub(1)));
        }
        let chain: u64 = self.config.chain.iter().map(|bits| u64::from(*bits)).sum();
        if fault.is_none() && chain > 0 && scan.frame.kind == "ir-scan" && scan.bits != chain {
            let what = format!("{} bits are shifted, the chain has {chain}", scan.bits);
            scan.frame.faults.push(Fault::new("length", scan.frame.start, what));
        }
        if scan.frame.kind == "ir-scan" {
            let whole = fault.is_none() && scan.frame.faults.is_empty() && scan.bits == chain;
            self.active = if whole { self.addressed(&scan) } else { None };
        }
        scan.frame.faults.extend(fault);
        out.frame(Frame { end: at, ..scan.frame })
    }

    fn enter_reset(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        (self.scan, self.active) = (None, None);
        out.mark(BusMark::new("reset", at))?;
        out.frame(Frame::new("reset", at..Tick(at.0 + 1)))
    }

    fn clock(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let before = self.state();
        let mode = self.levels.level(1);
        let shifts = matches!(before, Some(SHIFT_DR | SHIFT_IR));
        let data = if shifts { self.data().fold(0, |all, (_, _, line)| all | 1 << line) } else { 0 };
        out.look(Look::taking(at, data).shifting(1 << 1));
        if shifts {
            self.shift(at);
        }
        self.ones = if mode == Level::High { self.ones.saturating_add(1) } else { 0 };

        self.states = (0..16).filter(|state| self.states >> state & 1 == 1).fold(0, |all, state| {
            let [low, high] = NEXT[state as usize];
            let low = if mode == Level::High { 0 } else { 1 << low };
            let high = if mode == Level::Low { 0 } else { 1 << high };
            all | low | high
        });
        match self.state() {
            Some(state @ (CAPTURE_DR | CAPTURE_IR)) => {
                out.mark(BusMark::new("begin", at))?;
                self.scan = Some(self.open(if state == CAPTURE_DR { "dr-scan" } else { "ir-scan" }, at));
            }
            Some(UPDATE_DR | UPDATE_IR) => self.finish(at, None, out)?,
            Some(state @ (PAUSE_DR | PAUSE_IR)) if before != Some(state) => {
                out.mark(BusMark::new("pause", at))?;
            }
            Some(RESET) if before != Some(RESET) => self.enter_reset(at, out)?,
            _ => {}
        }
        if self.ones >= 5 {
            out.settled(Tick(at.0 + 1));
        }
        ControlFlow::Continue(())
    }
}

impl Decoder for Jtag {
    fn lines(&self) -> usize {
        2 + self.data().count() + usize::from(self.config.reset)
    }

    fn begin(&mut self, _: Tick, levels: Levels) {
        (self.levels, self.states, self.ones, self.scan) = (levels, u16::MAX, 0, None);
        self.active = None;
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let clock = (self.levels.level(0), levels.level(0));
        if let Some(reset) = self.reset_line() {
            let falls = levels.level(reset) == Level::Low && self.levels.level(reset) != Level::Low;
            if falls && self.state() != Some(RESET) {
                self.states = 1 << RESET;
                self.enter_reset(at, out)?;
            }
            if falls {
                out.settled(Tick(at.0 + 1));
            }
            if levels.level(reset) == Level::Low {
                self.levels = levels;
                return ControlFlow::Continue(());
            }
        }
        if clock == (Level::Low, Level::High) {
            // What is there before the edge is taken with it.
            self.clock(at, out)?;
        }
        self.levels = levels;
        ControlFlow::Continue(())
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.finish(at, Some(Fault::cut_off(at)), out)
    }
}
