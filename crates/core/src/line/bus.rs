//! Ordered groups of lines, and their values.

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use super::{Level, LineId, ValueNames};
use crate::error::{Error, ErrorKind, Result, suggest};

/// Most lines a bus may have.
pub(crate) const MAX_BUS_LINES: usize = 64;

/// Which bus of a capture or setup, counted from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct BusId(pub usize);

/// How a value is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Radix {
    /// `0x3A`; a digit with an unknown bit is `x`.
    #[default]
    Hex,
    /// `0b0011_1010` without the separator; an unknown bit is `x`.
    Binary,
    /// Unsigned decimal.
    Decimal,
    /// Two's complement decimal.
    Signed,
    /// The printable ASCII character in quotes, else hexadecimal.
    Ascii,
}

impl Radix {
    const NAMES: [(Radix, &'static str); 5] = [
        (Radix::Hex, "hex"),
        (Radix::Binary, "binary"),
        (Radix::Decimal, "decimal"),
        (Radix::Signed, "signed"),
        (Radix::Ascii, "ascii"),
    ];
}

impl FromStr for Radix {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        Self::NAMES.iter().find(|(_, name)| *name == text).map(|(radix, _)| *radix).ok_or_else(|| {
            Error::new(ErrorKind::Quantity, format!("'{text}' is not a way to write values"))
                .with_help(suggest(text, Self::NAMES.iter().map(|(_, name)| *name), "format"))
        })
    }
}

impl fmt::Display for Radix {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(Self::NAMES.iter().find(|(radix, _)| radix == self).map_or("hex", |(_, name)| name))
    }
}

/// Which bit of a number comes first.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum BitOrder {
    /// The most significant one.
    #[default]
    HighestFirst,
    /// The least significant one.
    LowestFirst,
}

impl BitOrder {
    /// A number of `taken` bits with the next `count` bits that came.
    pub(crate) fn append(self, value: u64, taken: u32, bits: u64, count: u32) -> u64 {
        match self {
            BitOrder::HighestFirst => value.checked_shl(count).unwrap_or(0) | bits,
            BitOrder::LowestFirst => value | bits.checked_shl(taken).unwrap_or(0),
        }
    }
}

/// An ordered group of lines.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bus {
    /// Its name.
    pub name: String,
    /// Its lines, most significant first.
    pub lines: Vec<LineId>,
    /// The line and the level it changes to at which the value counts; `None` when it counts always.
    pub clock: Option<(LineId, Level)>,
    /// How its value is written.
    pub radix: Radix,
    /// Names of its values.
    pub names: ValueNames,
}

/// Why lines do not form a bus.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BusError {
    /// There are none.
    Empty,
    /// There are more than 64.
    TooWide(usize),
    /// One appears twice.
    Repeated(LineId),
}

impl From<BusError> for Error {
    fn from(why: BusError) -> Error {
        let message = match why {
            BusError::Empty => "a bus has at least one line".to_string(),
            BusError::TooWide(lines) => format!("a bus has at most {MAX_BUS_LINES} lines, not {lines}"),
            BusError::Repeated(_) => "a bus has each line once".to_string(),
        };
        Error::new(ErrorKind::Capture, message).with_help("name its lines, most significant first")
    }
}

impl Bus {
    /// A bus without a clock, shown in hexadecimal.
    ///
    /// ```
    /// use deep_tap_core::line::{Bus, BusError, LineId};
    ///
    /// let nibble = Bus::new("ADDR", vec![LineId(3), LineId(2), LineId(1), LineId(0)]).unwrap();
    /// assert_eq!(nibble.lines.len(), 4);
    /// assert_eq!(Bus::new("ADDR", vec![LineId(3), LineId(3)]), Err(BusError::Repeated(LineId(3))));
    /// ```
    ///
    /// # Errors
    /// When there is no line, more than 64, or one twice.
    pub fn new(name: impl Into<String>, lines: Vec<LineId>) -> Result<Self, BusError> {
        if lines.is_empty() {
            return Err(BusError::Empty);
        }
        if lines.len() > MAX_BUS_LINES {
            return Err(BusError::TooWide(lines.len()));
        }
        for (i, line) in lines.iter().enumerate() {
            if lines[..i].contains(line) {
                return Err(BusError::Repeated(*line));
            }
        }
        Ok(Bus { name: name.into(), lines, clock: None, radix: Radix::Hex, names: ValueNames::default() })
    }

    /// A value of it as text, with its name where it has one.
    pub fn show(&self, value: Value) -> String {
        let written = value.show(self.radix);
        value.known().map_or(written.clone(), |known| self.names.named(&written, known))
    }

    /// The value, given a way to ask for the level of each line.
    pub fn value(&self, mut level: impl FnMut(LineId) -> Level) -> Value {
        let mut value = Value { bits: 0, unknown: 0, floating: 0, width: self.lines.len() as u32 };
        for line in &self.lines {
            value.bits <<= 1;
            value.unknown <<= 1;
            value.floating <<= 1;
            match level(*line) {
                Level::Low => {}
                Level::High => value.bits |= 1,
                Level::Floating => (value.unknown, value.floating) = (value.unknown | 1, value.floating | 1),
                Level::Unknown => value.unknown |= 1,
            }
        }
        value
    }
}

/// The value of a bus at an instant: up to 64 bits, each of which may be unknown.
///
/// ```
/// use deep_tap_core::line::{Radix, Value};
/// let value = Value { bits: 0x3a, unknown: 0, floating: 0, width: 8 };
/// assert_eq!(value.show(Radix::Hex), "0x3A");
/// assert_eq!(value.show(Radix::Signed), "58");
/// let partly = Value { bits: 0x30, unknown: 0x02, floating: 0, width: 8 };
/// assert_eq!(partly.show(Radix::Hex), "0x3x");
/// assert_eq!(partly.show(Radix::Decimal), "0b001100x0", "a number would claim to know");
/// let floats = Value { bits: 0, unknown: 0xf1, floating: 0xf0, width: 8 };
/// assert_eq!((floats.show(Radix::Hex), floats.show(Radix::Binary)), ("0xzx".into(), "0bzzzz000x".into()));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Value {
    /// The known bits; zero where unknown.
    pub bits: u64,
    /// A one for each bit that is neither low nor high.
    pub unknown: u64,
    /// A one for each of these that floats, and so is known not to be.
    pub floating: u64,
    /// Number of bits, 1 to 64.
    pub width: u32,
}

impl Value {
    /// The number, or `None` when a bit is unknown.
    pub fn known(self) -> Option<u64> {
        (self.unknown == 0).then_some(self.bits)
    }

    /// The number as two's complement, or `None` when a bit is unknown.
    pub fn signed(self) -> Option<i64> {
        let shift = 64 - self.width.clamp(1, 64);
        self.known().map(|bits| ((bits << shift) as i64) >> shift)
    }

    /// The value as text. Where an unknown bit makes a number meaningless, binary is written.
    pub fn show(self, radix: Radix) -> String {
        match (radix, self.known()) {
            (Radix::Decimal, Some(value)) => value.to_string(),
            (Radix::Signed, Some(_)) => self.signed().unwrap_or(0).to_string(),
            (Radix::Ascii, Some(value @ 0x20..=0x7e)) => format!("'{}'", value as u8 as char),
            (Radix::Hex | Radix::Ascii, _) => {
                let digits = (0..self.width.div_ceil(4)).rev().map(|i| {
                    let mask = if (i + 1) * 4 > self.width { (1 << (self.width % 4)) - 1 } else { 0xf };
                    let (open, floats) = (self.unknown >> (i * 4) & mask, self.floating >> (i * 4) & mask);
                    if open != 0 {
                        if open == floats { 'z' } else { 'x' }
                    } else {
                        char::from_digit((self.bits >> (i * 4) & mask) as u32, 16)
                            .unwrap_or('x')
                            .to_ascii_uppercase()
                    }
                });
                format!("0x{}", digits.collect::<String>())
            }
            _ => {
                let digits =
                    (0..self.width).rev().map(|i| match (self.unknown >> i & 1, self.bits >> i & 1) {
                        (1, _) if self.floating >> i & 1 == 1 => 'z',
                        (1, _) => 'x',
                        (_, 1) => '1',
                        _ => '0',
                    });
                format!("0b{}", digits.collect::<String>())
            }
        }
    }
}

impl Serialize for Value {
    /// The number, or the binary text when a bit is unknown.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.known() {
            Some(bits) => serializer.serialize_u64(bits),
            None => serializer.serialize_str(&self.show(Radix::Binary)),
        }
    }
}
