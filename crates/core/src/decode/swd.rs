//! Serial wire debug (ARM Debug Interface Architecture Specification ADIv5, chapter B4).

use std::ops::ControlFlow;

use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::line::{Level, Levels};
use crate::time::Tick;

/// Decodes serial wire debug with a turnaround of one clock; its lines are the clock and the data.
///
/// Frames are `read` and `write`, with the fields `access` (0 for the debug port, 1 for an access port),
/// `address`, `ack` and `data`; and `reset` (50 ones or more, and what ends them). Faults are `parity`
/// (of the data), `wait` and `refused` (the answers WAIT and FAULT), `no-answer`, `unknown` and `cut-off`.
/// What comes before the first reset, or 8 zeros, is not read.
#[derive(Clone, Debug, Default)]
pub struct Swd {
    levels: Levels,
    /// Ones, and zeros, in a row between frames.
    ones: (u32, Tick),
    zeros: u32,
    /// Ones in a row, within frames, too, and where they began.
    run: (u32, Tick),
    joined: bool,
    open: Option<Open>,
}

#[derive(Clone, Debug)]
struct Open {
    frame: Frame,
    /// The ticks at which bits were taken, and the bits, the first one lowest.
    ticks: Vec<Tick>,
    bits: u64,
    ack: Option<u64>,
}

/// Ones in a row that reset the line.
const RESET: u32 = 50;

/// Bits of a request; then a turnaround, and three bits of answer.
const REQUEST: usize = 8;
const ANSWERED: usize = REQUEST + 4;

impl Swd {
    /// The instants of its frames.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] = &[
        "read",
        "write",
        "reset",
        "access",
        "address",
        "ack",
        "data",
        "parity",
        "wait",
        "refused",
        "no-answer",
        "spike",
        "unknown",
        "cut-off",
    ];

    /// A decoder.
    pub fn new() -> Self {
        Swd::default()
    }

    fn bit(&mut self, at: Tick, level: Level, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let high = level == Level::High;
        out.look(Look::taking(at, 0).shifting(0b10));
        if !high {
            self.run.0 = 0;
        } else if self.run.0 == 0 {
            self.run = (1, at);
        } else {
            self.run.0 += 1;
        }
        if self.run.0 == RESET {
            // No frame has so many: whatever was begun was none.
            (self.open, self.ones) = (None, self.run);
            self.joined = false;
            return ControlFlow::Continue(());
        }
        let Some(open) = &mut self.open else { return self.between(at, high, out) };
        if level == Level::Unknown {
            open.frame.faults.push(Fault::unknown(at));
        }
        // The longest has 46 bits: request, turnaround, answer, turnaround, data and parity.
        open.bits |= u64::from(high) << open.ticks.len().min(63);
        open.ticks.push(at);
        let count = open.ticks.len();
        if count == REQUEST && !open.is_request() {
            // It was none: perhaps the beginning of a reset.
            let ones = open.bits.reverse_bits() >> (64 - REQUEST);
            self.ones = (ones.trailing_ones(), open.ticks[0]);
            (self.open, self.joined) = (None, false);
            return ControlFlow::Continue(());
        }
        if count == ANSWERED {
            open.answer(at);
        }
        let write = open.frame.kind == "write";
        let whole = match open.ack {
            // Data and its parity come after the answer; to be written, after another turnaround.
            Some(0b001) if write => ANSWERED + 1 + 33,
            // After a read, and after any other answer, the line turns around once more.
            Some(0b001) => ANSWERED + 33 + 1,
            Some(_) => ANSWERED + 1,
            None => usize::MAX,
        };
        if count < whole {
            return ControlFlow::Continue(());
        }
        let Some(open) = self.open.take() else { return ControlFlow::Continue(()) };
        (self.ones, self.zeros) = ((0, at), 0);
        // Who gets no answer resets the line.
        self.joined = matches!(open.ack, Some(0b001 | 0b010 | 0b100));
        out.frame(open.whole(at, write))
    }

    /// Between frames: ones and zeros, a reset, or the start bit of a request.
    fn between(&mut self, at: Tick, high: bool, out: &mut dyn FrameSink) -> ControlFlow<()> {
        if high {
            if self.ones.0 == 0 {
                self.ones.1 = at;
            }
            self.ones.0 += 1;
            if self.joined {
                out.mark(BusMark::new("begin", at))?;
                let (frame, ticks) = (Frame::new("write", at..at), vec![at]);
                self.open = Some(Open { frame, ticks, bits: 1, ack: None });
                (self.ones.0, self.zeros) = (0, 0);
            }
            return ControlFlow::Continue(());
        }
        let (ones, since) = std::mem::replace(&mut self.ones, (0, at));
        self.zeros = self.zeros.saturating_add(1);
        self.joined |= ones >= RESET || self.zeros >= 8;
        if ones >= RESET {
            let end = Tick(at.0 + 1);
            out.frame(Frame::new("reset", since..end))?;
            out.settled(end);
        }
        ControlFlow::Continue(())
    }
}

impl Open {
    fn value(&self, first: usize, count: usize) -> u64 {
        self.bits >> first & ((1 << count) - 1)
    }

    fn field(&self, kind: FieldKind, name: &'static str, first: usize, count: usize, value: u64) -> Field {
        let span = self.ticks[first]..Tick(self.ticks[first + count - 1].0 + 1);
        Field::new(kind, name, span, value, count as u32)
    }

    /// Start, access, direction, two bits of address, parity, stop and park.
    fn is_request(&self) -> bool {
        let parity = self.value(1, 4).count_ones() % 2 == 1;
        self.value(0, 1) == 1 && (self.value(5, 1) == 1) == parity && self.value(6, 2) == 0b10
    }

    fn answer(&mut self, at: Tick) {
        let ack = self.value(9, 3);
        self.ack = Some(ack);
        self.frame.kind = if self.value(2, 1) == 1 { "read" } else { "write" };
        let access = self.field(FieldKind::Control, "access", 1, 1, self.value(1, 1));
        let address = self.field(FieldKind::Address, "address", 3, 2, self.value(3, 2) << 2);
        let answer = self.field(FieldKind::Control, "ack", 9, 3, ack);
        // The address counts bytes: four bits, of which the lower two are zero.
        self.frame.fields.extend([access, Field { bits: 4, ..address }, answer]);
        let fault = match ack {
            0b001 => return,
            0b010 => Fault::new("wait", at, "the target asks to try again later"),
            0b100 => Fault::new("refused", at, "the target answers with a fault"),
            _ => {
                Fault::new("no-answer", at, "no target answers: no power, no reset before, or a broken line")
            }
        };
        self.frame.faults.push(fault);
    }

    fn whole(mut self, at: Tick, write: bool) -> Frame {
        if self.ack == Some(0b001) {
            let first = if write { ANSWERED + 1 } else { ANSWERED };
            let data = self.value(first, 32);
            self.frame.fields.push(self.field(FieldKind::Data, "data", first, 32, data));
            if (self.value(first + 32, 1) == 1) != (data.count_ones() % 2 == 1) {
                let what = "the parity of the data is wrong";
                self.frame.faults.push(Fault::new("parity", at, what));
            }
        }
        Frame { end: Tick(at.0 + 1), ..self.frame }
    }
}

impl Decoder for Swd {
    fn lines(&self) -> usize {
        2
    }

    fn begin(&mut self, _: Tick, levels: Levels) {
        *self = Swd { levels, ..Swd::default() };
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
        let mut faults = open.frame.faults;
        faults.push(Fault::cut_off(at));
        out.frame(Frame { end: at, faults, ..open.frame })
    }
}
