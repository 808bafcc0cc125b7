//! What a limit is written in: a time, a share, or a voltage.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use crate::error::{Error, ErrorKind, Result};
use crate::time::{Percent, Rational, Time, Voltage};

/// What kind of quantity a limit is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
pub enum Unit {
    /// A time, in seconds.
    #[serde(rename = "s")]
    Time,
    /// A share or a deviation, in percent.
    #[serde(rename = "%")]
    Percent,
    /// A voltage, in volts.
    #[serde(rename = "V")]
    Voltage,
}

impl Unit {
    /// This much of it: seconds, volts, or for a share, fractions of one.
    pub fn of(self, value: Rational) -> Quantity {
        match self {
            Unit::Time => Quantity::Time(Time::from_rational(value)),
            Unit::Percent => Quantity::Percent(Percent::from_fraction(value)),
            Unit::Voltage => Quantity::Voltage(Voltage::from_rational(value)),
        }
    }

    /// What it is, in words.
    pub fn what(self) -> &'static str {
        match self {
            Unit::Time => "a time",
            Unit::Percent => "a percentage",
            Unit::Voltage => "a voltage",
        }
    }

    /// An example of how it is written.
    pub fn sample(self) -> &'static str {
        match self {
            Unit::Time => "5 ns",
            Unit::Percent => "45 %",
            Unit::Voltage => "2.4 V",
        }
    }
}

impl fmt::Display for Unit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Unit::Time => "s",
            Unit::Percent => "%",
            Unit::Voltage => "V",
        })
    }
}

/// A figure of a data sheet with its unit.
///
/// ```
/// use deep_tap_core::limit::{Quantity, Unit};
///
/// let share: Quantity = "45 %".parse()?;
/// assert_eq!((share.unit(), share.to_string()), (Unit::Percent, "45 %".to_string()));
/// assert!("45".parse::<Quantity>().is_err(), "45 of what?");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Quantity {
    /// A time.
    Time(Time),
    /// A share, or a deviation from a nominal value.
    Percent(Percent),
    /// A voltage.
    Voltage(Voltage),
}

impl Quantity {
    /// What kind it is of.
    pub fn unit(self) -> Unit {
        match self {
            Quantity::Time(_) => Unit::Time,
            Quantity::Percent(_) => Unit::Percent,
            Quantity::Voltage(_) => Unit::Voltage,
        }
    }

    /// How much it is: seconds, volts, or for a share, the fraction of one.
    pub fn to_rational(self) -> Rational {
        match self {
            Quantity::Time(time) => time.to_rational(),
            Quantity::Percent(percent) => percent.to_fraction(),
            Quantity::Voltage(voltage) => voltage.to_rational(),
        }
    }

    /// The number in its [`unit`](Self::unit), rounded, for display and statistics.
    pub fn to_f64(self) -> f64 {
        match self {
            Quantity::Percent(percent) => percent.to_fraction().to_f64() * 100.0,
            other => other.to_rational().to_f64(),
        }
    }

    /// The time that it is, if it is one.
    pub fn time(self) -> Option<Time> {
        match self {
            Quantity::Time(time) => Some(time),
            Quantity::Percent(_) | Quantity::Voltage(_) => None,
        }
    }

    /// Rounded to what a resolution (of the same unit) supports; with all digits where it is zero.
    pub fn rounded(self, resolution: Quantity) -> String {
        match (self, resolution) {
            (Quantity::Time(time), Quantity::Time(resolution)) => time.rounded(resolution),
            (Quantity::Voltage(voltage), Quantity::Voltage(resolution)) => voltage.rounded(resolution),
            (Quantity::Percent(percent), Quantity::Percent(resolution)) => percent.rounded(resolution),
            _ => self.to_string(),
        }
    }
}

impl PartialOrd for Quantity {
    /// Quantities of different units do not compare.
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        (self.unit() == other.unit()).then(|| self.to_rational().cmp(&other.to_rational()))
    }
}

impl fmt::Display for Quantity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Quantity::Time(time) => time.fmt(f),
            Quantity::Percent(percent) => percent.fmt(f),
            Quantity::Voltage(voltage) => voltage.fmt(f),
        }
    }
}

impl FromStr for Quantity {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let time = text.parse().map(Quantity::Time);
        time.or_else(|_| text.parse().map(Quantity::Percent))
            .or_else(|_| text.parse().map(Quantity::Voltage))
            .map_err(|_| {
                Error::new(ErrorKind::Quantity, format!("'{text}' is no time, percentage or voltage"))
                    .with_help("write it like '5 ns', '45 %' or '2.4 V'")
            })
    }
}

impl TryFrom<&str> for Quantity {
    type Error = Error;

    fn try_from(text: &str) -> Result<Self> {
        text.parse()
    }
}

impl Serialize for Quantity {
    /// A plain number in its unit: seconds, percent, volts.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_f64(self.to_f64())
    }
}

impl From<Time> for Quantity {
    fn from(time: Time) -> Self {
        Quantity::Time(time)
    }
}

impl From<Percent> for Quantity {
    fn from(percent: Percent) -> Self {
        Quantity::Percent(percent)
    }
}

impl From<Voltage> for Quantity {
    fn from(voltage: Voltage) -> Self {
        Quantity::Voltage(voltage)
    }
}

/// The required range. At least one end is given, but for the limits of kind `stable`, which ask for
/// no value; both ends are of the unit of the limit's kind.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Required {
    /// Not less than this.
    pub min: Option<Quantity>,
    /// Not more than this.
    pub max: Option<Quantity>,
}

impl Required {
    /// From one time to another, either of which may be left open.
    pub fn times(min: Option<Time>, max: Option<Time>) -> Self {
        Required { min: min.map(Quantity::Time), max: max.map(Quantity::Time) }
    }

    /// The smallest time, if this is about times.
    pub fn min_time(&self) -> Option<Time> {
        self.min.and_then(Quantity::time)
    }

    /// The largest time, if this is about times.
    pub fn max_time(&self) -> Option<Time> {
        self.max.and_then(Quantity::time)
    }

    /// How far a value (in the unit of the ends, a share as a fraction) is inside; negative when it is
    /// outside. `None` when there is no end, or exact arithmetic does not fit.
    pub fn margin(&self, value: Rational) -> Option<Rational> {
        let above = self.min.map(|min| value.checked_sub(min.to_rational()));
        let below = self.max.map(|max| max.to_rational().checked_sub(value));
        above.into_iter().chain(below).min_by_key(|margin| margin.unwrap_or(Rational::ZERO))?
    }
}

impl fmt::Display for Required {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = match (self.min, self.max) {
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
