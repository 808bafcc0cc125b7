//! Exact numbers with units, as text.

use super::prefix::prefix_for;
use super::rational::Rational;

pub(super) fn print_exact(value: Rational, unit: &str) -> String {
    let (prefix, exponent) = prefix_for(value);
    let mantissa = Rational::power_of_ten(-exponent).and_then(|s| value.checked_mul(s)).unwrap_or(value);
    format!("{} {prefix}{unit}", decimals(mantissa))
}

pub(super) fn print_rounded(value: Rational, resolution: Rational, unit: &str) -> String {
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
