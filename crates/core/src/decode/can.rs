//! The controller area network, classical frames (ISO 11898-1, clause 10).

use std::ops::{ControlFlow, Range};

use super::pace::Pace;
use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
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
}

settable!(CanConfig { bit_rate: Frequency, sample_point: Percent, inverted: bool });

impl CanConfig {
    /// Dominant low, taken at three quarters of a bit.
    pub fn new(bit_rate: Frequency) -> Self {
        let sample_point = Percent::from_fraction(Rational::new(3, 4).unwrap_or(Rational::ZERO));
        CanConfig { bit_rate, sample_point, inverted: false }
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
/// `fd` for a frame of the flexible data-rate format, of which no more than the identifier is read (its
/// fault is `format`). Other faults are `stuff` (six bits of one level), `crc`, `form` (a bit with a fixed level has the other
/// one), `no-ack`, `unknown` and `cut-off`. The bus is read from the first eleven recessive bits on.
#[derive(Clone, Debug)]
pub struct Can {
    inverted: bool,
    pace: Pace,
    sample_point: u32,
    level: Level,
    /// The edge that bits are counted from, and how many have been taken since.
    anchor: Tick,
    taken: u32,
    /// The last edge, either way.
    since: Tick,
    /// Ticks beside a sample point within which an edge leaves open what was read.
    room: u64,
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

/// What the next bits of a frame are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Part {
    Start,
    Identifier,
    /// Remote request or its substitute, identifier extension, and what comes before the length.
    Control,
    Length,
    Data,
    Crc,
    /// Delimiter, acknowledge, delimiter, and seven bits of end, counted.
    Tail(u32),
}

#[derive(Clone, Debug)]
struct Open {
    frame: Frame,
    part: Part,
    /// Bits of the present part, without stuff bits: their number, value, and where they began.
    bits: u32,
    value: u64,
    since: Tick,
    /// The last level on the wire, and how often in a row.
    run: (bool, u32),
    identifier: u64,
    identifier_span: Range<Tick>,
    extended: bool,
    remote: bool,
    left: u32,
    crc: u16,
}

/// What comes after a bit.
enum Next {
    More,
    /// The frame is over, in order.
    Whole,
    /// It is not; an error flag follows.
    Broken(Fault),
    /// The rest is of another format.
    Other,
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
        let pace = Pace::new(config.bit_rate, base, SHARES, SHARES * i64::from(MOST_BITS + 1))?;
        // A tenth of a bit, and a tick: what ten bits between two edges may be off by.
        let room = 1 + pace.ticks(SHARES as u32) / 10;
        Ok(Can {
            inverted: config.inverted,
            pace,
            sample_point: point,
            level: Level::Unknown,
            anchor: Tick(0),
            taken: 0,
            since: Tick(0),
            room,
            state: State::Joining(0),
        })
    }

    /// The tick so many whole bits and shares of one after the edge.
    fn after(&self, bits: u32, shares: u32) -> Tick {
        Tick(self.anchor.0.saturating_add(self.pace.ticks(bits * SHARES as u32 + shares)))
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
            out.look(Look::taking(at, 0).shifting(1).room(self.room));
            self.bit(at, span, out)?;
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
                    let mut open = Open::new(span.start);
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

impl Open {
    fn new(start: Tick) -> Open {
        Open {
            frame: Frame::new("data", start..start),
            part: Part::Start,
            bits: 0,
            value: 0,
            since: start,
            run: (true, 0),
            identifier: 0,
            identifier_span: start..start,
            extended: false,
            remote: false,
            left: 0,
            crc: 0,
        }
    }

    /// The next bit on the wire.
    fn bit(&mut self, recessive: bool, span: &Range<Tick>) -> Next {
        if let Part::Tail(place) = self.part {
            return self.tail(place, recessive, span);
        }
        let (last, equal) = self.run;
        self.run = (recessive, if recessive == last { equal + 1 } else { 1 });
        // After five bits of a level comes one of the other, which says nothing (10.5.2).
        if equal >= 5 {
            if recessive == last {
                let what = "six bits of the same level: a node saw an error, or another bit rate";
                return Next::Broken(Fault::new("stuff", span.start, what));
            }
            if self.part == Part::Crc && self.bits == 15 {
                self.finish_crc(span.start);
            }
            return Next::More;
        }
        if self.part == Part::Crc && self.bits == 15 {
            self.finish_crc(span.start);
            return self.tail(0, recessive, span);
        }
        if self.bits == 0 {
            self.since = span.start;
        }
        self.bits += 1;
        self.value = self.value << 1 | u64::from(recessive);
        if self.part != Part::Crc {
            // x^15 + x^14 + x^10 + x^8 + x^7 + x^4 + x^3 + 1 (10.4.2.6), over all bits so far.
            let out = self.crc >> 14 & 1 != u16::from(recessive);
            self.crc = (self.crc << 1 & 0x7fff) ^ if out { 0x4599 } else { 0 };
        }
        self.part_bit(span)
    }

    fn begin(&mut self, part: Part) {
        (self.part, self.bits, self.value) = (part, 0, 0);
    }

    fn part_bit(&mut self, span: &Range<Tick>) -> Next {
        match self.part {
            Part::Start => self.begin(Part::Identifier),
            Part::Identifier if !self.extended && self.bits == 11 => {
                (self.identifier, self.identifier_span) = (self.value, self.since..span.end);
                self.begin(Part::Control);
            }
            Part::Identifier if self.extended && self.bits == 18 => {
                self.identifier = self.identifier << 18 | self.value;
                self.identifier_span.end = span.end;
                self.push_identifier(29);
                self.begin(Part::Control);
            }
            Part::Control => return self.control(),
            Part::Length if self.bits == 4 => {
                let field =
                    Field::new(FieldKind::Control, "length", self.since..span.end, self.value, self.bits);
                // More than eight means eight (10.4.2.4).
                self.left = if self.remote { 0 } else { self.value.min(8) as u32 };
                self.frame.fields.push(field);
                self.begin(if self.left > 0 { Part::Data } else { Part::Crc });
            }
            Part::Data if self.bits == 8 => {
                let field = Field::new(FieldKind::Data, "data", self.since..span.end, self.value, 8);
                self.frame.fields.push(field);
                self.left -= 1;
                self.begin(if self.left > 0 { Part::Data } else { Part::Crc });
            }
            _ => {}
        }
        Next::More
    }

    fn push_identifier(&mut self, bits: u32) {
        let span = self.identifier_span.clone();
        let field = Field::new(FieldKind::Address, "identifier", span, self.identifier, bits);
        self.frame.fields.push(field);
    }

    /// After 11 bits of identifier: remote request, extension, a reserved bit. After 29: remote
    /// request and two reserved bits. The first reserved bit is recessive in the other format.
    fn control(&mut self) -> Next {
        let recessive = self.value & 1 == 1;
        match (self.extended, self.bits) {
            (false, 2) if recessive => {
                self.extended = true;
                self.begin(Part::Identifier);
            }
            (false, 2) => {
                self.remote = self.value & 0b10 != 0;
                self.push_identifier(11);
            }
            (true, 1) => self.remote = recessive,
            (false, 3) | (true, 2) if recessive => {
                self.frame.kind = "fd";
                let what = "a flexible data-rate frame, not read beyond its identifier, or another bit rate";
                self.frame.faults.push(Fault::new("format", self.since, what));
                return Next::Other;
            }
            (false, 3) | (true, 3) => self.begin(Part::Length),
            _ => {}
        }
        if self.remote && self.frame.kind == "data" {
            self.frame.kind = "remote";
        }
        Next::More
    }

    fn finish_crc(&mut self, end: Tick) {
        let field = Field::new(FieldKind::Check, "crc", self.since..end, self.value, 15);
        if self.value != u64::from(self.crc) {
            let what =
                format!("the checksum is {:#06X}, of these bits it would be {:#06X}", self.value, self.crc);
            self.frame.faults.push(Fault::new("crc", self.since, what));
        }
        self.frame.fields.push(field);
        self.part = Part::Tail(0);
    }

    /// Delimiter, acknowledge, delimiter, seven bits of end; without stuff bits.
    fn tail(&mut self, place: u32, recessive: bool, span: &Range<Tick>) -> Next {
        self.part = Part::Tail(place + 1);
        if place == 1 {
            if recessive {
                let what = "no node acknowledges: no other one is there, or at another bit rate";
                self.frame.faults.push(Fault::new("no-ack", span.start, what));
            } else {
                self.frame.fields.push(Field::new(FieldKind::Control, "ack", span.clone(), 0, 1));
            }
            return Next::More;
        }
        // To a receiver, a dominant last bit is an overload, not an error (10.4.6.3).
        if !recessive && place < 9 {
            let what = "a bit that is always recessive is dominant: a node saw an error";
            return Next::Broken(Fault::new("form", span.start, what));
        }
        if place == 9 { Next::Whole } else { Next::More }
    }
}

impl Decoder for Can {
    fn lines(&self) -> usize {
        1
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        (self.level, self.anchor, self.taken, self.state) = (levels.level(0), at, 0, State::Joining(0));
        self.since = at;
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.take(at, out)?;
        let before = std::mem::replace(&mut self.level, levels.level(0));
        let rested = at.since(std::mem::replace(&mut self.since, at));
        if self.recessive(before) && self.dominant(self.level) {
            // All nodes count from here (10.4.2.7): the next bit begins with the edge.
            (self.anchor, self.taken) = (at, 0);
            if matches!(self.state, State::Idle) {
                if rested >= self.pace.ticks(IDLE_BITS * SHARES as u32 - 50) as i64 {
                    out.settled(at);
                }
                out.mark(BusMark::new("begin", at))?;
                self.state = State::Frame(Box::new(Open::new(at)));
            }
        } else if !self.dominant(self.level) && self.taken >= MOST_BITS {
            // The line was stuck; there is nothing to count from but this edge.
            (self.anchor, self.taken) = (at, 0);
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
