//! Management data input and output of Ethernet transceivers (IEEE 802.3, 22.2.4.5 and 45.3).

use std::ops::ControlFlow;

use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::line::{Level, Levels};
use crate::time::Tick;

/// Decodes management frames; its lines are the clock and the data.
///
/// Frames are `read` and `write`, with the fields `phy`, `register` and `data`; or, in the format of
/// clause 45, `address`, `read`, `read-next` and `write`, with `port`, `device` and `data`. Faults are
/// `no-answer` (nobody drives the turnaround of a read), `turnaround`, `operation`, `unknown` and
/// `cut-off`. A frame begins after 32 ones, or with the bit after another frame that has no more ones
/// than that: a preamble may be left out.
#[derive(Clone, Debug, Default)]
pub struct Mdio {
    levels: Levels,
    /// Ones in a row between frames, and on the line at all.
    ones: u32,
    run: u32,
    /// Whether a preamble was seen.
    joined: bool,
    open: Option<Open>,
}

#[derive(Clone, Debug)]
struct Open {
    start: Tick,
    /// The ticks at which bits were taken.
    ticks: Vec<Tick>,
    bits: u64,
    faults: Vec<Fault>,
}

/// Bits of a frame, without its preamble.
const BITS: usize = 32;

impl Mdio {
    /// The instants of its frames.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] = &[
        "read",
        "write",
        "address",
        "read-next",
        "phy",
        "register",
        "port",
        "device",
        "data",
        "no-answer",
        "turnaround",
        "operation",
        "spike",
        "unknown",
        "cut-off",
    ];

    /// A decoder.
    pub fn new() -> Self {
        Mdio::default()
    }

    fn bit(&mut self, at: Tick, level: Level, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let high = level == Level::High;
        out.look(Look::taking(at, 0).shifting(0b10));
        let run = self.run;
        self.run = if high { run.saturating_add(1) } else { 0 };
        match &mut self.open {
            None => {
                if high {
                    self.ones = self.ones.saturating_add(1);
                    self.joined |= self.ones >= 32;
                } else if self.joined {
                    if run >= 32 {
                        out.settled(at);
                    }
                    out.mark(BusMark::new("begin", at))?;
                    let (ticks, faults) = (vec![at], Vec::new());
                    self.open = Some(Open { start: at, ticks, bits: 0, faults });
                    self.ones = 0;
                } else {
                    self.ones = 0;
                }
            }
            Some(open) => {
                if level == Level::Unknown {
                    open.faults.push(Fault::unknown(at));
                }
                open.bits = open.bits << 1 | u64::from(high);
                open.ticks.push(at);
                if open.ticks.len() == BITS
                    && let Some(open) = self.open.take()
                {
                    return out.frame(open.frame(at));
                }
            }
        }
        ControlFlow::Continue(())
    }
}

impl Open {
    /// Some bits of the frame, counted from the first, which is a zero.
    fn field(&self, kind: FieldKind, name: &'static str, first: usize, count: usize) -> Field {
        let value = self.bits >> (BITS - first - count) & ((1 << count) - 1);
        let span = self.ticks[first]..Tick(self.ticks[first + count - 1].0 + 1);
        Field::new(kind, name, span, value, count as u32)
    }

    fn frame(self, at: Tick) -> Frame {
        let bits = |first: usize, count: usize| self.field(FieldKind::Control, "", first, count).value;
        // Start 01 is clause 22, start 00 clause 45.
        let old = bits(0, 2) == 0b01;
        let kind = match (old, bits(2, 2)) {
            (true, 0b10) => "read",
            (_, 0b01) => "write",
            (false, 0b00) => "address",
            (false, 0b11) => "read",
            (false, _) => "read-next",
            (true, _) => "write",
        };
        let mut frame = Frame::new(kind, self.start..Tick(at.0 + 1));
        let names = if old { ["phy", "register"] } else { ["port", "device"] };
        frame.fields.push(self.field(FieldKind::Address, names[0], 4, 5));
        frame.fields.push(self.field(FieldKind::Address, names[1], 9, 5));
        frame.fields.push(self.field(FieldKind::Data, "data", 16, 16));
        let turn = self.ticks[15];
        if old && matches!(bits(2, 2), 0b00 | 0b11) {
            frame.faults.push(Fault::new("operation", self.ticks[2], "neither a read nor a write"));
        }
        match (kind, bits(14, 2)) {
            ("read" | "read-next", turnaround) if turnaround & 1 == 1 => {
                let what =
                    "nobody drives the turnaround: no transceiver has this address, or no pull-up is needed";
                frame.faults.push(Fault::new("no-answer", turn, what));
            }
            ("write" | "address", turnaround) if turnaround != 0b10 => {
                frame.faults.push(Fault::new("turnaround", turn, "the turnaround of a write is not 10"));
            }
            _ => {}
        }
        frame.faults.extend(self.faults);
        frame
    }
}

impl Decoder for Mdio {
    fn lines(&self) -> usize {
        2
    }

    fn begin(&mut self, _: Tick, levels: Levels) {
        *self = Mdio { levels, ..Mdio::default() };
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let before = std::mem::replace(&mut self.levels, levels);
        if (before.level(0), levels.level(0)) == (Level::Low, Level::High) {
            return self.bit(at, before.level(1), out);
        }
        ControlFlow::Continue(())
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(open) = self.open.take() else { return ControlFlow::Continue(()) };
        let frame = Frame::new("write", open.start..at);
        out.frame(Frame { faults: vec![Fault::cut_off(at)], ..frame })
    }
}
