//! Numbers with units, written the way engineers write them.

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use super::prefix::PREFIXES;
use super::print::{decimals, print_beside, print_exact, print_plain, print_rounded};
use super::rational::Rational;
use super::read::{parse, scaled, split, wrong_unit};
use crate::error::{Error, ErrorKind, Result};

macro_rules! quantity {
    ($(#[$doc:meta])* $name:ident, $unit:literal, $what:literal, $example:literal) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(Rational);

        impl $name {
            /// Zero.
            pub const ZERO: $name = $name(Rational::ZERO);

            #[doc = concat!("An exact number of `", $unit, "`.")]
            pub const fn from_rational(value: Rational) -> Self {
                $name(value)
            }

            #[doc = concat!("The exact number of `", $unit, "`.")]
            pub const fn to_rational(self) -> Rational {
                self.0
            }

            #[doc = concat!("The number of `", $unit, "`, rounded, for display and statistics.")]
            pub fn to_f64(self) -> f64 {
                self.0.to_f64()
            }

            /// The same rounded to what `resolution` supports, with the prefix that fits: the last digit
            /// printed is not finer than the resolution's leading digit. A zero resolution prints all
            /// digits.
            ///
            /// ```
            /// use deep_tap_core::quantity::Time;
            /// let at: Time = "3.21841234 ms".parse()?;
            /// assert_eq!(at.rounded("10 ns".parse()?), "3.21841 ms");
            /// # Ok::<(), deep_tap_core::Error>(())
            /// ```
            pub fn rounded(self, resolution: Self) -> String {
                if resolution.0.is_zero() {
                    return self.to_string();
                }
                print_rounded(self.0, resolution.0, $unit)
            }

            /// The same with the prefix that another value has, as numbers of one axis are written.
            ///
            /// ```
            /// use deep_tap_core::quantity::Time;
            /// let (at, resolution): (Time, Time) = ("-800 us".parse()?, "200 us".parse()?);
            /// assert_eq!(at.rounded_beside("-1.2 ms".parse()?, resolution), "-0.8 ms");
            /// # Ok::<(), deep_tap_core::Error>(())
            /// ```
            pub fn rounded_beside(self, other: Self, resolution: Self) -> String {
                print_beside(self.0, other.0, resolution.0, $unit)
            }
        }

        impl FromStr for $name {
            type Err = Error;

            #[doc = concat!("Reads a number with its unit, such as `", $example, "`; the space may be missing.")]
            fn from_str(text: &str) -> Result<Self> {
                parse(text, $unit, $what, $example).map($name)
            }
        }

        impl TryFrom<&str> for $name {
            type Error = Error;

            fn try_from(text: &str) -> Result<Self> {
                text.parse()
            }
        }

        impl fmt::Display for $name {
            /// All digits when the number ends in decimals, else twelve significant ones.
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&print_exact(self.0, $unit))
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Display::fmt(self, f)
            }
        }

        impl Serialize for $name {
            #[doc = concat!("A plain number in `", $unit, "`.")]
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_f64(self.to_f64())
            }
        }
    };
}

quantity!(
    /// A length of time or a signed instant, in seconds, exact.
    ///
    /// ```
    /// use deep_tap_core::quantity::Time;
    /// let hold: Time = "12.5ns".parse()?;
    /// assert_eq!(hold.to_string(), "12.5 ns");
    /// assert!("12.5".parse::<Time>().is_err(), "the unit is missing");
    /// let long: Time = "1 h 2 min 3.5 s".parse()?;
    /// assert_eq!(long, "3723.5 s".parse()?);
    /// assert_eq!(long.rounded("1 ms".parse()?), "1 h 2 min 3.500 s");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    Time, "s", "a time", "12.5 ns"
);
quantity!(
    /// A sample rate, in samples per second, exact.
    ///
    /// ```
    /// use deep_tap_core::quantity::Rate;
    /// let rate: Rate = "24 MS/s".parse()?;
    /// assert_eq!(rate.period().unwrap().to_string(), "41.6666666667 ns");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    Rate, "S/s", "a sample rate", "100 MS/s"
);
quantity!(
    /// A frequency, in hertz, exact.
    Frequency, "Hz", "a frequency", "400 kHz"
);
quantity!(
    /// A voltage, in volts, exact.
    Voltage, "V", "a voltage", "1.65 V"
);

impl Time {
    /// A whole number of picoseconds.
    pub fn from_ps(ps: i64) -> Self {
        Time(Rational::new(i128::from(ps), 1_000_000_000_000).unwrap_or(Rational::ZERO))
    }
}

impl Rate {
    /// The time between two samples; `None` for a rate of zero.
    pub fn period(self) -> Option<Time> {
        self.0.recip().map(Time)
    }
}

/// A share or an accuracy: `25 %`, `20 ppm`. Kept as an exact fraction of one.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Percent(Rational);

impl Percent {
    /// Zero.
    pub const ZERO: Percent = Percent(Rational::ZERO);

    /// From an exact fraction: one quarter is 25 %.
    pub const fn from_fraction(fraction: Rational) -> Self {
        Percent(fraction)
    }

    /// The exact fraction: 25 % is one quarter.
    pub const fn to_fraction(self) -> Rational {
        self.0
    }

    /// The same rounded to what `resolution` supports, in percent; a zero resolution prints all digits.
    pub fn rounded(self, resolution: Percent) -> String {
        let hundred = |value: Rational| value.checked_mul(Rational::from(100)).unwrap_or(value);
        match resolution.0.is_zero() {
            true => self.to_string(),
            false => print_plain(hundred(self.0), hundred(resolution.0), "%"),
        }
    }
}

impl FromStr for Percent {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let (number, unit) = split(text);
        let scale = match unit {
            "%" => -2,
            "ppm" => -6,
            _ => return Err(wrong_unit(text, number, unit, "a percentage", "%", "25 %")),
        };
        scaled(text, number, scale).map(Percent)
    }
}

impl fmt::Display for Percent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let fine = !self.0.is_zero() && self.0.abs() < Rational::new(1, 10_000).unwrap_or(Rational::ZERO);
        let (exponent, unit) = if fine { (6, "ppm") } else { (2, "%") };
        let scaled = Rational::power_of_ten(exponent).and_then(|s| self.0.checked_mul(s)).unwrap_or(self.0);
        f.pad(&format!("{} {unit}", decimals(scaled)))
    }
}

impl fmt::Debug for Percent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl Serialize for Percent {
    /// A plain fraction of one.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_f64(self.0.to_f64())
    }
}

/// A number of samples: `2 M samples`, `2M`, `2000000`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub struct SampleCount(pub u64);

impl FromStr for SampleCount {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let (number, unit) = split(text);
        let unit = unit.trim_end_matches("samples").trim_end_matches("sample").trim();
        let Some(&(_, exponent)) = PREFIXES.iter().find(|(p, e)| *p == unit && *e >= 0) else {
            return Err(Error::new(ErrorKind::Quantity, format!("'{text}' is not a number of samples"))
                .with_help("write it like '2 M samples', '500 k' or '2000000'"));
        };
        let value = scaled(text, number, exponent)?;
        match u64::try_from(value.numerator()) {
            Ok(count) if value.denominator() == 1 => Ok(SampleCount(count)),
            _ => Err(Error::new(ErrorKind::Quantity, format!("'{text}' is not a whole number of samples"))),
        }
    }
}

impl fmt::Display for SampleCount {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = print_exact(Rational::new(i128::from(self.0), 1).unwrap_or(Rational::ZERO), " samples");
        f.pad(&text.replace("  ", " "))
    }
}
