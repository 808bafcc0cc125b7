//! Numbers that are put together from the fields of a frame.

use std::fmt;
use std::str::FromStr;

use crate::bus::{Field, Frame};
use crate::error::{Error, ErrorKind, Result};
use crate::time::Tick;

/// Most bits of a number.
const MOST_BITS: u32 = 64;

/// Which bits of a frame's fields make a number, the highest ones first.
///
/// `data[1]` is the second field of that name; `data[1] data[2]`, or `data[1..2]`, are both of them, the first one
/// the higher; `data[2..1]` is the other way round. `data[0](3..0)` are the four lowest bits of one, and
/// `data[0](3..0) data[1](3..0)` the two halves of a character. A name alone is the only field of that
/// name.
///
/// ```
/// use deep_tap_core::bus::{Field, FieldKind, Frame};
/// use deep_tap_core::decode::Pick;
/// use deep_tap_core::time::Tick;
///
/// let mut frame = Frame::new("words", Tick(0)..Tick(8));
/// for byte in [0x04, 0x01, 0xf2] {
///     frame.fields.push(Field::new(FieldKind::Data, "data", Tick(0)..Tick(8), byte, 8));
/// }
/// let sample: Pick = "data[1](3..0) data[2]".parse()?;
/// assert_eq!(sample.of(&frame).map(|picked| (picked.value, picked.bits)), Some((0x1f2, 12)));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pick {
    parts: Vec<Part>,
    text: String,
}

/// Bits of one field, or of several of one name.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Part {
    field: String,
    /// The first and the last of them, counted from 0; nothing for a field that is alone.
    places: Option<(usize, usize)>,
    /// The highest bit and the lowest one.
    bits: Option<(u32, u32)>,
}

/// A number that was put together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Picked {
    /// Its value.
    pub value: u64,
    /// Its width in bits.
    pub bits: u32,
    /// The first tick of the fields that it is taken from.
    pub start: Tick,
    /// The tick after their last.
    pub end: Tick,
}

impl Pick {
    /// The number in a frame; `None` where the frame has not all of it, or it has more than 64 bits.
    pub fn of(&self, frame: &Frame) -> Option<Picked> {
        let mut picked = Picked { value: 0, bits: 0, start: Tick(u64::MAX), end: Tick(0) };
        for part in &self.parts {
            let (first, last) = part.places.unwrap_or((0, 0));
            for place in 0..=first.abs_diff(last) {
                let place = if first <= last { first + place } else { first - place };
                let field = frame.fields.iter().filter(|field| field.name == part.field).nth(place)?;
                part.append(field, &mut picked)?;
            }
        }
        Some(picked)
    }

    /// How many bits it has, where the fields that it is taken from have a known width.
    pub fn bits(&self, widest: impl Fn(&str) -> Option<u32>) -> Option<u32> {
        self.parts.iter().try_fold(0u32, |bits, part| {
            let (first, last) = part.places.unwrap_or((0, 0));
            let own = match part.bits {
                Some((high, low)) => high - low + 1,
                None => widest(&part.field)?,
            };
            bits.checked_add(own.checked_mul(u32::try_from(first.abs_diff(last)).ok()? + 1)?)
        })
    }

    /// The names of the fields that it is taken from.
    pub fn fields(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().map(|part| part.field.as_str())
    }
}

impl Part {
    fn append(&self, field: &Field, picked: &mut Picked) -> Option<()> {
        let (high, low) = self.bits.unwrap_or((field.bits.saturating_sub(1), 0));
        let bits = high - low + 1;
        if high >= field.bits.max(1) || picked.bits + bits > MOST_BITS {
            return None;
        }
        let own = field.value >> low & u64::MAX >> (MOST_BITS - bits);
        picked.value = picked.value.checked_shl(bits).unwrap_or(0) | own;
        picked.bits += bits;
        picked.start = picked.start.min(field.start);
        picked.end = picked.end.max(field.end);
        Some(())
    }
}

impl fmt::Display for Pick {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

impl FromStr for Pick {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let parts = text.split_whitespace().map(part).collect::<Result<Vec<Part>>>()?;
        if parts.is_empty() {
            return Err(wrong("a number is taken from nothing".to_string()));
        }
        Ok(Pick { parts, text: text.trim().to_string() })
    }
}

fn wrong(message: String) -> Error {
    let help = "write fields by name and place from 0, with bits where not all of them count: data[1], data[1..2], \
                data[0](3..0) data[1](7..4)";
    Error::new(ErrorKind::Unknown, message).with_help(help)
}

fn part(word: &str) -> Result<Part> {
    let refused = || wrong(format!("'{word}' is no part of a number"));
    let (rest, bits) = match word.split_once('(') {
        Some((rest, bits)) => {
            let bits = bits.strip_suffix(')').and_then(pair).ok_or_else(refused)?;
            (rest, Some(bits))
        }
        None => (word, None),
    };
    let (field, places) = match rest.split_once('[') {
        Some((field, places)) => (field, Some(places.strip_suffix(']').and_then(pair).ok_or_else(refused)?)),
        None => (rest, None),
    };
    if field.is_empty() || field.contains([']', ')', ',']) {
        return Err(refused());
    }
    let bits = match bits {
        Some((high, low)) if high < low || high >= MOST_BITS as usize => {
            return Err(wrong(format!(
                "'{word}' has its bits upside down, or too many: write the highest first"
            )));
        }
        bits => bits.map(|(high, low)| (high as u32, low as u32)),
    };
    /// More than any transfer has.
    const MOST: usize = 65_536;
    if places.is_some_and(|(first, last)| first.max(last) >= MOST) {
        return Err(refused());
    }
    Ok(Part { field: field.to_string(), places, bits })
}

/// `3`, or `7..4`.
fn pair(text: &str) -> Option<(usize, usize)> {
    match text.split_once("..") {
        Some((first, last)) => Some((first.trim().parse().ok()?, last.trim().parse().ok()?)),
        None => text.trim().parse().ok().map(|only| (only, only)),
    }
}
