//! Bits as pulses of two widths on one wire, in words that follow each other until a long rest: chains
//! of lights and their like.

use std::ops::ControlFlow;

use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{BitOrder, Level, Levels};
use crate::quantity::{Rate, Rational, Time};
use crate::time::{Tick, TimeBase};

/// How words are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct PulsesConfig {
    /// A pulse that is longer than this is a one, any other a zero.
    pub threshold: Time,
    /// A rest that is longer than this ends the chain.
    pub rest: Time,
    /// Bits of a word, 1 to 64: what one element of the chain takes.
    pub bits: u32,
    /// Which bit of a word comes first.
    pub order: BitOrder,
    /// Whether pulses are low.
    pub inverted: bool,
}

impl PulsesConfig {
    /// Words of so many bits, the highest first, of high pulses that are ones when longer than `threshold`;
    /// a rest longer than `rest` ends the chain.
    pub fn new(threshold: Time, rest: Time, bits: u32) -> Self {
        PulsesConfig { threshold, rest, bits, order: BitOrder::HighestFirst, inverted: false }
    }
}

settable!(PulsesConfig { threshold: Time, rest: Time, bits: u32, order: BitOrder, inverted: bool });

/// Decodes a pulse-width-coded wire; its line is that wire.
///
/// Frames are of kind `word` with the fields `element` (its place in the chain, from 0) and `data`; and
/// `reset` where the wire has rested for long enough. Faults are `truncated` (a rest within a word),
/// `unknown` and `cut-off`. What comes before the first rest is read as the beginning of a chain only
/// when the record begins with the wire at rest.
#[derive(Clone, Debug)]
pub struct Pulses {
    config: PulsesConfig,
    /// In ticks: the longest zero, and the longest rest within a chain.
    threshold: u64,
    rest: u64,
    level: Level,
    /// The last edge.
    since: Tick,
    /// Whether pulses count: a rest was seen.
    joined: bool,
    element: u64,
    /// Bits of the present word, its value, and where it began.
    bits: u32,
    value: u64,
    start: Tick,
    unknown: bool,
}

impl Pulses {
    /// The instants of its frames.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample", "rest"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] =
        &["word", "reset", "element", "data", "truncated", "spike", "unknown", "cut-off"];

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] for a word length that is none, a rest that is not longer than the
    /// threshold, and a threshold of fewer than two ticks.
    pub fn new(config: PulsesConfig, base: TimeBase) -> Result<Self> {
        let wrong =
            |message: String, help: String| Err(Error::new(ErrorKind::Range, message).with_help(help));
        if !(1..=64).contains(&config.bits) {
            return wrong("there is no such word length".into(), "a word has 1 to 64 bits".into());
        }
        if config.rest <= config.threshold || config.threshold <= Time::ZERO {
            let message = format!("a rest of {} does not end a chain of such pulses", config.rest);
            return wrong(message, format!("give a rest longer than the threshold of {}", config.threshold));
        }
        let ticks = |time: Time| base.ticks_in(time).and_then(|t| u64::try_from(t.floor()).ok());
        let threshold = ticks(config.threshold).unwrap_or(u64::MAX);
        if threshold < 2 {
            let rate = config.threshold.to_rational().recip().and_then(|r| r.checked_mul(Rational::from(2)));
            let rate = rate.map_or("a faster rate".into(), |r| format!("{} or more", Rate::from_rational(r)));
            let message = format!("pulses around {} are too short for this rate", config.threshold);
            return wrong(message, format!("record at {rate}"));
        }
        Ok(Pulses {
            config,
            threshold,
            rest: ticks(config.rest).unwrap_or(u64::MAX),
            level: Level::Unknown,
            since: Tick(0),
            joined: false,
            element: 0,
            bits: 0,
            value: 0,
            start: Tick(0),
            unknown: false,
        })
    }

    fn active(&self, level: Level) -> bool {
        level == if self.config.inverted { Level::Low } else { Level::High }
    }

    fn rests(&self, level: Level) -> bool {
        level == if self.config.inverted { Level::High } else { Level::Low }
    }

    /// The word so far, with what is wrong with it.
    fn word(&mut self, end: Tick, fault: Option<Fault>) -> Frame {
        let mut frame = Frame::new("word", self.start..end);
        frame.begins = self.element == 0;
        let width = if self.element >> 16 == 0 { 16 } else { 64 };
        let element = Field::new(FieldKind::Address, "element", self.start..end, self.element, width);
        let data = Field::new(FieldKind::Data, "data", self.start..end, self.value, self.bits);
        frame.fields.extend([element, data]);
        if std::mem::take(&mut self.unknown) {
            frame.faults.push(Fault::unknown(self.start));
        }
        frame.faults.extend(fault);
        (self.bits, self.value) = (0, 0);
        self.element += 1;
        frame
    }

    /// Ends the chain where the wire has rested for long enough before a tick.
    fn reset(&mut self, now: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        if !self.rests(self.level) || now.since(self.since) <= self.rest as i64 {
            return ControlFlow::Continue(());
        }
        let at = Tick(self.since.0.saturating_add(self.rest).saturating_add(1));
        if self.bits > 0 {
            let what = format!("{} of {} bits, then a rest", self.bits, self.config.bits);
            let word = self.word(at, Some(Fault::new("truncated", at, what)));
            out.frame(word)?;
        }
        let chain = std::mem::take(&mut self.element) > 0;
        self.joined = true;
        out.settled(at);
        if chain {
            out.mark(BusMark::new("rest", at))?;
            out.frame(Frame::new("reset", self.since..at))?;
        }
        ControlFlow::Continue(())
    }
}

impl Decoder for Pulses {
    fn lines(&self) -> usize {
        1
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        (self.level, self.since, self.element) = (levels.level(0), at, 0);
        self.joined = self.rests(self.level);
        (self.bits, self.value, self.unknown) = (0, 0, false);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.reset(at, out)?;
        let before = std::mem::replace(&mut self.level, levels.level(0));
        let since = std::mem::replace(&mut self.since, at);
        self.unknown |= self.joined && self.level == Level::Unknown;
        if self.joined && self.active(self.level) {
            // With a tick more or less, the chain ends or does not.
            if at.since(since).abs_diff(self.rest as i64) <= 1 {
                out.doubt(at);
            }
            if self.bits == 0 {
                self.start = at;
                out.mark(BusMark::new("begin", at))?;
            }
        }
        if self.joined && self.active(before) && !self.active(self.level) {
            let open = at.since(since).abs_diff(self.threshold as i64) <= 1;
            if open {
                out.doubt(at);
            }
            out.look(Look::taking(at, 0));
            let one = u64::from(at.since(since) > self.threshold as i64);
            self.value = self.config.order.append(self.value, self.bits, one, 1);
            self.bits += 1;
            if self.bits == self.config.bits {
                let word = self.word(at, None);
                out.frame(word)?;
            }
        }
        ControlFlow::Continue(())
    }

    fn due(&self) -> Option<Tick> {
        let ends = self.rests(self.level) && (self.element > 0 || self.bits > 0 || !self.joined);
        ends.then(|| Tick(self.since.0.saturating_add(self.rest)))
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.reset(until, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.reset(at, out)?;
        if self.bits > 0 {
            let word = self.word(at, Some(Fault::cut_off(at)));
            out.frame(word)?;
        }
        ControlFlow::Continue(())
    }
}
