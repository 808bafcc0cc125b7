//! Plain clock and data: a bit with each edge of a clock, in words that begin with a start bit, an
//! enable line or after a gap.

use std::ops::ControlFlow;

use super::Parity;
use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{BitOrder, Level, Levels};
use crate::quantity::{Rational, Time};
use crate::time::{Tick, TimeBase};

/// How words are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ClockedConfig {
    /// Whether the rising edge of the clock takes a bit; the falling one otherwise.
    pub rising: bool,
    /// Data bits of a word, 1 to 64.
    pub bits: u32,
    /// Which bit of a word comes first.
    pub order: BitOrder,
    /// The level of a start bit, if there is one.
    pub start: Option<Level>,
    /// The parity bit.
    pub parity: Parity,
    /// The level of a stop bit, if there is one.
    pub stop: Option<Level>,
    /// The enable line's level while bits count, if there is such a line.
    pub enable: Option<Level>,
    /// After a clock that rested for so long, a word begins anew.
    pub gap: Option<Time>,
}

settable!(ClockedConfig { bits: u32, rising: bool, order: BitOrder, start: Option<Level>, parity: Parity, stop: Option<Level>, enable: Option<Level>, gap: Option<Time> });

impl ClockedConfig {
    /// Words of so many bits, the highest first, taken with the rising edge, without anything else.
    pub fn new(bits: u32) -> Self {
        ClockedConfig {
            rising: true,
            bits,
            order: BitOrder::HighestFirst,
            start: None,
            parity: Parity::None,
            stop: None,
            enable: None,
            gap: None,
        }
    }

    /// Bits of a whole word.
    fn all_bits(&self) -> u32 {
        let parity = u32::from(self.parity != Parity::None);
        u32::from(self.start.is_some()) + self.bits + parity + u32::from(self.stop.is_some())
    }
}

/// Decodes clock and data. Its lines are the clock, the data, and the enable if there is one.
///
/// Frames are of kind `word`, from the clock edge that takes the first bit to the one that takes the
/// last (or to where a word that is not whole is known to be over), with the fields `data` and
/// `parity`. Faults are `parity` and `stop` (a bit is not as it must be), `truncated`,
/// `order` (data changes with the edge that takes it), `unknown` and `cut-off`.
#[derive(Clone, Debug)]
pub struct Clocked {
    config: ClockedConfig,
    /// Ticks of the gap.
    gap: Option<u64>,
    levels: Levels,
    last_edge: Tick,
    word: Option<Word>,
    /// Whether the clock has rested for long enough since it last took a bit.
    rested: bool,
    /// Whether a whole word was taken since then.
    whole: bool,
}

#[derive(Clone, Debug)]
struct Word {
    frame: Frame,
    last: Tick,
    taken: u32,
    data_since: Tick,
    value: u64,
}

impl Clocked {
    /// The instants of its frames; `enable` and `disable` need an enable line, `rest` a gap, which is over.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample", "enable", "disable", "rest"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] =
        &["word", "data", "parity", "stop", "truncated", "order", "spike", "unknown", "cut-off"];

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] for a word length that is none, and where nothing says where a word begins.
    pub fn new(config: ClockedConfig, base: TimeBase) -> Result<Self> {
        let wrong = |message: &str, help: &str| Err(Error::new(ErrorKind::Range, message).with_help(help));
        if !(1..=64).contains(&config.bits) {
            return wrong("there is no such word length", "a word has 1 to 64 bits");
        }
        let gap = config.gap.and_then(|gap| base.ticks_in(gap)).map(Rational::floor);
        let gap = gap.and_then(|gap| u64::try_from(gap).ok()).filter(|gap| *gap > 0);
        if config.start.is_none() && config.enable.is_none() && gap.is_none() {
            let help = "give the enable line, a start bit, or a gap longer than a tick";
            return wrong("nothing says where a word begins", help);
        }
        let (levels, last_edge, word) = (Levels::default(), Tick(0), None);
        Ok(Clocked { config, gap, levels, last_edge, word, rested: false, whole: false })
    }

    fn enabled(&self, levels: Levels) -> bool {
        self.config.enable.is_none_or(|level| levels.level(2) == level)
    }

    fn finish(&mut self, fault: Option<Fault>, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(Word { mut frame, last, taken, data_since, value }) = self.word.take() else {
            return ControlFlow::Continue(());
        };
        let before = u32::from(self.config.start.is_some());
        if fault.is_some() && taken > before && taken < before + self.config.bits {
            let span = data_since..Tick(last.0 + 1);
            frame.fields.push(Field::new(FieldKind::Data, "data", span, value, taken - before));
        }
        let known = fault.as_ref().map_or(0, |fault| fault.at.0);
        frame.end = Tick(known.max(last.0 + 1));
        frame.faults.extend(fault);
        out.frame(frame)
    }

    fn truncated(&self, at: Tick) -> Option<Fault> {
        let taken = self.word.as_ref()?.taken;
        let what = format!("{taken} of {} bits: cut short, or another word length", self.config.all_bits());
        Some(Fault::new("truncated", at, what))
    }

    /// Ends a word after which the clock has rested for too long.
    fn rest(&mut self, now: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(gap) = self.gap.filter(|gap| now.since(self.last_edge) > *gap as i64) else {
            return ControlFlow::Continue(());
        };
        let over = Tick(self.last_edge.0.saturating_add(gap).saturating_add(1));
        // A single clock after whole words is a stop, or a line that turns around, and no word.
        let single = self.word.as_ref().is_some_and(|word| word.taken == 1);
        if std::mem::take(&mut self.whole) && single {
            self.word = None;
        }
        if self.word.is_some() {
            let fault = self.truncated(over);
            self.finish(fault, out)?;
        }
        match std::mem::replace(&mut self.rested, true) {
            true => ControlFlow::Continue(()),
            false => out.mark(BusMark::new("rest", over)),
        }
    }

    /// Takes a bit; whether the word is whole.
    fn take(&mut self, at: Tick, before: Levels) -> bool {
        let level = before.level(1);
        let config = self.config;
        // Between words, a clock edge without a start bit says nothing.
        if self.word.is_none() && config.start.is_some_and(|start| level != start) {
            return false;
        }
        let word = self.word.get_or_insert_with(|| Word {
            frame: Frame::new("word", at..at),
            last: at,
            taken: 0,
            data_since: at,
            value: 0,
        });
        if level == Level::Unknown {
            word.frame.faults.push(Fault::unknown(at));
        } else if level != self.levels.level(1) {
            let what = "data changes with the edge that takes it: the other edge, or too few samples";
            word.frame.faults.push(Fault::new("order", at, what));
        }
        let high = level == Level::High;
        let place = word.taken;
        word.taken += 1;
        word.last = at;
        let first = u32::from(config.start.is_some());
        let after = first + config.bits;
        let next = Tick(at.0 + 1);
        if (first..after).contains(&place) {
            if place == first {
                word.data_since = at;
            }
            word.value = config.order.append(word.value, place - first, u64::from(high), 1);
            if place + 1 == after {
                let span = word.data_since..next;
                word.frame.fields.push(Field::new(FieldKind::Data, "data", span, word.value, config.bits));
            }
        } else if place == after && config.parity != Parity::None {
            let field = Field::new(FieldKind::Check, "parity", at..next, u64::from(high), 1);
            word.frame.fields.push(field);
            let wanted = config.parity.wanted(word.value.count_ones()).unwrap_or(high);
            if high != wanted {
                let (is, should) = (u8::from(high), u8::from(wanted));
                let what = format!("the parity bit is {is} and should be {should}");
                word.frame.faults.push(Fault::new("parity", at, what));
            }
        } else if place > 0 && config.stop.is_some_and(|stop| level != stop) {
            let what = "the stop bit has the other level: a bit was lost, or another word length";
            word.frame.faults.push(Fault::new("stop", at, what));
        }
        word.taken == config.all_bits()
    }
}

impl Decoder for Clocked {
    fn lines(&self) -> usize {
        2 + usize::from(self.config.enable.is_some())
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        (self.levels, self.last_edge, self.word) = (levels, at, None);
        (self.rested, self.whole) = (false, false);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.rest(at, out)?;
        let before = std::mem::replace(&mut self.levels, levels);
        let clock = (before.level(0), levels.level(0));
        if clock.0 != clock.1 {
            self.last_edge = at;
        }
        let takes = if self.config.rising { (Level::Low, Level::High) } else { (Level::High, Level::Low) };
        let enable = u64::from(self.config.enable.is_some()) << 2;
        if clock == takes && !self.enabled(before) {
            out.look(Look::telling(at, enable));
        } else if clock == takes {
            if std::mem::take(&mut self.rested) && self.config.enable.is_none() {
                out.settled(at);
            }
            // A start bit that is not seen shifts what follows.
            let starts = if self.config.start.is_some() { 1 << 1 } else { 0 };
            out.look(Look::taking(at, 1 << 1).shifting(enable | starts));
            let fresh = self.word.is_none();
            let whole = self.take(at, before);
            if fresh && self.word.is_some() {
                out.mark(BusMark::new("begin", at))?;
            }
            if whole {
                self.whole = true;
                self.finish(None, out)?;
            }
        }
        if self.enabled(before) && !self.enabled(levels) {
            let fault = self.truncated(at);
            self.finish(fault, out)?;
            out.mark(BusMark::new("disable", at))?;
        } else if !self.enabled(before) && self.enabled(levels) {
            out.settled(at);
            out.mark(BusMark::new("enable", at))?;
        }
        ControlFlow::Continue(())
    }

    fn due(&self) -> Option<Tick> {
        let gap = self.gap.filter(|_| !self.rested)?;
        Some(Tick(self.last_edge.0.saturating_add(gap)))
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.rest(until, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.rest(at, out)?;
        self.finish(Some(Fault::cut_off(at)), out)
    }
}
