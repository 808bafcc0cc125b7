//! Messages as a person writes them down: values that are given, open ones, and those that are worked out.
//!
//! A [`Message`] is a sequence of values on a bus. Some of its bits may be open, a length and a checksum are
//! computed from what came, and one stretch of it may have any number of values. A [`Matcher`] compares
//! values with it one by one, as they arrive. [`file`](mod@file) reads messages from the files that firmware is
//! built from.

mod check;
pub mod file;
mod matcher;
mod parse;

pub use check::CheckKind;
pub use matcher::{Compared, Matcher};
pub(crate) use parse::unescaped;

use crate::line::BitOrder;

/// A sequence of values on a bus.
///
/// ```
/// use deep_tap_core::message::Message;
///
/// // A start byte, how many follow, any number of them, and their sum.
/// let message = Message::hex("a5 {length} ( ... ) {sum}")?;
/// assert!(message.is_met_by(&[0xa5, 3, 0x10, 0x20, 0x30, 0x60]));
/// assert!(!message.is_met_by(&[0xa5, 3, 0x10, 0x20, 0x30, 0x61]));
/// let reading = Message::text("T={digit}{digit}\r\n")?;
/// assert!(reading.is_met_by(&b"T=21\r\n".map(u64::from)));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Message {
    pieces: Vec<Piece>,
    /// The pieces that a length counts, and a checksum is worked out over, where that is stated.
    covered: Option<(usize, usize)>,
    /// Whether it was written as characters.
    is_text: bool,
}

/// A part of a message.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    /// A value in which bits may be open.
    Value { bits: u64, open: u64 },
    /// The character of a decimal digit.
    Digit,
    /// Any number of values.
    Many,
    /// How many values another part has, and so many more.
    Length { more: i64, form: Form },
    /// What proves another part.
    Check { kind: CheckKind, form: Form },
}

/// How a number is written in values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Form {
    /// Values that it takes.
    values: usize,
    order: BitOrder,
    /// Whether each is the character of a hexadecimal digit, in place of eight bits.
    digits: bool,
}

impl Form {
    /// The value at a place of a number.
    fn value(self, number: u64, place: usize) -> u64 {
        let per_value = if self.digits { 4 } else { 8 };
        let place = match self.order {
            BitOrder::HighestFirst => self.values - 1 - place,
            BitOrder::LowestFirst => place,
        };
        let part = number.checked_shr(per_value * place as u32).unwrap_or(0);
        match self.digits {
            true => {
                let digit = char::from_digit(part as u32 & 0xf, 16).unwrap_or('0');
                u64::from(digit.to_ascii_uppercase() as u32)
            }
            false => part & 0xff,
        }
    }

    /// The number that values stand for; `None` where they are no digits, or it has more than 64 bits.
    fn number(self, values: &[u64]) -> Option<u64> {
        let digit = |value: u64| char::from_u32(value as u32)?.to_digit(16).map(u64::from);
        let per_value = if self.digits { 4 } else { 8 };
        values.iter().enumerate().try_fold(0u64, |number, (place, value)| {
            let part = if self.digits { digit(*value)? } else { value & 0xff };
            match self.order {
                BitOrder::HighestFirst if number >> (64 - per_value) != 0 => None,
                BitOrder::HighestFirst => Some(number << per_value | part),
                BitOrder::LowestFirst => {
                    let shift = per_value * place as u32;
                    (part == 0 || shift < 64).then(|| number | part.checked_shl(shift).unwrap_or(0))
                }
            }
        })
    }
}

impl Piece {
    /// How many values it takes; `None` for any number.
    fn len(&self) -> Option<usize> {
        match self {
            Piece::Value { .. } | Piece::Digit => Some(1),
            Piece::Many => None,
            Piece::Length { form, .. } | Piece::Check { form, .. } => Some(form.values),
        }
    }
}

impl Message {
    /// These very values.
    pub fn values(values: impl IntoIterator<Item = u64>) -> Message {
        let pieces = values.into_iter().map(|bits| Piece::Value { bits, open: 0 }).collect();
        Message { pieces, covered: None, is_text: false }
    }

    /// Whether there is nothing in it.
    pub fn is_empty(&self) -> bool {
        self.pieces.is_empty()
    }

    /// How many values it has at the least.
    pub fn shortest(&self) -> usize {
        self.pieces.iter().filter_map(Piece::len).sum()
    }

    /// Whether it is known where it ends without knowing where what carries it ends: all of it is of a known
    /// length, or says how long it is.
    pub fn ends_by_itself(&self) -> bool {
        let many = self.pieces.iter().position(|piece| *piece == Piece::Many);
        many.is_none_or(|many| {
            let length = self.pieces.iter().position(|piece| matches!(piece, Piece::Length { .. }));
            length.is_some_and(|length| length < many && self.counted(length).contains(&many))
        })
    }

    /// The largest value that it asks for.
    pub fn largest(&self) -> u64 {
        let given = |piece: &Piece| match piece {
            Piece::Value { bits, open } => bits & !open,
            _ => 0,
        };
        self.pieces.iter().map(given).max().unwrap_or(0)
    }

    /// A value in words: with the character that it is, where the message was written as such.
    pub fn show(&self, value: u64) -> String {
        match u8::try_from(value) {
            Ok(byte @ 0x20..=0x7e) if self.is_text => format!("0x{value:02X} '{}'", char::from(byte)),
            _ => format!("0x{value:02X}"),
        }
    }

    /// Whether these values, and no others, are such a message.
    pub fn is_met_by(&self, values: &[u64]) -> bool {
        let mut matcher = Matcher::new(self, Some(values.len()));
        values.iter().all(|value| matcher.push(*value) == Compared::Fits) && matcher.is_whole()
    }

    /// The pieces that a length at this place counts: those stated, or all up to the next checksum.
    fn counted(&self, length: usize) -> std::ops::Range<usize> {
        match self.covered {
            Some((from, to)) => from..to,
            None => {
                let rest = &self.pieces[length + 1..];
                let check = rest.iter().position(|piece| matches!(piece, Piece::Check { .. }));
                length + 1..check.map_or(self.pieces.len(), |check| length + 1 + check)
            }
        }
    }

    /// The pieces that a checksum at this place proves: those stated, or all before it.
    fn proven(&self, check: usize) -> std::ops::Range<usize> {
        self.covered.map_or(0..check, |(from, to)| from..to)
    }
}
