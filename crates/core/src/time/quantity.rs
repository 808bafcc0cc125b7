//! Numbers with units, written the way engineers write them.

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use super::rational::Rational;
use crate::error::{Error, ErrorKind, Result};

/// Prefixes by exponent of ten, largest first. `u`, `µ` (micro sign) and `μ` (Greek mu) are one.
const PREFIXES: [(&str, i32); 11] = [
    ("T", 12),
    ("G", 9),
    ("M", 6),
    ("k", 3),
    ("", 0),
    ("m", -3),
    ("u", -6),
    ("n", -9),
    ("p", -12),
    ("f", -15),
    ("a", -18),
];

/// Most digits a number may be written with; keeps exact arithmetic far from its limits.
const MOST_DIGITS: usize = 18;

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
            /// use deep_tap_core::time::Time;
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
        }

        impl FromStr for $name {
            type Err = Error;

            #[doc = concat!("Reads a number with its unit, such as `", $example, "`; the space may be missing.")]
            fn from_str(text: &str) -> Result<Self> {
                parse(text, $unit, $what, $example).map($name)
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
    /// use deep_tap_core::time::Time;
    /// let hold: Time = "12.5ns".parse()?;
    /// assert_eq!(hold.to_string(), "12.5 ns");
    /// assert!("12.5".parse::<Time>().is_err(), "the unit is missing");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    Time, "s", "a time", "12.5 ns"
);
quantity!(
    /// A sample rate, in samples per second, exact.
    ///
    /// ```
    /// use deep_tap_core::time::Rate;
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
pub struct Samples(pub u64);

impl FromStr for Samples {
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
            Ok(count) if value.denominator() == 1 => Ok(Samples(count)),
            _ => Err(Error::new(ErrorKind::Quantity, format!("'{text}' is not a whole number of samples"))),
        }
    }
}

impl fmt::Display for Samples {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = print_exact(Rational::new(i128::from(self.0), 1).unwrap_or(Rational::ZERO), " samples");
        f.pad(&text.replace("  ", " "))
    }
}

/// Splits `12.5 ns` into `12.5` and `ns`.
fn split(text: &str) -> (&str, &str) {
    let text = text.trim();
    let end = text
        .char_indices()
        .find(|&(i, c)| !(c.is_ascii_digit() || c == '.' || c == '_' || (i == 0 && "+-\u{2212}".contains(c))))
        .map_or(text.len(), |(i, _)| i);
    (&text[..end], text[end..].trim())
}

fn parse(text: &str, unit: &str, what: &str, example: &str) -> Result<Rational> {
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

fn wrong_unit(text: &str, number: &str, written: &str, what: &str, unit: &str, example: &str) -> Error {
    let message = if number.is_empty() {
        format!("'{text}' is not {what}")
    } else if written.is_empty() {
        format!("'{text}' has no unit: {what} is in {unit}")
    } else {
        format!("'{written}' is not a unit of {what}: it is in {unit}")
    };
    Error::new(ErrorKind::Quantity, message).with_help(format!("write it like '{example}'"))
}

fn scaled(text: &str, number: &str, exponent: i32) -> Result<Rational> {
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

/// The prefix with which `value` has one to three digits before the decimal point.
fn prefix_for(value: Rational) -> (&'static str, i32) {
    if value.is_zero() {
        return ("", 0);
    }
    let fits = |exponent: i32| Rational::power_of_ten(exponent).is_some_and(|unit| value.abs() >= unit);
    let found = PREFIXES.iter().find(|(_, exponent)| fits(*exponent));
    found.copied().unwrap_or(PREFIXES[PREFIXES.len() - 1])
}

fn print_exact(value: Rational, unit: &str) -> String {
    let (prefix, exponent) = prefix_for(value);
    let mantissa = Rational::power_of_ten(-exponent).and_then(|s| value.checked_mul(s)).unwrap_or(value);
    format!("{} {prefix}{unit}", decimals(mantissa))
}

fn print_rounded(value: Rational, resolution: Rational, unit: &str) -> String {
    let (prefix, exponent) = prefix_for(if value.is_zero() { resolution } else { value });
    print_in(value, resolution, exponent, &format!("{prefix}{unit}"))
}

/// The same without a prefix.
fn print_plain(value: Rational, resolution: Rational, unit: &str) -> String {
    print_in(value, resolution, 0, unit)
}

fn print_in(value: Rational, resolution: Rational, exponent: i32, unit: &str) -> String {
    // The number of decimals whose last digit still is at least as coarse as the resolution's first.
    let mut places = 0;
    while places < 18
        && Rational::power_of_ten(exponent - places).is_some_and(|digit| digit > resolution.abs())
    {
        places += 1;
    }
    let scaled = Rational::power_of_ten(places - exponent).and_then(|s| value.checked_mul(s));
    match scaled {
        Some(scaled) => format!("{} {unit}", fixed(scaled.round(), places as usize)),
        None => format!("{} {unit}", value.to_f64() * 10f64.powi(-exponent)),
    }
}

/// An integer with its decimal point `places` digits from the right.
fn fixed(value: i128, places: usize) -> String {
    let sign = if value < 0 { "-" } else { "" };
    let digits = format!("{:0>width$}", value.unsigned_abs(), width = places + 1);
    let (whole, fraction) = digits.split_at(digits.len() - places);
    if places == 0 { format!("{sign}{whole}") } else { format!("{sign}{whole}.{fraction}") }
}

/// All decimals when they end within 30 places, else twelve significant digits.
fn decimals(value: Rational) -> String {
    let mut places = 0;
    let mut scaled = Some(value);
    while let Some(v) = scaled {
        if v.denominator() == 1 {
            return fixed(v.numerator(), places);
        }
        if places == 30 {
            break;
        }
        places += 1;
        scaled = v.checked_mul(Rational::from(10));
    }
    let whole_digits = value.abs().floor().to_string().len();
    let places = 12usize.saturating_sub(whole_digits);
    let rounded =
        Rational::power_of_ten(places as i32).and_then(|s| value.checked_mul(s)).map(Rational::round);
    match rounded {
        Some(rounded) => {
            let text = fixed(rounded, places);
            if places > 0 { text.trim_end_matches('0').trim_end_matches('.').to_string() } else { text }
        }
        None => format!("{}", value.to_f64()),
    }
}
