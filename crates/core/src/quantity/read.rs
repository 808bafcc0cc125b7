//! Numbers with units, from text.

use super::prefix::PREFIXES;
use super::rational::Rational;
use crate::error::{Error, ErrorKind, Result};

/// Most digits a number may be written with; keeps exact arithmetic far from its limits.
const MOST_DIGITS: usize = 18;

/// Splits `12.5 ns` into `12.5` and `ns`.
pub(super) fn split(text: &str) -> (&str, &str) {
    let text = text.trim();
    let end = text
        .char_indices()
        .find(|&(i, c)| !(c.is_ascii_digit() || c == '.' || c == '_' || (i == 0 && "+-\u{2212}".contains(c))))
        .map_or(text.len(), |(i, _)| i);
    (&text[..end], text[end..].trim())
}

pub(super) fn parse(text: &str, unit: &str, what: &str, example: &str) -> Result<Rational> {
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
        .zip(Rational::power_of_ten(exponent - places))
        .and_then(|(value, scale)| value.checked_mul(scale))
        .ok_or_else(|| bad("too large or too small"))
}
