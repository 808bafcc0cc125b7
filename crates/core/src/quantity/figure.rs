//! A figure of a data sheet: a time, a share, or a voltage.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use super::rational::Rational;
use super::units::{Percent, Time, Voltage};
use crate::error::{Error, ErrorKind, Result};

/// What a figure of a data sheet is a quantity of.
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
/// use deep_tap_core::quantity::{Quantity, Unit};
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

    /// The same with the prefix of another value of the same unit.
    pub fn rounded_beside(self, other: Quantity, resolution: Quantity) -> String {
        match (self, other, resolution) {
            (Quantity::Time(time), Quantity::Time(other), Quantity::Time(resolution)) => {
                time.rounded_beside(other, resolution)
            }
            (Quantity::Voltage(voltage), Quantity::Voltage(other), Quantity::Voltage(resolution)) => {
                voltage.rounded_beside(other, resolution)
            }
            _ => self.rounded(resolution),
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
