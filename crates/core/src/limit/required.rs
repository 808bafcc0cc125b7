//! What a limit asks for.

use std::fmt;

use crate::error::{Error, ErrorKind};
use crate::quantity::{Quantity, Rational, Time, Unit};

/// The required range. At least one end is given, but for the limits of kind `stable`, which ask for
/// no value; both ends are of the unit of the limit's kind. Of kind `window`, it is a range that must be
/// clear: from where to where, seen from the reference event, nothing may change.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Required {
    /// Not less than this.
    pub min: Option<Quantity>,
    /// Not more than this.
    pub max: Option<Quantity>,
    /// Whether values must be outside instead: not more than `min`, or not less than `max`.
    pub clear: bool,
}

impl Required {
    /// From one time to another, either of which may be left open.
    pub fn times(min: Option<Time>, max: Option<Time>) -> Self {
        Required { min: min.map(Quantity::Time), max: max.map(Quantity::Time), clear: false }
    }

    /// No change from `setup` before a reference event to `hold` after it, either of which may be negative.
    pub fn clear_around(setup: Time, hold: Time) -> Self {
        let min = Time::from_rational(-setup.to_rational());
        Required { clear: true, ..Required::times(Some(min), Some(hold)) }
    }

    /// The smallest time, if this is about times.
    pub fn min_time(&self) -> Option<Time> {
        self.min.and_then(Quantity::time)
    }

    /// The largest time, if this is about times.
    pub fn max_time(&self) -> Option<Time> {
        self.max.and_then(Quantity::time)
    }

    /// How far a value (in the unit of the ends, a share as a fraction) is from violating it; negative when it
    /// does. `None` when there is no end, or exact arithmetic does not fit.
    pub fn margin(&self, value: Rational) -> Option<Rational> {
        let above = self.min.map(|min| value.checked_sub(min.to_rational()));
        let below = self.max.map(|max| max.to_rational().checked_sub(value));
        let inside =
            above.into_iter().chain(below).min_by_key(|margin| margin.unwrap_or(Rational::ZERO))??;
        Some(if self.clear { -inside } else { inside })
    }
}

impl fmt::Display for Required {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = match (self.min, self.max) {
            (Some(min), Some(max)) if self.clear => format!("none in {} .. {}", short(min), short(max)),
            (Some(min), Some(max)) if min.to_rational() == -max.to_rational() => format!("± {}", short(max)),
            (Some(min), Some(max)) => format!("{} .. {}", short(min), short(max)),
            (Some(min), None) => format!("≥ {}", short(min)),
            (None, Some(max)) => format!("≤ {}", short(max)),
            (None, None) => "no change".to_string(),
        };
        f.pad(&text)
    }
}

/// All digits, but for what a formula made of many: of that, four.
fn short(quantity: Quantity) -> String {
    let text = quantity.to_string();
    if text.bytes().filter(u8::is_ascii_digit).count() <= 8 {
        return text;
    }
    let share = Rational::new(1, 1000).and_then(|share| quantity.to_rational().abs().checked_mul(share));
    share.map_or(text, |share| quantity.rounded(quantity.unit().of(share)))
}

impl Required {
    /// What is wrong with an end that asks for a time below zero, which no interval is.
    pub(crate) fn below_zero(&self) -> Option<Error> {
        if self.clear {
            return None;
        }
        let below = |end: &Quantity| end.unit() == Unit::Time && end.to_rational().is_negative();
        let end = [self.min, self.max].into_iter().flatten().find(below)?;
        let error = Error::new(ErrorKind::Limits, format!("{end} is below zero, and no length of time is"));
        Some(error.with_help(
            "with a negative set-up or hold time, a change may come on the other side of the reference, which \
             neither kind looks at: write kind = \"window\" with both, as setup = \"…\" and hold = \"…\"",
        ))
    }
}
