//! Exact numbers with units, as text.

use super::prefix::prefix_for;
use super::rational::Rational;

/// The seconds from which on a time is told in minutes and hours.
const MINUTE: i64 = 60;

/// A long time in hours, minutes and seconds, as people read it; nothing of a shorter one, or of anything else.
fn clock(value: Rational, unit: &str, seconds: impl Fn(Rational) -> Option<String>) -> Option<String> {
    if unit != "s" || value.abs() < Rational::from(MINUTE) {
        return None;
    }
    let minutes = value.abs().checked_div(Rational::from(MINUTE))?.floor();
    let rest = value.abs().checked_sub(Rational::new(minutes * i128::from(MINUTE), 1)?)?;
    let (hours, minutes) = (minutes / i128::from(MINUTE), minutes % i128::from(MINUTE));
    let sign = if value.is_negative() { "-" } else { "" };
    let mut parts = Vec::new();
    if hours > 0 {
        parts.push(format!("{hours} h"));
    }
    if minutes > 0 {
        parts.push(format!("{minutes} min"));
    }
    parts.extend(seconds(rest).map(|seconds| format!("{seconds} s")));
    Some(format!("{sign}{}", parts.join(" ")))
}

pub(super) fn print_exact(value: Rational, unit: &str) -> String {
    let (prefix, exponent) = prefix_for(value);
    let mantissa = Rational::power_of_ten(-exponent).and_then(|s| value.checked_mul(s)).unwrap_or(value);
    format!("{} {prefix}{unit}", decimals(mantissa))
}

pub(super) fn print_rounded(value: Rational, resolution: Rational, unit: &str) -> String {
    let places = places_of(resolution, 0);
    // Rounded first: what is a hair below a minute is one.
    let whole =
        Rational::power_of_ten(places).and_then(|scale| value.checked_mul(scale)).map(Rational::round);
    let rounded =
        whole.and_then(|whole| Rational::new(whole, 1)?.checked_mul(Rational::power_of_ten(-places)?));
    let seconds = |rest: Rational| {
        let scaled = Rational::power_of_ten(places).and_then(|scale| rest.checked_mul(scale))?;
        Some(fixed(scaled.round(), places as usize))
    };
    if let Some(text) = rounded.and_then(|rounded| clock(rounded, unit, seconds)) {
        return text;
    }
    let (prefix, exponent) = prefix_for(if value.is_zero() { resolution } else { value });
    print_in(value, resolution, exponent, &format!("{prefix}{unit}"))
}

/// The same with the prefix of another number.
pub(super) fn print_beside(value: Rational, other: Rational, resolution: Rational, unit: &str) -> String {
    let (prefix, exponent) = prefix_for(if other.is_zero() { resolution } else { other });
    print_in(value, resolution, exponent, &format!("{prefix}{unit}"))
}

/// The same without a prefix.
pub(super) fn print_plain(value: Rational, resolution: Rational, unit: &str) -> String {
    print_in(value, resolution, 0, unit)
}

/// The number of decimals whose last digit still is at least as coarse as the resolution's first.
fn places_of(resolution: Rational, exponent: i32) -> i32 {
    let mut places = 0;
    while places < 18
        && Rational::power_of_ten(exponent - places).is_some_and(|digit| digit > resolution.abs())
    {
        places += 1;
    }
    places
}

fn print_in(value: Rational, resolution: Rational, exponent: i32, unit: &str) -> String {
    let places = places_of(resolution, exponent);
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
pub(super) fn decimals(value: Rational) -> String {
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
