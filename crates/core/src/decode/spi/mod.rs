//! Clocked serial with a select: words shifted out with one clock edge and taken with the other.

mod plain;

use std::ops::ControlFlow;

use crate::bus::{Ahead, BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{BitOrder, Level, Levels};
use crate::quantity::{Rational, Time};
use crate::time::{Tick, TimeBase};

/// How words are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct SpiConfig {
    /// 0 to 3: bit 1 is the level of the clock at rest, bit 0 is set where data is taken with the
    /// second edge after that instead of the first.
    pub mode: u8,
    /// Bits of a word, 1 to 64.
    pub bits: u32,
    /// Which bit of a word comes first.
    pub order: BitOrder,
    /// The select line's level while it is selected, if there is such a line.
    pub select: Option<Level>,
    /// The data lines.
    pub data: SpiData,
    /// Without a select line: how long the clock rests at least between two words that do not follow
    /// each other directly.
    pub gap: Option<Time>,
}

settable!(SpiConfig { mode: u8, bits: u32, order: BitOrder, select: Option<Level>, data: SpiData, gap: Option<Time> });

/// The data lines of clocked serial.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum SpiData {
    /// One from the controller and one to it.
    #[default]
    Both,
    /// Only the one from the controller.
    Mosi,
    /// Only the one to it.
    Miso,
    /// Two that carry bits of one word, two with each clock.
    Dual,
}

impl SpiData {
    /// The roles of the lines, in the decoder's order.
    pub fn roles(self) -> &'static [&'static str] {
        match self {
            SpiData::Both => &["mosi", "miso"],
            SpiData::Mosi => &["mosi"],
            SpiData::Miso => &["miso"],
            SpiData::Dual => &["io1", "io0"],
        }
    }
}

impl SpiConfig {
    /// Words of eight bits, the highest first, in a mode, selected low, with data both ways.
    pub fn new(mode: u8) -> Self {
        SpiConfig {
            mode,
            bits: 8,
            order: BitOrder::HighestFirst,
            select: Some(Level::Low),
            data: SpiData::Both,
            gap: None,
        }
    }
}

/// Decodes clocked serial. Its lines are, as far as they are there: the clock, the select, the line
/// from the controller (`mosi`), and the line to it (`miso`); or, of dual data, the line with the higher
/// and the one with the lower bit.
///
/// Frames are of kind `word`, from the clock edge that takes the first bit to the one that takes the
/// last (or to where a word that is not whole is known to be over), with a field for each data line. Faults are `truncated` (fewer bits than a word has),
/// `order` (data changes with the edge that takes it), `unknown` and `cut-off`.
#[derive(Clone, Debug)]
pub struct Spi {
    config: SpiConfig,
    /// Ticks of the gap.
    gap: u64,
    /// The data lines: which value, its name, which line.
    data: Vec<(usize, &'static str, usize)>,
    levels: Levels,
    /// The clock's last edge, either way.
    last_edge: Tick,
    word: Option<Word>,
    /// Whether the next word is the first one since a selection, or a gap.
    begins: bool,
    /// Whether the clock has rested for long enough since it last took a bit.
    rested: bool,
    /// Whether a whole word was taken since then.
    whole: bool,
}

#[derive(Clone, Debug)]
struct Word {
    start: Tick,
    last: Tick,
    bits: u32,
    values: [u64; 2],
    faults: Vec<Fault>,
}

impl Spi {
    /// The instants of its frames; `select` and `release` need a select line, `rest`, where the gap is over,
    /// there is without one.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample", "select", "release", "rest"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] =
        &["word", "mosi", "miso", "data", "truncated", "order", "spike", "unknown", "cut-off"];

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] for an invalid mode, word length or gap, and when nothing tells where a word
    /// begins.
    pub fn new(config: SpiConfig, base: TimeBase) -> Result<Self> {
        let wrong = |message: &str, help: &str| Err(Error::new(ErrorKind::Range, message).with_help(help));
        if config.mode > 3 || !(1..=64).contains(&config.bits) {
            return wrong(
                "there is no such mode or word length",
                "the mode is 0 to 3, a word has 1 to 64 bits",
            );
        }
        if config.data == SpiData::Dual && !config.bits.is_multiple_of(2) {
            return wrong("two data lines carry two bits with each clock", "give an even number of bits");
        }
        let gap = config.gap.and_then(|gap| base.ticks_in(gap)).map_or(0, Rational::floor);
        let gap = u64::try_from(gap).unwrap_or(0);
        if config.select.is_none() && gap == 0 {
            let help = "give the select line, or a gap longer than a tick after which a word begins";
            return wrong("nothing says where a word begins", help);
        }
        let first = 1 + usize::from(config.select.is_some());
        let lines = config.data.roles().iter().enumerate();
        let data = lines.map(|(place, name)| (place, *name, first + place)).collect();
        let (levels, last_edge, word) = (Levels::default(), Tick(0), None);
        Ok(Spi { config, gap, data, levels, last_edge, word, begins: true, rested: false, whole: false })
    }

    fn select_line(&self) -> Option<usize> {
        self.config.select.map(|_| 1)
    }

    fn selected(&self, levels: Levels) -> bool {
        self.select_line().is_none_or(|line| Some(levels.level(line)) == self.config.select)
    }

    /// The levels before and after the clock's edge that takes data: the rising one in modes 0 and 3, the falling one in
    /// 1 and 2.
    fn taking_edge(&self) -> (Level, Level) {
        let rising = matches!(self.config.mode, 0 | 3);
        if rising { (Level::Low, Level::High) } else { (Level::High, Level::Low) }
    }

    /// Gives the word out, with what is wrong if it is not whole.
    fn finish(&mut self, fault: Option<Fault>, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(mut word) = self.word.take() else { return ControlFlow::Continue(()) };
        let known = fault.as_ref().map_or(0, |fault| fault.at.0);
        let end = Tick(known.max(word.last.0 + 1));
        word.faults.extend(fault);
        let dual = self.config.data == SpiData::Dual;
        let field = |(place, name, _): &(usize, &'static str, usize)| Field {
            name: if dual { "data" } else { name },
            start: word.start,
            end: Tick(word.last.0 + 1),
            value: word.values[*place],
            bits: word.bits,
            kind: FieldKind::Data,
        };
        let fields = self.data.iter().take(if dual { 1 } else { 2 }).map(field).collect();
        let begins = std::mem::replace(&mut self.begins, false);
        let faults = word.faults;
        out.frame(Frame { begins, fields, faults, ..Frame::new("word", word.start..end) })
    }

    fn truncated(&self, at: Tick) -> Option<Fault> {
        let bits = self.word.as_ref()?.bits;
        let what =
            format!("{bits} of {} bits: selected too shortly, or another word length", self.config.bits);
        Some(Fault::new("truncated", at, what))
    }

    /// Ends a word after which the clock has rested for too long.
    fn rest(&mut self, now: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        if self.config.select.is_some() || now.since(self.last_edge) <= self.gap as i64 {
            return ControlFlow::Continue(());
        }
        let rested = Tick(self.last_edge.0.saturating_add(self.gap).saturating_add(1));
        // A single clock after whole words is a stop, or a line that turns around, and no word.
        let single = self.word.as_ref().is_some_and(|word| word.bits == 1);
        if std::mem::take(&mut self.whole) && single {
            self.word = None;
        }
        if self.word.is_some() {
            let fault = self.truncated(rested);
            self.finish(fault, out)?;
        }
        self.begins = true;
        match std::mem::replace(&mut self.rested, true) {
            true => ControlFlow::Continue(()),
            false => out.mark(BusMark::new("rest", rested)),
        }
    }

    /// Tells where it is selected, and where it is not any more.
    fn selects(
        &mut self,
        at: Tick,
        before: Levels,
        levels: Levels,
        out: &mut dyn FrameSink,
    ) -> ControlFlow<()> {
        if self.selected(before) && !self.selected(levels) {
            let fault = self.truncated(at);
            self.finish(fault, out)?;
            self.begins = true;
            out.mark(BusMark::new("release", at))?;
        } else if !self.selected(before) && self.selected(levels) {
            out.settled(at);
            out.mark(BusMark::new("select", at))?;
        }
        ControlFlow::Continue(())
    }

    /// The select line, as a bit among the lines that are looked at.
    fn select_mask(&self) -> u64 {
        u64::from(self.config.select.is_some()) << 1
    }

    /// Takes a bit, and says so.
    fn take(&mut self, at: Tick, before: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        if std::mem::take(&mut self.rested) && self.config.select.is_none() {
            out.settled(at);
        }
        if self.word.is_none() {
            out.mark(BusMark::new("begin", at))?;
        }
        let data = self.data.iter().fold(0, |all, (_, _, line)| all | 1 << line);
        out.look(Look::taking(at, data).shifting(self.select_mask()));
        self.bit(at, before);
        ControlFlow::Continue(())
    }

    fn bit(&mut self, at: Tick, before: Levels) {
        let word = self.word.get_or_insert(Word {
            start: at,
            last: at,
            bits: 0,
            values: [0; 2],
            faults: Vec::new(),
        });
        let (dual, mut pair) = (self.config.data == SpiData::Dual, 0);
        for (place, name, line) in self.data.iter().copied() {
            let level = before.level(line);
            if level == Level::Unknown {
                let what = format!("the level of {name} is not known where a bit is taken");
                word.faults.push(Fault::new("unknown", at, what));
            } else if level != self.levels.level(line) {
                let what =
                    format!("{name} changes with the edge that takes it: another mode, or too few samples");
                word.faults.push(Fault::new("order", at, what));
            }
            let bit = u64::from(level == Level::High);
            pair = pair << 1 | bit;
            if !dual {
                word.values[place] = self.config.order.append(word.values[place], word.bits, bit, 1);
            }
        }
        if dual {
            word.values[0] = self.config.order.append(word.values[0], word.bits, pair, 2);
        }
        word.bits += if dual { 2 } else { 1 };
        word.last = at;
    }
}

impl Decoder for Spi {
    fn lines(&self) -> usize {
        1 + usize::from(self.config.select.is_some()) + self.data.len()
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        (self.levels, self.last_edge, self.word) = (levels, at, None);
        (self.begins, self.rested, self.whole) = (true, false, false);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.rest(at, out)?;
        let before = std::mem::replace(&mut self.levels, levels);
        let clock = (before.level(0), levels.level(0));
        if clock.0 != clock.1 {
            self.last_edge = at;
        }
        let takes = self.taking_edge();
        if clock == takes && !self.selected(before) {
            out.look(Look::telling(at, self.select_mask()));
        } else if clock == takes {
            self.take(at, before, out)?;
            if self.word.as_ref().is_some_and(|word| word.bits == self.config.bits) {
                self.whole = true;
                self.finish(None, out)?;
            }
        }
        self.selects(at, before, levels, out)
    }

    fn due(&self) -> Option<Tick> {
        let waits = self.config.select.is_none() && !self.rested;
        waits.then(|| Tick(self.last_edge.0.saturating_add(self.gap)))
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.rest(until, out)
    }

    fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        self.plain_words(ahead, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.rest(at, out)?;
        self.finish(Some(Fault::cut_off(at)), out)
    }
}
