//! Numbers with units, from text.

use super::prefix::PREFIXES;
use super::rational::Rational;
use crate::error::{Error, ErrorKind, Result};

/// Most digits a number may be written with; keeps exact arithmetic far from its limits.
const MOST_DIGITS: usize = 18;

/// Largest power of ten, either way, that a number may be written with.
const MOST_POWER: i32 = 30;

/// Splits `12.5 ns` into `12.5` and `ns`, and `1.25e-8 s` into `1.25e-8` and `s`.
pub(super) fn split(text: &str) -> (&str, &str) {
    let text = text.trim();
    let end = text
        .char_indices()
        .find(|&(i, c)| !(c.is_ascii_digit() || c == '.' || c == '_' || (i == 0 && "+-\u{2212}".contains(c))))
        .map_or(text.len(), |(i, _)| i);
    let end = end + if end > 0 { exponent_len(&text[end..]) } else { 0 };
    (&text[..end], text[end..].trim())
}

/// How long the exponent is that a text begins with: `e`, a sign or none, digits. `0` without one.
pub(crate) fn exponent_len(text: &str) -> usize {
    let Some(rest) = text.strip_prefix(['e', 'E']) else { return 0 };
    let digits = rest.strip_prefix(['+', '-', '\u{2212}']).unwrap_or(rest);
    match digits.bytes().take_while(u8::is_ascii_digit).count() {
        0 => 0,
        count => text.len() - digits.len() + count,
    }
}

/// Hours, minutes and seconds, as in `1 h 2 min 3.5 s`; nothing of a text without hours and minutes.
fn clock(text: &str) -> Option<Rational> {
    let (negative, mut rest) = match text.trim().strip_prefix(['-', '\u{2212}']) {
        Some(rest) => (true, rest),
        None => (false, text.trim().strip_prefix('+').unwrap_or(text.trim())),
    };
    let mut sum = Rational::ZERO;
    let mut before = i64::MAX;
    while !rest.is_empty() {
        let (number, _) = split(rest);
        let after = rest[number.len()..].trim_start();
        let end = after.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(after.len());
        let seconds = match &after[..end] {
            "h" => 3600,
            "min" => 60,
            "s" => 1,
            _ => return None,
        };
        if number.is_empty() || number.starts_with(['-', '+', '\u{2212}']) || seconds >= before {
            return None;
        }
        let value = scaled(text, number, 0).ok()?.checked_mul(Rational::from(seconds))?;
        (sum, before, rest) = (sum.checked_add(value)?, seconds, after[end..].trim_start());
    }
    // Seconds alone are read as every other unit is.
    (before < i64::MAX && text.contains(['h', 'm'])).then_some(if negative { -sum } else { sum })
}

pub(super) fn parse(text: &str, unit: &str, what: &str, example: &str) -> Result<Rational> {
    if let Some(time) = Some(text).filter(|_| unit == "s").and_then(clock) {
        return Ok(time);
    }
    let (number, written) = split(text);
    let prefix = written.strip_suffix(unit).map(str::trim);
    let exponent = prefix.and_then(|prefix| {
        let prefix = if matches!(prefix, "µ" | "μ") { "u" } else { prefix };
        PREFIXES.iter().find(|(p, _)| *p == prefix).map(|(_, e)| *e)
    });
    match exponent {
        Some(exponent) => scaled(text, number, exponent),
        None => Err(wrong_unit(text, number, written, what, unit, example)),
    }
}

pub(super) fn wrong_unit(
    text: &str,
    number: &str,
    written: &str,
    what: &str,
    unit: &str,
    example: &str,
) -> Error {
    let message = if number.is_empty() {
        format!("'{text}' is not {what}")
    } else if written.is_empty() {
        format!("'{text}' has no unit: {what} is in {unit}")
    } else {
        format!("'{written}' is not a unit of {what}: it is in {unit}")
    };
    Error::new(ErrorKind::Quantity, message).with_help(format!("write it like '{example}'"))
}

pub(super) fn scaled(text: &str, number: &str, exponent: i32) -> Result<Rational> {
    let bad = |why: &str| Error::new(ErrorKind::Quantity, format!("'{text}' is not a number: {why}"));
    let (negative, body) = match number.strip_prefix(['-', '\u{2212}']) {
        Some(rest) => (true, rest),
        None => (false, number.strip_prefix('+').unwrap_or(number)),
    };
    let (body, power) = body.split_once(['e', 'E']).unwrap_or((body, "0"));
    let power: i32 = power.replace('\u{2212}', "-").parse().map_err(|_| bad("its exponent is too large"))?;
    if power.abs() > MOST_POWER {
        return Err(bad("too large or too small"));
    }
    let body: String = body.chars().filter(|c| *c != '_').collect();
    let (whole, fraction) = body.split_once('.').unwrap_or((&body, ""));
    if whole.is_empty() && fraction.is_empty() {
        return Err(bad("no digits"));
    }
    if fraction.contains('.') {
        return Err(bad("two decimal points"));
    }
    let digits = format!("{whole}{fraction}");
    let significant = digits.trim_start_matches('0').len();
    if significant > MOST_DIGITS || fraction.len() > MOST_DIGITS {
        return Err(bad(&format!("more than {MOST_DIGITS} digits")));
    }
    let magnitude: i128 = if significant == 0 { 0 } else { digits.parse().map_err(|_| bad("not digits"))? };
    let places = i32::try_from(fraction.len()).unwrap_or(i32::MAX);
    Rational::new(if negative { -magnitude } else { magnitude }, 1)
        .zip(Rational::power_of_ten(exponent + power - places))
        .and_then(|(value, scale)| value.checked_mul(scale))
        .ok_or_else(|| bad("too large or too small"))
}
