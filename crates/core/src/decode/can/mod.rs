//! The controller area network: classical and flexible data-rate frames (ISO 11898-1, clause 10).

mod frame;

use std::ops::{ControlFlow, Range};

use self::frame::{Next, Open, Part};
use super::pace::Pace;
use crate::bus::{BusMark, Decoder, Fault, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Level, Levels};
use crate::quantity::{Frequency, Percent, Rational};
use crate::time::{Tick, TimeBase};

/// How bits are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct CanConfig {
    /// Bits per second.
    pub bit_rate: Frequency,
    /// Where in a bit it is taken, from its beginning; 10 % to 90 %.
    pub sample_point: Percent,
    /// Whether dominant is high, as on one wire of the cable; behind a transceiver it is low.
    pub inverted: bool,
    /// Bits per second of the data of flexible data-rate frames that switch to another rate.
    pub data_bit_rate: Option<Frequency>,
}

settable!(CanConfig { bit_rate: Frequency, sample_point: Percent, inverted: bool, data_bit_rate: Option<Frequency> });

impl CanConfig {
    /// Dominant low, taken at three quarters of a bit.
    pub fn new(bit_rate: Frequency) -> Self {
        let sample_point = Percent::from_fraction(Rational::new(3, 4).unwrap_or(Rational::ZERO));
        CanConfig { bit_rate, sample_point, inverted: false, data_bit_rate: None }
    }
}

/// Shares of a bit that instants are counted in.
const SHARES: i64 = 100;
/// Bits that are counted from one edge: beyond, the bus is idle.
const MOST_BITS: u32 = 24;
/// Recessive bits after which the bus is idle (10.5.1).
const IDLE_BITS: u32 = 11;

/// Decodes a controller area network from the line between a transceiver and its controller.
///
/// Frames are `data` and `remote`, each with the fields `identifier` (11 or 29 bits), `length`,
/// `data` for each byte, `crc` and `ack`; `error` for an error flag and its delimiter; `overload`; and
/// `fd` for a frame of the flexible data-rate format with the same fields, where `length` is the number of bytes. Of one
/// that switches to a data bit rate which is not stated, no more than the identifier is read: its fault is
/// `format`. Other faults are `stuff` (six bits of one level), `crc`, `form` (a bit with a fixed level has the other
/// one), `no-ack`, `unknown` and `cut-off`. The bus is read from the first eleven recessive bits on.
#[derive(Clone, Debug)]
pub struct Can {
    inverted: bool,
    pace: Pace,
    /// Of the data of flexible data-rate frames, and whether bits come at it now.
    fast: Option<Pace>,
    is_fast: bool,
    sample_point: u32,
    level: Level,
    /// The edge that bits are counted from, or where the rate changed and the shares of a bit to its end from
    /// there; and how many have been taken since.
    anchor: Tick,
    offset: u32,
    taken: u32,
    /// The last edge, either way.
    since: Tick,
    state: State,
}

#[derive(Clone, Debug)]
enum State {
    /// Waits for the bus to be idle: recessive bits so far.
    Joining(u32),
    Idle,
    Frame(Box<Open>),
    /// Between frames: bits so far (10.4.6).
    Intermission(u32),
    /// A flag of dominant bits and a delimiter of recessive ones: which, since when, bits of the
    /// delimiter.
    Flag(&'static str, Tick, u32),
}

impl Can {
    /// The instants of its frames: `begin` is the edge with which one starts.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] = &[
        "data",
        "remote",
        "error",
        "overload",
        "fd",
        "identifier",
        "length",
        "crc",
        "ack",
        "no-ack",
        "stuff",
        "form",
        "format",
        "spike",
        "unknown",
        "cut-off",
    ];

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] when there are fewer than three samples per bit, with the rate that is
    /// needed, or the sample point is none.
    pub fn new(config: CanConfig, base: TimeBase) -> Result<Self> {
        let point = config.sample_point.to_fraction().checked_mul(Rational::from(SHARES));
        let point = point.and_then(|point| u32::try_from(point.floor()).ok()).unwrap_or(0);
        if !(10..=90).contains(&point) {
            let message = format!("a bit cannot be taken at {} of its length", config.sample_point);
            return Err(Error::new(ErrorKind::Range, message).with_help("give 10 % to 90 %, usually 75 %"));
        }
        let pace = |rate| Pace::new(rate, base, SHARES, SHARES * i64::from(MOST_BITS + 2));
        let fast = config.data_bit_rate.map(pace).transpose()?;
        let pace = pace(config.bit_rate)?;
        Ok(Can {
            inverted: config.inverted,
            pace,
            fast,
            is_fast: false,
            sample_point: point,
            level: Level::Unknown,
            anchor: Tick(0),
            offset: 0,
            taken: 0,
            since: Tick(0),
            state: State::Joining(0),
        })
    }

    /// The present pace.
    fn pace(&self) -> &Pace {
        self.fast.as_ref().filter(|_| self.is_fast).unwrap_or(&self.pace)
    }

    /// The tick so many whole bits and shares of one after the edge.
    fn after(&self, bits: u32, shares: u32) -> Tick {
        Tick(self.anchor.0.saturating_add(self.pace().ticks(self.offset + bits * SHARES as u32 + shares)))
    }

    /// From the place where a bit was taken on, the rest of it and what follows comes at the rate that the frame
    /// says (ISO 11898-1:2015, 11.3.1).
    fn switch(&mut self, at: Tick) {
        let is_fast = matches!(&self.state, State::Frame(open) if open.fast);
        if is_fast != self.is_fast {
            (self.is_fast, self.anchor, self.taken) = (is_fast, at, 0);
            self.offset = SHARES as u32 - self.sample_point;
        }
    }

    fn recessive(&self, level: Level) -> bool {
        level == if self.inverted { Level::Low } else { Level::High }
    }

    fn dominant(&self, level: Level) -> bool {
        level == if self.inverted { Level::High } else { Level::Low }
    }

    /// Takes all bits whose sample point lies before a tick; the level did not change meanwhile.
    fn take(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        while !matches!(self.state, State::Idle) && self.taken < MOST_BITS {
            let at = self.after(self.taken, self.sample_point);
            if at >= until {
                break;
            }
            let span = self.after(self.taken, 0)..self.after(self.taken + 1, 0);
            self.taken += 1;
            // A hundredth of each bit since the edge, and a tick: what clocks may be off by.
            let room = 1 + self.pace().ticks(self.offset + self.taken * SHARES as u32) / 100;
            out.look(Look::taking(at, 0).shifting(1).room(room));
            let told = self.bit(at, span, out);
            self.switch(at);
            told?;
        }
        ControlFlow::Continue(())
    }

    fn bit(&mut self, at: Tick, span: Range<Tick>, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let recessive = self.recessive(self.level);
        match &mut self.state {
            State::Idle => {}
            State::Joining(bits) => {
                *bits = if recessive { *bits + 1 } else { 0 };
                if *bits >= IDLE_BITS {
                    out.settled(at);
                    self.state = State::Idle;
                }
            }
            State::Intermission(bits) => {
                *bits += 1;
                if !recessive && *bits < 3 {
                    self.state = State::Flag("overload", span.start, 0);
                } else if !recessive {
                    // A third dominant bit starts the next frame.
                    let mut open = Open::new(span.start, self.fast.is_some());
                    let _ = open.bit(false, &span);
                    self.state = State::Frame(Box::new(open));
                    out.mark(BusMark::new("begin", at))?;
                } else if *bits == 3 {
                    self.state = State::Idle;
                }
            }
            State::Flag(kind, start, bits) => {
                *bits = if recessive { *bits + 1 } else { 0 };
                if *bits == 8 {
                    let mut frame = Frame::new(kind, *start..span.end);
                    if *kind == "error" {
                        let what = "a node says that the frame before is wrong";
                        frame.faults.push(Fault::new("error", frame.start, what));
                    }
                    self.state = State::Intermission(0);
                    out.frame(frame)?;
                }
            }
            // A spike, no start.
            State::Frame(open) if open.part == Part::Start && recessive => self.state = State::Idle,
            State::Frame(open) => {
                if self.level == Level::Unknown {
                    open.frame.faults.push(Fault::unknown(at));
                }
                let next = open.bit(recessive, &span);
                let state = match next {
                    Next::More => return ControlFlow::Continue(()),
                    Next::Whole => State::Intermission(0),
                    Next::Other => State::Joining(0),
                    Next::Broken(fault) => {
                        open.frame.faults.push(fault);
                        State::Flag("error", span.end, 0)
                    }
                };
                if let State::Frame(open) = std::mem::replace(&mut self.state, state) {
                    out.frame(Frame { end: span.end, ..open.frame })?;
                }
            }
        }
        ControlFlow::Continue(())
    }
}

impl Decoder for Can {
    fn lines(&self) -> usize {
        1
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        (self.level, self.anchor, self.taken, self.state) = (levels.level(0), at, 0, State::Joining(0));
        (self.since, self.offset, self.is_fast) = (at, 0, false);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(at, out)?;
        let before = std::mem::replace(&mut self.level, levels.level(0));
        let rested = at.since(std::mem::replace(&mut self.since, at));
        if self.recessive(before) && self.dominant(self.level) {
            // All nodes count from here (10.4.2.7): the next bit begins with the edge.
            (self.anchor, self.offset, self.taken) = (at, 0, 0);
            if matches!(self.state, State::Idle) {
                if rested >= self.pace.ticks(IDLE_BITS * SHARES as u32 - 50) as i64 {
                    out.settled(at);
                }
                out.mark(BusMark::new("begin", at))?;
                self.state = State::Frame(Box::new(Open::new(at, self.fast.is_some())));
            }
        } else if !self.dominant(self.level) && self.taken >= MOST_BITS {
            // The line was stuck; there is nothing to count from but this edge.
            (self.anchor, self.offset, self.taken) = (at, 0, 0);
        }
        ControlFlow::Continue(())
    }

    fn due(&self) -> Option<Tick> {
        let counts = !matches!(self.state, State::Idle) && self.taken < MOST_BITS;
        counts.then(|| self.after(self.taken, self.sample_point))
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(until, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(at, out)?;
        let frame = match std::mem::replace(&mut self.state, State::Joining(0)) {
            State::Frame(open) => open.frame,
            State::Flag(kind, start, _) => Frame::new(kind, start..at),
            State::Joining(_) | State::Idle | State::Intermission(_) => return ControlFlow::Continue(()),
        };
        let mut faults = frame.faults;
        faults.push(Fault::cut_off(at));
        out.frame(Frame { end: at, faults, ..frame })
    }
}
