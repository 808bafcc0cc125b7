//! One line with a pull-up that carries power, clock and data: reset and presence, then slots whose
//! length is a bit (the timing tables that parts for it have in common, at standard speed and in
//! overdrive).

use std::ops::ControlFlow;

use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Level, Levels};
use crate::quantity::{Rational, Time};
use crate::time::{Tick, TimeBase};

/// Decodes a one-wire bus; its line is the bus.
///
/// Frames are `reset`, with the field `presence`; `rom` for the command after it, with the fields
/// `command` and, where a part is named, `family`, `serial` and `crc`; `search` for the part that a
/// search found; and `byte` with `data` for each byte from there on. Faults are `no-presence`,
/// `short-reset`, `crc`, `truncated`, `unknown` and `cut-off`. What comes before the first reset is not
/// read. The commands that change to overdrive are followed.
#[derive(Clone, Debug)]
pub struct OneWire {
    standard: Speed,
    overdrive: Speed,
    fast: bool,
    level: Level,
    since: Tick,
    state: State,
    unknown: bool,
    function: Option<Function>,
}

/// The limits of one speed, in ticks.
#[derive(Clone, Copy, Debug)]
struct Speed {
    /// Longest low of a one.
    one: u64,
    /// Longest low of a slot; a longer one is a reset.
    slot: u64,
    /// Shortest reset.
    reset: u64,
    /// How long after a reset a part may wait to say that it is there.
    presence: u64,
}

#[derive(Clone, Copy, Debug)]
enum State {
    /// Before the first reset.
    Joining,
    /// A reset is over: since when, how long it was too short, when the presence began.
    Reset { start: Tick, released: Tick, short: bool, presence: Option<Tick> },
    /// Bits: of the command, of a part's number, of what is found, of bytes.
    Bits(Bits),
}

#[derive(Clone, Copy, Debug)]
struct Bits {
    what: What,
    /// The first slot of the frame, and of the present bits.
    start: Tick,
    since: Tick,
    count: u32,
    value: u64,
    command: u64,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum What {
    Command,
    Number,
    Search,
    Byte,
}

impl Bits {
    fn new(what: What, at: Tick, command: u64) -> Bits {
        Bits { what, start: at, since: at, count: 0, value: 0, command }
    }

    fn wanted(&self) -> u32 {
        match self.what {
            What::Command | What::Byte => 8,
            What::Number => 64,
            // For each bit: the bit, its complement, and which way the search goes.
            What::Search => 192,
        }
    }
}

const READ: u64 = 0x33;
const MATCH: u64 = 0x55;
const SEARCH: u64 = 0xf0;
const ALARM_SEARCH: u64 = 0xec;
const OVERDRIVE_SKIP: u64 = 0x3c;
const OVERDRIVE_MATCH: u64 = 0x69;

impl OneWire {
    /// The instants of its frames: `reset` is where the line is released, `presence` where a part answers,
    /// a frame begins with its first slot.
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample", "reset", "presence"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] = &[
        "reset",
        "rom",
        "search",
        "byte",
        "presence",
        "command",
        "family",
        "serial",
        "crc",
        "data",
        "no-presence",
        "short-reset",
        "truncated",
        "spike",
        "unknown",
        "cut-off",
    ];

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] when a tick is longer than half a microsecond: the shortest pulse is one.
    pub fn new(base: TimeBase) -> Result<Self> {
        let ticks = |tenths: i64| {
            let time = Rational::new(tenths.into(), 10_000_000).map(Time::from_rational);
            let ticks = time.and_then(|time| base.ticks_in(time)).map_or(0, Rational::floor);
            u64::try_from(ticks).unwrap_or(u64::MAX)
        };
        if ticks(10) < 2 {
            let message = format!("a tick of {} is too long for pulses of 1 us", base.tick());
            return Err(Error::new(ErrorKind::Range, message).with_help("record at 2 MS/s or more"));
        }
        Ok(OneWire {
            standard: Speed { one: ticks(150), slot: ticks(1500), reset: ticks(4800), presence: ticks(750) },
            overdrive: Speed { one: ticks(20), slot: ticks(240), reset: ticks(480), presence: ticks(80) },
            fast: false,
            level: Level::Unknown,
            since: Tick(0),
            state: State::Joining,
            unknown: false,
            function: None,
        })
    }

    fn speed(&self) -> Speed {
        if self.fast { self.overdrive } else { self.standard }
    }

    /// The line was low from one tick to another.
    fn low(&mut self, from: Tick, to: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let length = u64::try_from(to.since(from)).unwrap_or(0);
        let speed = self.speed();
        // With a tick more or less, the pulse would mean something else.
        let near = |border: u64| length.abs_diff(border) <= 1;
        let open = near(speed.one) || near(speed.slot) || near(speed.reset) || near(self.standard.reset);
        if let State::Reset { start, released, short, presence: Some(began) } = self.state {
            self.state = State::Bits(Bits::new(What::Command, to, 0));
            return out.frame(reset_frame(start, released, short, Some(began..to), to));
        }
        if length > speed.slot {
            // What is under way is over.
            self.function = None;
            self.truncate(to, out)?;
            if length >= self.standard.reset {
                self.fast = false;
            }
            // That long, it is one at either speed.
            if length >= self.standard.reset {
                out.settled(to);
            }
            if open {
                out.doubt(to);
            }
            out.mark(BusMark::new("reset", to))?;
            let short = length < self.speed().reset;
            self.state = State::Reset { start: from, released: to, short, presence: None };
            return ControlFlow::Continue(());
        }
        if open {
            out.doubt(to);
        }
        out.look(Look::taking(to, 0));
        self.bit(from, to, length <= speed.one, out)
    }

    fn bit(&mut self, from: Tick, to: Tick, one: bool, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let State::Bits(bits) = &mut self.state else { return ControlFlow::Continue(()) };
        if bits.count == 0 {
            bits.since = from;
            if bits.what == What::Command || bits.what == What::Byte {
                bits.start = from;
            }
        }
        let (place, took) = match bits.what {
            What::Search => (bits.count / 3, bits.count % 3 == 2),
            _ => (bits.count, true),
        };
        if took {
            bits.value |= u64::from(one) << place;
        }
        bits.count += 1;
        if bits.count < bits.wanted() {
            return ControlFlow::Continue(());
        }
        let done = *bits;
        let unknown = std::mem::take(&mut self.unknown);
        let next = match (done.what, done.value) {
            (What::Command, READ | MATCH | OVERDRIVE_MATCH) => What::Number,
            (What::Command, SEARCH | ALARM_SEARCH) => What::Search,
            _ => What::Byte,
        };
        if done.what == What::Command && matches!(done.value, OVERDRIVE_SKIP | OVERDRIVE_MATCH) {
            self.fast = true;
        }
        let command = if done.what == What::Command { done.value } else { done.command };
        self.state = State::Bits(Bits { start: done.start, ..Bits::new(next, to, command) });
        if done.what == What::Command && next != What::Byte {
            // The frame goes on with the part's number.
            return ControlFlow::Continue(());
        }
        let mut frame = done.frame(to);
        if done.what == What::Byte
            && let Some(wanted) = Function::byte(&mut self.function, done.value)
            && let Some(field) = frame.fields.first_mut()
        {
            (field.name, field.kind) = ("crc", FieldKind::Check);
            if done.value != wanted {
                let what =
                    format!("the checksum is {:#04X}, of these bytes it would be {wanted:#04X}", done.value);
                frame.faults.push(Fault::new("crc", done.since, what));
            }
        }
        if unknown {
            frame.faults.push(Fault::unknown(done.since));
        }
        out.frame(frame)
    }

    /// Gives out what was not whole when something else began.
    fn truncate(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let State::Bits(bits) = self.state else { return ControlFlow::Continue(()) };
        if bits.count == 0 && bits.what != What::Number && bits.what != What::Search {
            return ControlFlow::Continue(());
        }
        let what = format!("{} of {} bits, then something else", bits.count, bits.wanted());
        let mut frame = Frame::new(bits.kind(), bits.start..at);
        frame.faults.push(Fault::new("truncated", at, what));
        out.frame(frame)
    }

    /// Nothing changes up to a tick: a part that has not said by then that it is there is not.
    fn wait(&mut self, now: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        if let State::Reset { start, released, short, presence: None } = self.state
            && self.level == Level::High
            && now.since(released) > self.speed().presence as i64
        {
            let end = Tick(released.0.saturating_add(self.speed().presence).saturating_add(1));
            self.state = State::Bits(Bits::new(What::Command, end, 0));
            return out.frame(reset_frame(start, released, short, None, end));
        }
        ControlFlow::Continue(())
    }
}

fn reset_frame(
    start: Tick,
    released: Tick,
    short: bool,
    presence: Option<std::ops::Range<Tick>>,
    end: Tick,
) -> Frame {
    let mut frame = Frame::new("reset", start..end);
    if short {
        let what = "the reset is shorter than 480 us, or 48 us in overdrive";
        frame.faults.push(Fault::new("short-reset", released, what));
    }
    match presence {
        Some(span) => frame.fields.push(Field::new(FieldKind::Control, "presence", span, 1, 1)),
        None => {
            let what = "no part says that it is there: not fitted, not powered, or no pull-up";
            frame.faults.push(Fault::new("no-presence", released, what));
        }
    }
    frame
}

/// The checksum over so many more bits: x^8 + x^5 + x^4 + 1, the lowest bit first.
fn checksum(crc: u64, bits: u64, count: u32) -> u64 {
    (0..count).fold(crc, |crc, place| {
        let out = (crc ^ bits >> place) & 1;
        crc >> 1 ^ if out == 1 { 0x8c } else { 0 }
    })
}

/// What reads eight bytes of a part's memory, and their checksum.
const READ_MEMORY: u64 = 0xbe;

/// What follows after a part was chosen: its command, the bytes since, and the checksum over them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Function {
    command: u64,
    bytes: u32,
    crc: u64,
}

impl Function {
    /// The next byte; the checksum that it must be, where it is one.
    fn byte(this: &mut Option<Function>, value: u64) -> Option<u64> {
        let Some(function) = this else {
            *this = Some(Function { command: value, bytes: 0, crc: 0 });
            return None;
        };
        function.bytes = function.bytes.saturating_add(1);
        let wanted = function.crc;
        function.crc = checksum(function.crc, value, 8);
        (function.command == READ_MEMORY && function.bytes == 9).then_some(wanted)
    }
}

impl Bits {
    fn kind(&self) -> &'static str {
        match self.what {
            What::Byte => "byte",
            What::Search => "search",
            What::Command | What::Number => "rom",
        }
    }

    fn frame(&self, end: Tick) -> Frame {
        let mut frame = Frame::new(self.kind(), self.start..end);
        let field = |kind, name, value, bits| Field::new(kind, name, self.since..end, value, bits);
        match self.what {
            What::Byte => frame.fields.push(field(FieldKind::Data, "data", self.value, 8)),
            What::Command => frame.fields.push(field(FieldKind::Control, "command", self.value, 8)),
            What::Number | What::Search => {
                let span = self.start..self.since;
                let command = Field::new(FieldKind::Control, "command", span, self.command, 8);
                let family = field(FieldKind::Address, "family", self.value & 0xff, 8);
                let serial = field(FieldKind::Address, "serial", self.value >> 8 & 0xffff_ffff_ffff, 48);
                let crc = field(FieldKind::Check, "crc", self.value >> 56, 8);
                frame.fields.extend([command, family, serial, crc]);
                let crc = checksum(0, self.value, 56);
                if crc != self.value >> 56 {
                    let is = self.value >> 56;
                    let what = format!("the checksum is {is:#04X}, of this number it would be {crc:#04X}");
                    frame.faults.push(Fault::new("crc", self.since, what));
                }
            }
        }
        frame
    }
}

impl Decoder for OneWire {
    fn lines(&self) -> usize {
        1
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        (self.level, self.since, self.state) = (levels.level(0), at, State::Joining);
        (self.fast, self.unknown, self.function) = (false, false, None);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.wait(at, out)?;
        let before = std::mem::replace(&mut self.level, levels.level(0));
        let since = std::mem::replace(&mut self.since, at);
        self.unknown |= self.level == Level::Unknown;
        match (before, self.level) {
            (_, Level::Low) => {
                if let State::Reset { presence, .. } = &mut self.state {
                    *presence = Some(at);
                    out.mark(BusMark::new("presence", at))?;
                } else if matches!(
                    self.state,
                    State::Bits(Bits { count: 0, what: What::Command | What::Byte, .. })
                ) {
                    out.mark(BusMark::new("begin", at))?;
                }
                ControlFlow::Continue(())
            }
            (Level::Low, _) => self.low(since, at, out),
            _ => ControlFlow::Continue(()),
        }
    }

    fn due(&self) -> Option<Tick> {
        match self.state {
            State::Reset { released, presence: None, .. } => {
                Some(Tick(released.0.saturating_add(self.speed().presence)))
            }
            _ => None,
        }
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.wait(until, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.wait(at, out)?;
        let frame = match self.state {
            State::Reset { start, .. } => Frame::new("reset", start..at),
            State::Bits(bits) if bits.count > 0 => Frame::new(bits.kind(), bits.start..at),
            _ => return ControlFlow::Continue(()),
        };
        out.frame(Frame { faults: vec![Fault::cut_off(at)], ..frame })
    }
}
