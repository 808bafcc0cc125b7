//! The sections of registers.

use std::str::FromStr;

use crate::decode::{Coding, Register};
use crate::error::{Error, ErrorKind, suggest};
use crate::quantity::Rational;

use super::serial::{DraftSerial, HIGHEST_FIRST};
use crate::reader::{Placed, Section};
use crate::setup::files::wrong;

/// A register as written, with the place of its bus's name.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftRegister {
    pub(in crate::setup) bus: Placed<String>,
    pub(in crate::setup) register: Register,
}

impl DraftRegister {
    /// The register, whose bus is one of those with a kind.
    pub(in crate::setup) fn resolve(&self, buses: &[DraftSerial], problems: &mut Vec<Error>) -> Register {
        let (bus, known) = (&self.bus, buses.iter().map(|bus| bus.name.value.as_str()));
        if known.clone().all(|name| name != bus.value) {
            let message = format!("there is no bus with a kind that is called '{}'", bus.value);
            problems.push(wrong(&bus.place, message, suggest(&bus.value, known, "bus")));
        }
        self.register.clone()
    }
}

/// A number with any unit, or none.
struct Scaled {
    number: Rational,
    unit: String,
}

impl FromStr for Scaled {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let (number, unit) = text.trim().split_once(' ').unwrap_or((text.trim(), ""));
        let number = decimal(number).ok_or_else(|| {
            let error = Error::new(ErrorKind::Quantity, format!("'{text}' does not begin with a number"));
            error.with_help("write a number and its unit, such as '0.125 degC'")
        })?;
        Ok(Scaled { number, unit: unit.trim().to_string() })
    }
}

/// A decimal number, or a fraction such as `1/256`, exactly.
fn decimal(text: &str) -> Option<Rational> {
    if text.contains('/') {
        return text.parse().ok();
    }
    let (whole, places) = text.split_once('.').unwrap_or((text, ""));
    let digits: i128 = format!("{whole}{places}").parse().ok()?;
    let scale = Rational::power_of_ten(i32::try_from(places.len()).ok()?)?;
    Rational::new(digits, 1)?.checked_div(scale)
}

/// Reads a register.
pub(in crate::setup) fn read_register(section: &Section<'_>) -> Option<DraftRegister> {
    let bus = section.required("bus", "bus = \"rtc\"");
    let name = section.required("name", "name = \"seconds\"");
    let part = section.count("part");
    let number = section.required_count("number", "number = 0x02");
    let bytes = section.count("bytes").map_or(1, |bytes| bytes.value);
    let order = section.word("order", &HIGHEST_FIRST);
    let codings = [("unsigned", Coding::Unsigned), ("signed", Coding::Signed), ("bcd", Coding::Decimal)];
    let coding = section.choice("coding", &codings, Some(Coding::Unsigned));
    let write = section.choice("access", &[("read", Some(false)), ("write", Some(true))], Some(None));
    let scale = section.parsed::<Scaled>("per-count").map(|scale| scale.value);
    let offset = section.parsed::<Scaled>("offset").map(|offset| offset.value);
    if !(1..=8).contains(&bytes) {
        section.complain("a register has 1 to 8 bytes", "give bytes = 1 to 8");
        return None;
    }
    let unit = |scaled: &Scaled| scaled.unit.clone();
    if let (Some(scale), Some(offset)) = (&scale, &offset)
        && scale.unit != offset.unit
    {
        let message = format!("'per-count' is in '{}', 'offset' in '{}'", scale.unit, offset.unit);
        section.complain(message, "write both in one unit");
        return None;
    }
    let bus = bus?;
    let register = Register {
        bus: bus.value.clone(),
        part: part.map(|part| part.value),
        number: number?.value,
        name: name?.value,
        bytes: bytes as u32,
        order: order?,
        coding: coding?,
        write: write?,
        per_count: scale.as_ref().map_or(Rational::ONE, |scale| scale.number),
        offset: offset.as_ref().map_or(Rational::ZERO, |offset| offset.number),
        unit: scale.as_ref().or(offset.as_ref()).map_or(String::new(), unit),
    };
    Some(DraftRegister { bus, register })
}
