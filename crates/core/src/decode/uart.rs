//! Asynchronous serial: a start bit, data, perhaps a parity bit, stop bits (TIA-232-F for the
//! levels on a cable; the framing has no standard of its own beyond ITU-T V.4).

use std::ops::ControlFlow;

use super::{Decoder, Fault, Field, FieldKind, Frame, FrameSink, Levels};
use crate::error::{Error, ErrorKind, Result};
use crate::line::Level;
use crate::time::{Frequency, Rate, Rational, Tick, TimeBase};

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
pub struct UartConfig {
    /// Bits per second.
    pub bit_rate: Frequency,
    /// Data bits, 5 to 9.
    pub data_bits: u32,
    /// The parity bit.
    pub parity: Parity,
    /// The stop bits.
    pub stop_bits: StopBits,
    /// Whether the line rests low, as behind a level converter it does not, but on the cable.
    pub inverted: bool,
    /// Whether the highest data bit comes first.
    pub highest_first: bool,
}

impl UartConfig {
    /// Eight data bits, the lowest first, no parity, one stop bit, at this many bits per second.
    pub fn new(bit_rate: Frequency) -> Self {
        UartConfig {
            bit_rate,
            data_bits: 8,
            parity: Parity::None,
            stop_bits: StopBits::One,
            inverted: false,
            highest_first: false,
        }
    }
}

/// Fewest samples per bit: below, the middle of a bit cannot be told from its edges.
const FEWEST_SAMPLES: i64 = 3;

/// Decodes one direction of asynchronous serial.
///
/// A bit is taken in its middle, counted from the falling edge of its start bit. Frames are of kind
/// `byte` with the fields `data` and `parity`; `break` where the line stays at the level of a start
/// bit for a whole byte and its stop bit; `noise` where a start bit is over before its middle; and
/// `cut-off` where the record ends within a byte. Faults are `framing`, `parity` and `unknown`.
#[derive(Clone, Debug)]
pub struct Uart {
    config: UartConfig,
    /// Ticks per half bit.
    half: Rational,
    level: Level,
    state: State,
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
    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] when there are fewer than three samples per bit, with the rate that is
    /// needed, or the data bits are not 5 to 9.
    pub fn new(config: UartConfig, base: TimeBase) -> Result<Self> {
        if !(5..=9).contains(&config.data_bits) {
            let message = format!("a byte of {} data bits cannot be sent", config.data_bits);
            return Err(Error::new(ErrorKind::Range, message).with_help("give 5 to 9 data bits"));
        }
        let rate = config.bit_rate.to_rational();
        let samples = base.rate().to_rational().checked_div(rate).filter(|_| rate > Rational::ZERO);
        let half = samples.and_then(|samples| samples.checked_mul(Rational::new(1, 2)?));
        let (Some(samples), Some(half)) = (samples, half) else {
            let error = Error::new(ErrorKind::Range, format!("{} is no bit rate", config.bit_rate));
            return Err(error.with_help("give bits per second above zero, such as '115.2 kHz'"));
        };
        if samples < Rational::from(FEWEST_SAMPLES) {
            let needed = rate.checked_mul(Rational::from(FEWEST_SAMPLES)).map(Rate::from_rational);
            let needed = needed.map_or("a faster rate".to_string(), |rate| format!("{rate} or more"));
            let message =
                format!("{:.1} samples per bit are too few to decode {}", samples.to_f64(), config.bit_rate);
            return Err(Error::new(ErrorKind::Range, message).with_help(format!("record at {needed}")));
        }
        Ok(Uart { config, half, level: Level::Unknown, state: State::Waiting })
    }

    fn rests(&self, level: Level) -> bool {
        level == if self.config.inverted { Level::Low } else { Level::High }
    }

    fn is_start(&self, level: Level) -> bool {
        level == if self.config.inverted { Level::High } else { Level::Low }
    }

    /// The tick so many half bits after another.
    fn after(&self, start: Tick, halves: u32) -> Tick {
        let ticks =
            self.half.checked_mul(Rational::from(i64::from(halves))).map_or(i128::MAX, Rational::floor);
        Tick(start.0.saturating_add(u64::try_from(ticks).unwrap_or(u64::MAX)))
    }

    /// Bits of a byte, its first stop bit included.
    fn bits(&self) -> u32 {
        1 + self.config.data_bits + u32::from(self.config.parity != Parity::None) + 1
    }

    /// Takes all bits whose middle lies before a tick; the level did not change meanwhile.
    fn take(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        while let State::Byte(byte) = &self.state {
            let last = self.bits() - 1;
            // With two stop bits, the second one is looked at, too.
            let more = u32::from(self.config.stop_bits == StopBits::Two);
            if byte.taken > last + more {
                break;
            }
            let middle = self.after(byte.start, 2 * byte.taken + 1);
            if middle >= until {
                break;
            }
            let State::Byte(byte) = std::mem::replace(&mut self.state, State::Resting) else { break };
            self.state = self.bit(byte, middle, out)?;
        }
        ControlFlow::Continue(())
    }

    /// Takes one bit.
    fn bit(&self, mut byte: Byte, middle: Tick, out: &mut dyn FrameSink) -> ControlFlow<(), State> {
        let rests = self.rests(self.level);
        let (place, data_bits) = (byte.taken, self.config.data_bits);
        byte.taken += 1;
        byte.rested |= rests;
        if self.level == Level::Unknown {
            let what = "the level is not known where a bit is taken".to_string();
            byte.faults.push(Fault { kind: "unknown", at: middle, what });
        }
        let first_stop = self.bits() - 1;
        if place == 0 {
            if rests {
                let what =
                    "the start bit is over before its middle: noise, or a much faster sender".to_string();
                let faults = vec![Fault { kind: "false-start", at: byte.start, what }];
                let noise =
                    Frame { kind: "noise", start: byte.start, end: middle, fields: Vec::new(), faults };
                out.frame(noise)?;
                return ControlFlow::Continue(State::Resting);
            }
        } else if place <= data_bits {
            let shift = if self.config.highest_first { data_bits - place } else { place - 1 };
            byte.data |= u64::from(rests) << shift;
            byte.ones += u32::from(rests);
        } else if place < first_stop {
            byte.parity = Some(rests);
            let odd = byte.ones % 2 == 1;
            let wanted = match self.config.parity {
                Parity::None => rests,
                Parity::Even => odd,
                Parity::Odd => !odd,
                Parity::Mark => true,
                Parity::Space => false,
            };
            if rests != wanted {
                let (is, should) = (u8::from(rests), u8::from(wanted));
                let what = format!(
                    "the parity bit is {is} and should be {should}: a bit is wrong, or the parity is another"
                );
                byte.faults.push(Fault { kind: "parity", at: middle, what });
            }
        } else if !rests {
            if !byte.rested {
                return ControlFlow::Continue(State::Break(byte.start));
            }
            let what =
                "the stop bit is not there: another bit rate, another format, or a wrong start".to_string();
            byte.faults.push(Fault { kind: "framing", at: middle, what });
            out.frame(self.frame(byte))?;
            return ControlFlow::Continue(State::Waiting);
        } else if place == first_stop + u32::from(self.config.stop_bits == StopBits::Two) {
            out.frame(self.frame(byte))?;
            return ControlFlow::Continue(State::Resting);
        }
        ControlFlow::Continue(State::Byte(byte))
    }

    fn frame(&self, byte: Byte) -> Frame {
        let at = |bit: u32| self.after(byte.start, 2 * bit);
        let data_end = at(1 + self.config.data_bits);
        let data = Field {
            name: "data",
            start: at(1),
            end: data_end,
            value: byte.data,
            bits: self.config.data_bits,
            kind: FieldKind::Data,
        };
        let parity = byte.parity.map(|bit| Field {
            name: "parity",
            start: data_end,
            end: at(2 + self.config.data_bits),
            value: u64::from(bit),
            bits: 1,
            kind: FieldKind::Check,
        });
        let end = self.after(byte.start, 2 * (self.bits() - 1) + self.config.stop_bits.halves());
        let fields = std::iter::once(data).chain(parity).collect();
        Frame { kind: "byte", start: byte.start, end, fields, faults: byte.faults }
    }
}

impl Decoder for Uart {
    fn lines(&self) -> usize {
        1
    }

    fn begin(&mut self, _: Tick, levels: Levels) {
        self.level = levels.level(0);
        self.state = if self.rests(self.level) { State::Resting } else { State::Waiting };
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(at, out)?;
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
            }
            State::Break(start) if self.rests(self.level) => {
                let frame =
                    Frame { kind: "break", start: *start, end: at, fields: Vec::new(), faults: Vec::new() };
                self.state = State::Resting;
                out.frame(frame)?;
            }
            State::Waiting if self.rests(self.level) => self.state = State::Resting,
            State::Resting if !self.rests(self.level) => self.state = State::Waiting,
            _ => {}
        }
        ControlFlow::Continue(())
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(until, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(at, out)?;
        let start = match std::mem::replace(&mut self.state, State::Waiting) {
            State::Byte(byte) => byte.start,
            State::Break(start) => start,
            State::Resting | State::Waiting => return ControlFlow::Continue(()),
        };
        let what = "the record ends within it".to_string();
        let faults = vec![Fault { kind: "cut-off", at, what }];
        out.frame(Frame { kind: "cut-off", start, end: at, fields: Vec::new(), faults })
    }
}
