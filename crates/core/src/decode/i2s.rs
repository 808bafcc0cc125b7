//! Inter-chip sound: a clock, a word select that tells left from right, and data (the I2S bus
//! specification of 1996, clause 3).

use std::ops::ControlFlow;

use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Level, Levels};
use crate::time::Tick;

/// How samples are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct I2sConfig {
    /// Bits of a sample, 1 to 64; more clocks than that carry nothing.
    pub bits: u32,
    /// Whether the first bit comes with the word select, not one clock after it.
    pub left_justified: bool,
}

impl I2sConfig {
    /// Samples of so many bits, the first one clock after the word select.
    pub fn new(bits: u32) -> Self {
        I2sConfig { bits, left_justified: false }
    }
}

settable!(I2sConfig { bits: u32, left_justified: bool });

/// Decodes inter-chip sound; its lines are the clock, the word select and the data.
///
/// Frames are `left` (the word select is low; high where justified left) and `right`, with the field
/// `data`. Faults are `truncated` (the word select changes too early), `order`, `unknown` and `cut-off`.
/// What comes before the first change of the word select is not read.
#[derive(Clone, Debug)]
pub struct I2s {
    config: I2sConfig,
    levels: Levels,
    /// The word select with the last clock.
    select: Level,
    joined: bool,
    open: Option<Open>,
}

#[derive(Clone, Debug)]
struct Open {
    frame: Frame,
    bits: u32,
    value: u64,
    last: Tick,
}

impl I2s {
    /// The instants of its frames.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] =
        &["left", "right", "data", "truncated", "order", "spike", "unknown", "cut-off"];

    /// A decoder.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] for a sample of other than 1 to 64 bits.
    pub fn new(config: I2sConfig) -> Result<Self> {
        if !(1..=64).contains(&config.bits) {
            let error = Error::new(ErrorKind::Range, format!("there are no samples of {} bits", config.bits));
            return Err(error.with_help("a sample has 1 to 64 bits"));
        }
        let (levels, select) = (Levels::default(), Level::Unknown);
        Ok(I2s { config, levels, select, joined: false, open: None })
    }

    /// Gives the sample out.
    fn close(&mut self, end: Tick, fault: Option<Fault>, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(mut open) = self.open.take() else { return ControlFlow::Continue(()) };
        if open.bits > 0 {
            let span = open.frame.start..Tick(open.last.0 + 1);
            open.frame.fields.push(Field::new(FieldKind::Data, "data", span, open.value, open.bits));
        }
        open.frame.faults.extend(fault);
        open.frame.end = end;
        out.frame(open.frame)
    }

    fn clock(&mut self, at: Tick, before: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let select = before.level(1);
        out.look(Look::taking(at, 0b100).shifting(0b010));
        if std::mem::replace(&mut self.select, select) != select && self.joined {
            // The clock that first sees the new word select still takes the last bit of the old word,
            // unless samples are justified left.
            if !self.config.left_justified {
                self.take(at, before, out)?;
            }
            if let Some(open) = &self.open {
                let what = format!("{} of {} bits: another word length", open.bits, self.config.bits);
                self.close(at, Some(Fault::new("truncated", at, what)), out)?;
            }
            out.settled(at);
            let left = (select == Level::Low) != self.config.left_justified;
            let frame = Frame::new(if left { "left" } else { "right" }, at..at);
            self.open = Some(Open { frame, bits: 0, value: 0, last: at });
            if !self.config.left_justified {
                return ControlFlow::Continue(());
            }
        }
        self.joined = true;
        self.take(at, before, out)
    }

    fn take(&mut self, at: Tick, before: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(open) = &mut self.open else { return ControlFlow::Continue(()) };
        if open.bits == 0 {
            open.frame.start = at;
            out.mark(BusMark::new("begin", at))?;
        }
        let level = before.level(2);
        if level == Level::Unknown {
            open.frame.faults.push(Fault::unknown(at));
        } else if level != self.levels.level(2) {
            let what = "data changes with the edge that takes it: too few samples";
            open.frame.faults.push(Fault::new("order", at, what));
        }
        open.value = open.value << 1 | u64::from(level == Level::High);
        (open.bits, open.last) = (open.bits + 1, at);
        if open.bits == self.config.bits {
            return self.close(Tick(at.0 + 1), None, out);
        }
        ControlFlow::Continue(())
    }
}

impl Decoder for I2s {
    fn lines(&self) -> usize {
        3
    }

    fn begin(&mut self, _: Tick, levels: Levels) {
        (self.levels, self.select, self.joined, self.open) = (levels, Level::Unknown, false, None);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let before = std::mem::replace(&mut self.levels, levels);
        if (before.level(0), levels.level(0)) == (Level::Low, Level::High) {
            return self.clock(at, before, out);
        }
        ControlFlow::Continue(())
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        if self.open.as_ref().is_some_and(|open| open.bits == 0) {
            return ControlFlow::Continue(());
        }
        self.close(at, Some(Fault::cut_off(at)), out)
    }
}
