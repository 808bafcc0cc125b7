//! What decoders find.

use std::fmt;
use std::ops::Range;

use crate::time::Tick;

/// One unit on a bus.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Frame {
    /// What kind of unit it is, in the words of its standard, such as `byte` or `break`.
    pub kind: &'static str,
    /// Its first tick.
    pub start: Tick,
    /// The tick after its last.
    pub end: Tick,
    /// Whether a transfer begins with it: frames that belong together, such as the words during one
    /// selection, or what follows a repeated start. Of a transfer itself: whether the record shows that it begins
    /// here; one at the record's start may have begun before.
    pub begins: bool,
    /// Its fields, in order of time.
    pub fields: Vec<Field>,
    /// What is wrong with it.
    pub faults: Vec<Fault>,
    /// Whether no other order of edges within the record's uncertainty, and no pulse too short to be
    /// meant, could have made another frame of it; never so before that was proven
    /// ([`SerialBus::decode`](crate::decode::SerialBus::decode)).
    pub certain: bool,
}

impl Frame {
    /// A frame without fields and faults, so far, with which a transfer begins.
    pub fn new(kind: &'static str, span: Range<Tick>) -> Frame {
        let (fields, faults) = (Vec::new(), Vec::new());
        Frame { kind, start: span.start, end: span.end, begins: true, fields, faults, certain: false }
    }

    /// How many values of data it carries; in either direction, where there are two.
    pub fn length(&self) -> usize {
        let data = || self.fields.iter().filter(|field| field.kind == FieldKind::Data);
        let Some(first) = data().next() else { return 0 };
        let own = data().filter(|field| field.name == first.name).count();
        own.max(data().count() - own)
    }

    /// Its data as a text, where all of it can be read as one: printable characters, tabs and ends of lines.
    pub fn text(&self) -> Option<String> {
        let mut text = String::new();
        let data = self.fields.iter().filter(|field| field.kind == FieldKind::Data);
        for field in data {
            let byte = u8::try_from(field.value).ok().filter(|_| (7..=8).contains(&field.bits))?;
            let readable = matches!(byte, 0x20..=0x7e | b'\t' | b'\r' | b'\n');
            text.push(if readable { char::from(byte) } else { return None });
        }
        (!text.is_empty()).then_some(text)
    }

    /// The end of the last thing that it carries: a transfer that is over after a rest ends with that.
    pub fn carried_until(&self) -> Tick {
        self.fields.iter().map(|field| field.end).max().unwrap_or(self.end)
    }

    /// The field with this name, if it has one.
    pub fn field(&self, name: &str) -> Option<&Field> {
        self.fields.iter().find(|field| field.name == name)
    }
}

impl fmt::Display for Frame {
    /// Its kind, its fields in hexadecimal, and the kinds of its faults.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.kind)?;
        self.fields.iter().try_for_each(|field| write!(f, " {}={}", field.name, field.hex()))?;
        self.faults.iter().try_for_each(|fault| write!(f, " ({})", fault.kind))
    }
}

/// A part of a frame with a meaning of its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Field {
    /// Its name, such as `data` or `address`.
    pub name: &'static str,
    /// Its first tick.
    pub start: Tick,
    /// The tick after its last.
    pub end: Tick,
    /// Its value.
    pub value: u64,
    /// Width of the value in bits.
    pub bits: u32,
    /// What it is for.
    pub kind: FieldKind,
}

impl Field {
    /// A field over a stretch of ticks.
    pub fn new(kind: FieldKind, name: &'static str, span: Range<Tick>, value: u64, bits: u32) -> Field {
        Field { name, start: span.start, end: span.end, value, bits, kind }
    }

    /// Its value in hexadecimal, with as many digits as its bits take.
    pub fn hex(&self) -> String {
        format!("0x{:0digits$X}", self.value, digits = self.bits.div_ceil(4) as usize)
    }

    /// The printable ASCII character that data of seven or eight bits may be.
    pub fn character(&self) -> Option<char> {
        match u8::try_from(self.value) {
            Ok(byte @ 0x20..=0x7e) if self.kind == FieldKind::Data && (7..=8).contains(&self.bits) => {
                Some(char::from(byte))
            }
            _ => None,
        }
    }
}

/// What a field is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum FieldKind {
    /// What is carried.
    Data,
    /// Whom it is for.
    Address,
    /// What holds the frame together.
    Control,
    /// What proves it.
    Check,
}

/// Something on the wire that is not as the standard says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// A word for it, such as `parity`, to count and search by.
    pub kind: &'static str,
    /// Where it is seen.
    pub at: Tick,
    /// What it is, in words.
    pub what: String,
}

impl Fault {
    /// A fault of a kind at a tick.
    pub fn new(kind: &'static str, at: Tick, what: impl Into<String>) -> Fault {
        Fault { kind, at, what: what.into() }
    }

    /// The kind of the fault of a frame within which the record ends.
    pub const CUT_OFF: &'static str = "cut-off";

    /// The record ends within a frame.
    pub fn cut_off(at: Tick) -> Fault {
        Fault::new(Fault::CUT_OFF, at, "the record ends within it")
    }

    /// A bit is taken where the level is not known.
    pub fn unknown(at: Tick) -> Fault {
        Fault::new("unknown", at, "the level is not known where a bit is taken")
    }
}
