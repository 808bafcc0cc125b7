//! The prefixes of the units, for reading and for printing.

use super::rational::Rational;

/// Prefixes by exponent of ten, largest first. `u`, `µ` (micro sign) and `μ` (Greek mu) are one.
pub(super) const PREFIXES: [(&str, i32); 11] = [
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

/// Without one.
pub(super) const NO_PREFIX: (&str, i32) = ("", 0);

/// The prefix with which `value` has one to three digits before the decimal point.
pub(super) fn prefix_for(value: Rational) -> (&'static str, i32) {
    if value.is_zero() {
        return NO_PREFIX;
    }
    let fits = |exponent: i32| Rational::power_of_ten(exponent).is_some_and(|unit| value.abs() >= unit);
    let found = PREFIXES.iter().find(|(_, exponent)| fits(*exponent));
    found.copied().unwrap_or(PREFIXES[PREFIXES.len() - 1])
}

/// The same for a rounded number, which may be a hair below.
pub(super) fn prefix_near(size: f64) -> (&'static str, i32) {
    at_most(size * 1.000_000_001, &PREFIXES)
}

/// The same among those that make a unit smaller.
pub(super) fn small_prefix(size: f64) -> (&'static str, i32) {
    at_most(size, &PREFIXES[4..])
}

fn at_most(size: f64, among: &[(&'static str, i32)]) -> (&'static str, i32) {
    let found = among.iter().find(|(_, exponent)| size >= 10f64.powi(*exponent));
    found.copied().unwrap_or(PREFIXES[PREFIXES.len() - 1])
}
