//! Arithmetic with quantities, as data sheets have it: `tCYC / 2 - 5 ns`, `max(0.4 tCYC, 20 ns)`.

use std::ops::Range;
use std::sync::Arc;

use crate::error::{Error, ErrorKind, Place, Result, TextPlace};
use crate::quantity::{Quantity, Unit};
use crate::quantity::{Rational, Time};

/// Deepest nesting of brackets and signs.
const DEEPEST: u32 = 40;

/// A number, with its unit or without.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operand {
    /// A plain number.
    Number(Rational),
    /// A quantity.
    Quantity(Quantity),
}

impl Operand {
    fn unit(self) -> Option<Unit> {
        match self {
            Operand::Number(_) => None,
            Operand::Quantity(quantity) => Some(quantity.unit()),
        }
    }

    fn rational(self) -> Rational {
        match self {
            Operand::Number(number) => number,
            Operand::Quantity(quantity) => quantity.to_rational(),
        }
    }

    fn of(unit: Option<Unit>, value: Rational) -> Self {
        unit.map_or(Operand::Number(value), |unit| Operand::Quantity(unit.of(value)))
    }

    fn what(self) -> &'static str {
        self.unit().map_or("a plain number", Unit::what)
    }
}

/// Works a formula out: quantities with their units, plain numbers, `+ - * /`, brackets, `min(…)` and
/// `max(…)`, and names, which `look_up` is asked for. A number before a name multiplies it.
///
/// ```
/// use deep_tap_core::quantity::{Quantity, Unit};
/// use deep_tap_core::limit::{Operand, evaluate};
///
/// let cycle = |_: &str| Ok(Operand::Quantity("40 ns".parse()?));
/// let half = evaluate("tCYC / 2 - 5 ns", Unit::Time, &mut { cycle })?;
/// assert_eq!(half.to_string(), "15 ns");
/// assert_eq!(evaluate("max(0.4 tCYC, 20 ns)", Unit::Time, &mut { cycle })?.to_string(), "20 ns");
/// assert!(evaluate("tCYC + 2", Unit::Time, &mut { cycle }).is_err(), "2 of what?");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
///
/// # Errors
/// [`ErrorKind::Limits`] with the column: what does not parse, units that do not go together, a result
/// that is not in `unit`; and what `look_up` returns.
pub fn evaluate(
    text: &str,
    unit: Unit,
    look_up: &mut dyn FnMut(&str) -> Result<Operand>,
) -> Result<Quantity> {
    let value = evaluate_any(text, look_up)?;
    let wrong = |message: &str| error(text, 0..text.len(), message);
    match value {
        Operand::Quantity(quantity) if quantity.unit() == unit => Ok(quantity),
        // Nothing is nothing in every unit.
        Operand::Number(number) if number.is_zero() => Ok(unit.of(number)),
        Operand::Number(_) => Err(wrong(&format!("'{}' has no unit", text.trim())).with_help(format!(
            "this is {}, such as '{}'",
            unit.what(),
            unit.sample()
        ))),
        Operand::Quantity(_) => Err(wrong(&format!("'{}' is {}", text.trim(), value.what()))
            .with_help(format!("this should be {}, such as '{}'", unit.what(), unit.sample()))),
    }
}

/// The same in whatever unit it comes out.
///
/// # Errors
/// As [`evaluate`].
pub fn evaluate_any(text: &str, look_up: &mut dyn FnMut(&str) -> Result<Operand>) -> Result<Operand> {
    let mut reader = Reader { text, at: 0, depth: 0, look_up };
    let value = reader.sum()?;
    reader.skip_blanks();
    if reader.at < text.len() {
        return Err(reader
            .error(reader.at..text.len(), "this does not belong to the formula")
            .with_help(SIGNS));
    }
    Ok(value)
}

fn error(text: &str, span: Range<usize>, message: &str) -> Error {
    let place = TextPlace { name: Arc::from(""), text: Arc::from(text), span };
    Error::new(ErrorKind::Limits, message).at(Place::Text(place))
}

const SIGNS: &str = "a formula has quantities, numbers, names, + - * /, brackets, min(…) and max(…)";

struct Reader<'a> {
    text: &'a str,
    at: usize,
    depth: u32,
    look_up: &'a mut dyn FnMut(&str) -> Result<Operand>,
}

impl Reader<'_> {
    fn error(&self, span: Range<usize>, message: &str) -> Error {
        error(self.text, span, message)
    }

    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn skip_blanks(&mut self) {
        self.at = self.text.len() - self.rest().trim_start().len();
    }

    /// Takes one of these signs.
    fn sign(&mut self, signs: &[char]) -> Option<char> {
        self.skip_blanks();
        let sign = self.rest().chars().next().filter(|c| signs.contains(c))?;
        self.at += sign.len_utf8();
        Some(sign)
    }

    fn sum(&mut self) -> Result<Operand> {
        let begin = self.at;
        let mut left = self.product()?;
        while let Some(sign) = self.sign(&['+', '-', '−']) {
            let right = self.product()?;
            if left.unit() != right.unit() && !left.rational().is_zero() && !right.rational().is_zero() {
                let message = format!("{} and {} cannot be added up", left.what(), right.what());
                return Err(self
                    .error(begin..self.at, &message)
                    .with_help("write a unit behind each number"));
            }
            let (a, b) = (left.rational(), right.rational());
            let sum = if sign == '+' { a.checked_add(b) } else { a.checked_sub(b) };
            left = Operand::of(left.unit().or(right.unit()), self.fits(sum, begin)?);
        }
        Ok(left)
    }

    fn product(&mut self) -> Result<Operand> {
        let begin = self.at;
        let mut left = self.factor()?;
        while let Some(sign) = self.sign(&['*', '/', '·', '×']) {
            let right = self.factor()?;
            left = if sign == '/' {
                self.quotient(left, right, begin)?
            } else {
                self.times(left, right, begin)?
            };
        }
        Ok(left)
    }

    fn times(&self, left: Operand, right: Operand, begin: usize) -> Result<Operand> {
        // A percentage of something is that thing again.
        let unit = match (left.unit(), right.unit()) {
            (None, unit) | (unit, None) => unit,
            (Some(Unit::Percent), unit) | (unit, Some(Unit::Percent)) => unit,
            _ => {
                let message = format!("{} times {} makes no limit", left.what(), right.what());
                return Err(self.error(begin..self.at, &message).with_help(SIGNS));
            }
        };
        Ok(Operand::of(unit, self.fits(left.rational().checked_mul(right.rational()), begin)?))
    }

    fn quotient(&self, left: Operand, right: Operand, begin: usize) -> Result<Operand> {
        let unit = match (left.unit(), right.unit()) {
            (unit, None) => unit,
            (a, b) if a == b => None,
            (unit, Some(Unit::Percent)) => unit,
            _ => {
                let message = format!("{} divided by {} makes no limit", left.what(), right.what());
                return Err(self.error(begin..self.at, &message).with_help(SIGNS));
            }
        };
        if right.rational().is_zero() {
            return Err(self.error(begin..self.at, "this divides by zero"));
        }
        Ok(Operand::of(unit, self.fits(left.rational().checked_div(right.rational()), begin)?))
    }

    fn fits(&self, value: Option<Rational>, begin: usize) -> Result<Rational> {
        value.ok_or_else(|| self.error(begin..self.at, "this is too large or too small to be exact"))
    }

    fn factor(&mut self) -> Result<Operand> {
        self.depth += 1;
        let value = if self.depth > DEEPEST {
            Err(self.error(self.at..self.text.len(), "the formula is nested too deeply"))
        } else {
            self.simple()
        };
        self.depth -= 1;
        value
    }

    fn simple(&mut self) -> Result<Operand> {
        let begin = self.at;
        if self.sign(&['-', '−']).is_some() {
            let value = self.factor()?;
            return Ok(Operand::of(value.unit(), -value.rational()));
        }
        if self.sign(&['(']).is_some() {
            let value = self.sum()?;
            self.closing(begin)?;
            return Ok(value);
        }
        self.skip_blanks();
        let begin = self.at;
        let first = self.rest().chars().next();
        match first {
            Some(c) if c.is_ascii_digit() || c == '.' => self.number(),
            Some(c) if c.is_alphabetic() || c == '_' || c == '"' => self.name(),
            _ => {
                let end = first.map_or(begin, |c| begin + c.len_utf8());
                Err(self.error(begin..end, "a quantity or a name is missing here").with_help(SIGNS))
            }
        }
    }

    fn closing(&mut self, begin: usize) -> Result<()> {
        match self.sign(&[')']) {
            Some(_) => Ok(()),
            None => Err(self.error(begin..self.at, "this bracket is not closed")),
        }
    }

    /// A number, with its unit if one follows.
    fn number(&mut self) -> Result<Operand> {
        let begin = self.at;
        let digits = self.rest().find(|c: char| !(c.is_ascii_digit() || c == '.' || c == '_'));
        self.at += digits.unwrap_or(self.rest().len());
        let end = self.at;
        self.skip_blanks();
        let word = self.at;
        let len = self.rest().find(|c: char| !(c.is_alphanumeric() || c == 'µ' || c == 'μ'));
        let len = len.unwrap_or(self.rest().len());
        let len = if self.rest().starts_with('%') { 1 } else { len };
        if len > 0
            && let Ok(quantity) = self.text[begin..word + len].parse::<Quantity>()
        {
            self.at = word + len;
            return Ok(Operand::Quantity(quantity));
        }
        self.at = end;
        let number = plain_number(&self.text[begin..end]).map(Operand::Number);
        let number = number.ok_or_else(|| self.error(begin..end, "this is no number"))?;
        // `0.4 tCYC` is a product.
        if len > 0 && !self.text[word..].starts_with('%') {
            let factor = self.factor()?;
            return self.times(number, factor, begin);
        }
        Ok(number)
    }

    /// A name, or one of the two functions.
    fn name(&mut self) -> Result<Operand> {
        let begin = self.at;
        let name = if self.rest().starts_with('"') {
            let Some(len) = self.rest()[1..].find('"') else {
                return Err(self.error(begin..self.text.len(), "this quote is not closed"));
            };
            self.at += len + 2;
            self.text[begin + 1..self.at - 1].to_string()
        } else {
            let len = self.rest().find(|c: char| !(c.is_alphanumeric() || "_.;:".contains(c)));
            self.at += len.unwrap_or(self.rest().len());
            self.text[begin..self.at].to_string()
        };
        if let "min" | "max" = name.as_str()
            && self.sign(&['(']).is_some()
        {
            return self.extreme(name == "min", begin);
        }
        let found = (self.look_up)(&name);
        found.map_err(|error| {
            // An error that knows a better place, in another formula, keeps it.
            let placed = match error.place() {
                Some(_) => return error,
                None => self.error(begin..self.at, error.message()),
            };
            match error.help() {
                Some(help) => placed.with_help(help),
                None => placed,
            }
        })
    }

    fn extreme(&mut self, least: bool, begin: usize) -> Result<Operand> {
        let mut best = self.sum()?;
        while self.sign(&[',']).is_some() {
            let other = self.sum()?;
            if other.unit() != best.unit() {
                let message = format!("{} and {} cannot be compared", best.what(), other.what());
                return Err(self.error(begin..self.at, &message));
            }
            if (other.rational() < best.rational()) == least {
                best = other;
            }
        }
        self.closing(begin)?;
        Ok(best)
    }
}

/// A number without a unit.
fn plain_number(text: &str) -> Option<Rational> {
    format!("{} s", text.trim()).parse::<Time>().ok().map(Time::to_rational)
}
