//! Asynchronous serial: a start bit, data, perhaps a parity bit, stop bits (TIA-232-F for the
//! levels on a cable; the framing has no standard of its own beyond ITU-T V.4).

mod bits;
mod plain;

use std::fmt;
use std::ops::ControlFlow;

use self::bits::Bits;
use super::pace::Pace;
use crate::bus::{Ahead, BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{BitOrder, Level, Levels};
use crate::quantity::{Frequency, Rational};
use crate::time::{Tick, TimeBase};

/// The parity bit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Parity {
    /// There is none.
    #[default]
    None,
    /// With it, the number of ones is even.
    Even,
    /// With it, the number of ones is odd.
    Odd,
    /// Always one.
    Mark,
    /// Always zero.
    Space,
}

impl fmt::Display for Parity {
    /// As a setup has it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Parity::None => "none",
            Parity::Even => "even",
            Parity::Odd => "odd",
            Parity::Mark => "mark",
            Parity::Space => "space",
        })
    }
}

impl Parity {
    /// The bit that belongs to so many ones; `None` without a parity bit.
    pub(super) fn wanted(self, ones: u32) -> Option<bool> {
        match self {
            Parity::None => None,
            Parity::Even => Some(ones % 2 == 1),
            Parity::Odd => Some(ones.is_multiple_of(2)),
            Parity::Mark => Some(true),
            Parity::Space => Some(false),
        }
    }
}

/// How long the line rests at least after a byte.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum StopBits {
    /// One bit.
    #[default]
    One,
    /// One and a half.
    OneAndHalf,
    /// Two.
    Two,
}

impl StopBits {
    /// Half bits.
    fn halves(self) -> u32 {
        match self {
            StopBits::One => 2,
            StopBits::OneAndHalf => 3,
            StopBits::Two => 4,
        }
    }
}

/// How bytes are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct UartConfig {
    /// Bits per second; `None` where it is to be measured in a record first
    /// ([`diagnose::settle`](crate::diagnose::settle)).
    pub bit_rate: Option<Frequency>,
    /// Data bits, 5 to 9.
    pub data_bits: u32,
    /// The parity bit.
    pub parity: Parity,
    /// The stop bits.
    pub stop_bits: StopBits,
    /// Whether the line rests low, as behind a level converter it does not, but on the cable.
    pub inverted: bool,
    /// Which bit of a byte comes first.
    pub order: BitOrder,
}

settable!(UartConfig { bit_rate: Option<Frequency>, data_bits: u32, parity: Parity, stop_bits: StopBits, inverted: bool, order: BitOrder });

impl UartConfig {
    /// Eight data bits, the lowest first, no parity, one stop bit, at this many bits per second.
    pub fn new(bit_rate: Frequency) -> Self {
        UartConfig {
            bit_rate: Some(bit_rate),
            data_bits: 8,
            parity: Parity::None,
            stop_bits: StopBits::One,
            inverted: false,
            order: BitOrder::LowestFirst,
        }
    }
}

/// Decodes one direction of asynchronous serial.
///
/// A bit is taken in its middle, counted from the falling edge of its start bit. Frames are of kind
/// `byte` with the fields `data` and `parity`; `break` where the line stays at the level of a start
/// bit for a whole byte and its stop bit; `noise` where a start bit is over before its middle; and
/// `cut-off` where the record ends within a byte. Faults are `framing`, `parity`, `drift` (an edge lies too
/// far from where a bit ends) and `unknown`.
#[derive(Clone, Debug)]
pub struct Uart {
    config: UartConfig,
    /// In half bits.
    halves: Pace,
    /// A bit in thousandths of a tick.
    bit: u64,
    level: Level,
    /// The last edge.
    since: Tick,
    state: State,
    /// The bits of a byte that can be read at once.
    plain: Option<Bits>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum State {
    /// The line rests; a change to the other level is a start bit.
    Resting,
    /// Within a byte.
    Byte(Byte),
    /// All of a byte and its stop bit were at the level of a start bit.
    Break(Tick),
    /// Something was wrong: the line must rest before the next start bit.
    Waiting,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Byte {
    start: Tick,
    /// Bits taken so far, the start bit included.
    taken: u32,
    data: u64,
    ones: u32,
    parity: Option<bool>,
    /// Whether any bit was at the resting level.
    rested: bool,
    faults: Vec<Fault>,
}

impl Uart {
    /// The instants of its frames: `begin` is the edge of a start bit.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] = &[
        "byte",
        "break",
        "noise",
        "cut-off",
        "data",
        "parity",
        "framing",
        "drift",
        "false-start",
        "spike",
        "unknown",
    ];

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] when there are fewer than three samples per bit, with the rate that is
    /// needed, the data bits are not 5 to 9, or the bit rate is to be measured first.
    pub fn new(config: UartConfig, base: TimeBase) -> Result<Self> {
        if !(5..=9).contains(&config.data_bits) {
            let message = format!("a byte of {} data bits cannot be sent", config.data_bits);
            return Err(Error::new(ErrorKind::Range, message).with_help("give 5 to 9 data bits"));
        }
        // A byte has 12 bits at the most, and two stop bits.
        let Some(bit_rate) = config.bit_rate else {
            let error = Error::new(ErrorKind::Range, "the bit rate is not known");
            let help =
                "state it; 'auto' measures it in a record with twenty edges or more, not for a trigger";
            return Err(error.with_help(help));
        };
        let halves = Pace::new(bit_rate, base, 2, 32)?;
        let bit = base.rate().to_rational().checked_div(bit_rate.to_rational());
        let bit = bit.and_then(|bit| bit.checked_mul(Rational::from(1000))).map_or(0, Rational::floor);
        let bit = u64::try_from(bit).unwrap_or(u64::MAX).max(1);
        let (level, since, state) = (Level::Unknown, Tick(0), State::Waiting);
        let mut uart = Uart { config, halves, bit, level, since, state, plain: None };
        uart.plain = Some(uart.plain_bits());
        Ok(uart)
    }

    fn rests(&self, level: Level) -> bool {
        level == if self.config.inverted { Level::Low } else { Level::High }
    }

    fn is_start(&self, level: Level) -> bool {
        level == if self.config.inverted { Level::High } else { Level::Low }
    }

    /// The tick so many half bits after another.
    fn after(&self, start: Tick, halves: u32) -> Tick {
        Tick(start.0.saturating_add(self.halves.ticks(halves)))
    }

    /// Notes an edge within a byte that lies too far from where bits end: at more than a third of a
    /// bit, wherever within its tick it was.
    fn drift(&mut self, at: Tick) {
        let bit = self.bit;
        let State::Byte(byte) = &mut self.state else { return };
        // A bit has three ticks at least. What is past its end, and was a tick before.
        let late = at.0.saturating_sub(byte.start.0).saturating_mul(1000) % bit;
        let (early, contains_end) = match late.checked_sub(1000) {
            Some(early) => (early, false),
            None => ((late + bit).saturating_sub(1000), true),
        };
        let beside = |past: u64| past.min(bit - past);
        let off = beside(late).min(beside(early));
        if !contains_end && off > bit / 3 && byte.faults.iter().all(|fault| fault.kind != "drift") {
            let what = format!(
                "an edge lies {} % of a bit off: another bit rate, or a sender whose clock is off",
                off * 100 / bit
            );
            byte.faults.push(Fault::new("drift", at, what));
        }
    }

    /// Bits of a byte, its first stop bit included.
    fn bits(&self) -> u32 {
        1 + self.config.data_bits + u32::from(self.config.parity != Parity::None) + 1
    }

    /// Ticks beside the middle of a bit within which an edge leaves open what was read, from a sender that
    /// is off by 6 % at most: by so much its edges may have wandered past the middle of the last bit.
    fn room(&self) -> u64 {
        let beyond = (u64::from(self.bits()) * 6).saturating_sub(50);
        1 + self.bit.saturating_mul(beyond) / 100_000
    }

    /// The tick in the middle of a bit.
    fn middle(&self, start: Tick, bit: u32) -> Tick {
        self.after(start, 2 * bit + 1)
    }

    /// Where the level of a bit is looked at: in its middle. The last bits are where a sender's edges have wandered
    /// farthest, to either side; of these, the middle may lie nearer to the tick after the one at which they are taken.
    fn looks(&self, start: Tick, bit: u32) -> impl Iterator<Item = Tick> + use<> {
        let middle = self.middle(start, bit);
        let late = || self.bit.saturating_mul(u64::from(2 * bit + 1)) / 2 % 1000 >= 500;
        let second = bit + 3 > self.bits() && late();
        [Some(middle), second.then(|| Tick(middle.0.saturating_add(1)))].into_iter().flatten()
    }

    /// Whether nothing but a start bit can follow: the line has rested for longer than it does before an
    /// edge within a byte, which is all data bits but one, and the parity bit.
    fn has_rested(&self, now: Tick) -> bool {
        now.since(self.since) >= self.halves.ticks(2 * (self.bits() - 2)) as i64
    }

    /// Takes all bits whose middle lies before a tick; the level did not change meanwhile.
    fn take(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let (level, rests, last) = (self.level, self.rests(self.level), self.bits() - 1);
        let room = self.room();
        while let State::Byte(byte) = &self.state {
            let middle = self.middle(byte.start, byte.taken);
            if middle >= until {
                break;
            }
            let looks = self.looks(byte.start, byte.taken);
            looks.for_each(|at| out.look(Look::taking(at, 0).shifting(1).room(room)));
            let State::Byte(byte) = &mut self.state else { break };
            let next = byte.bit(&self.config, level, rests, last, middle);
            if next == Next::More {
                continue;
            }
            let state = if next == Next::Faulty { State::Waiting } else { State::Resting };
            let State::Byte(byte) = std::mem::replace(&mut self.state, state) else { break };
            match next {
                Next::Broken => self.state = State::Break(byte.start),
                Next::Noise => {
                    let what = "the start bit is over before its middle: noise, or a much faster sender";
                    let mut frame = Frame::new("noise", byte.start..middle);
                    frame.faults.push(Fault::new("false-start", byte.start, what));
                    out.frame(frame)?;
                }
                _ => out.frame(self.frame(byte))?,
            }
        }
        ControlFlow::Continue(())
    }

    fn frame(&self, byte: Byte) -> Frame {
        let at = |bit: u32| self.after(byte.start, 2 * bit);
        let data_end = at(1 + self.config.data_bits);
        let data = Field::new(FieldKind::Data, "data", at(1)..data_end, byte.data, self.config.data_bits);
        let parity_span = data_end..at(2 + self.config.data_bits);
        let parity =
            byte.parity.map(|bit| Field::new(FieldKind::Check, "parity", parity_span, u64::from(bit), 1));
        let end = self.after(byte.start, 2 * (self.bits() - 1) + self.config.stop_bits.halves());
        let mut fields = Vec::with_capacity(1 + usize::from(parity.is_some()));
        fields.push(data);
        fields.extend(parity);
        Frame { fields, faults: byte.faults, ..Frame::new("byte", byte.start..end) }
    }
}

/// What comes after a bit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Next {
    /// Another bit.
    More,
    /// The byte is whole.
    Whole,
    /// The byte has no stop bit.
    Faulty,
    /// Nothing of it was at the resting level.
    Broken,
    /// There was no start bit.
    Noise,
}

impl Byte {
    /// Takes a bit; the one numbered `last` is the first stop bit.
    fn bit(&mut self, config: &UartConfig, level: Level, rests: bool, last: u32, middle: Tick) -> Next {
        let place = self.taken;
        self.taken += 1;
        self.rested |= rests;
        if level == Level::Unknown {
            self.faults.push(Fault::unknown(middle));
        }
        if place == 0 {
            return if rests { Next::Noise } else { Next::More };
        }
        if place <= config.data_bits {
            self.data = config.order.append(self.data, place - 1, u64::from(rests), 1);
            self.ones += u32::from(rests);
            return Next::More;
        }
        if place < last {
            self.parity = Some(rests);
            let wanted = config.parity.wanted(self.ones).unwrap_or(rests);
            if rests != wanted {
                let (is, should) = (u8::from(rests), u8::from(wanted));
                let what = format!(
                    "the parity bit is {is} and should be {should}: a bit is wrong, or the parity is another"
                );
                self.faults.push(Fault::new("parity", middle, what));
            }
            return Next::More;
        }
        if !rests {
            if !self.rested {
                return Next::Broken;
            }
            let what = "the stop bit is not there: another bit rate, another format, or a wrong start";
            self.faults.push(Fault::new("framing", middle, what));
            return Next::Faulty;
        }
        // With two stop bits, the second one is looked at, too.
        if place < last + u32::from(config.stop_bits == StopBits::Two) { Next::More } else { Next::Whole }
    }
}

impl Decoder for Uart {
    fn lines(&self) -> usize {
        1
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        (self.level, self.since) = (levels.level(0), at);
        self.state = if self.rests(self.level) { State::Resting } else { State::Waiting };
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(at, out)?;
        self.drift(at);
        let rested = self.has_rested(at);
        let since = std::mem::replace(&mut self.since, at);
        let before = std::mem::replace(&mut self.level, levels.level(0));
        match &self.state {
            State::Resting if self.rests(before) && self.is_start(self.level) => {
                self.state = State::Byte(Byte {
                    start: at,
                    taken: 0,
                    data: 0,
                    ones: 0,
                    parity: None,
                    rested: false,
                    faults: Vec::new(),
                });
                if rested {
                    out.settled(at);
                }
                out.mark(BusMark::new("begin", at))?;
            }
            State::Break(start) if self.rests(self.level) => {
                let frame = Frame::new("break", *start..at);
                self.state = State::Resting;
                out.frame(frame)?;
            }
            State::Waiting if self.rests(self.level) => {
                self.state = State::Resting;
                // Whatever came before, so long a stretch is a break.
                if self.is_start(before) && at.since(since) > self.halves.ticks(2 * self.bits() - 1) as i64 {
                    out.frame(Frame::new("break", since..at))?;
                }
            }
            State::Resting if !self.rests(self.level) => self.state = State::Waiting,
            _ => {}
        }
        ControlFlow::Continue(())
    }

    fn due(&self) -> Option<Tick> {
        match &self.state {
            State::Byte(byte) => Some(self.after(byte.start, 2 * byte.taken + 1)),
            State::Resting | State::Break(_) | State::Waiting => None,
        }
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(until, out)
    }

    fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        self.plain_bytes(ahead, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(at, out)?;
        let start = match std::mem::replace(&mut self.state, State::Waiting) {
            State::Byte(byte) => byte.start,
            State::Break(start) => start,
            State::Resting | State::Waiting => return ControlFlow::Continue(()),
        };
        let mut frame = Frame::new("cut-off", start..at);
        frame.faults.push(Fault::cut_off(at));
        out.frame(frame)
    }
}
