//! Values with what is known of them, as the texts that people read.
//!
//! No more digits than the resolution supports; an uncertainty is rounded up.

use super::bounds::Bounds;
use super::estimate::Estimate;
use super::figure::{Quantity, Unit};
use super::prefix::{NO_PREFIX, prefix_near, small_prefix};
use super::rational::Rational;
use super::units::Time;

/// A value and what is known of it: `41 ns ± 10 ns`, or from where to where where it is not even.
pub fn uncertain(measured: Quantity, bounds: Bounds<Quantity>, tick: Time) -> String {
    let unit = measured.unit();
    let resolution = resolution(measured, bounds, tick);
    let lo = bounds.lo;
    let Some(hi) = bounds.hi else {
        return format!("{} or more", lo.rounded(tenth(resolution)));
    };
    if lo == hi {
        return exact(measured);
    }
    let (below, above) = (measured.to_f64() - lo.to_f64(), hi.to_f64() - measured.to_f64());
    if (above - below).abs() < above.abs().max(below.abs()) * 2e-2 {
        format!("{} ± {}", measured.rounded(resolution), outward(above.max(below), unit))
    } else {
        // The lower bound is held at zero, or several partners are possible.
        let tenth = tenth(resolution);
        format!("{} .. {}", lo.rounded(tenth), hi.rounded(tenth))
    }
}

/// What a value's digits can say: a tick for a time, half of what is open for anything else.
pub fn resolution(measured: Quantity, bounds: Bounds<Quantity>, tick: Time) -> Quantity {
    match measured.unit() {
        Unit::Time => tick.into(),
        unit => {
            let hi = bounds.hi.unwrap_or(measured);
            let open = hi.to_rational().checked_sub(bounds.lo.to_rational());
            let half = open.and_then(|open| open.checked_div(Rational::from(2)));
            unit.of(half.unwrap_or(Rational::ZERO))
        }
    }
}

/// All digits of a time or a voltage; of a share, as many as anybody reads.
fn exact(value: Quantity) -> String {
    match value.unit() {
        Unit::Percent => {
            value.rounded(Unit::Percent.of(Rational::new(1, 1_000_000).unwrap_or(Rational::ZERO)))
        }
        Unit::Time | Unit::Voltage => value.to_string(),
    }
}

fn tenth(quantity: Quantity) -> Quantity {
    let tenth = Rational::new(1, 10).and_then(|t| quantity.to_rational().checked_mul(t));
    tenth.map_or(quantity, |tenth| quantity.unit().of(tenth))
}

/// With its sign, and as many digits as the resolution supports.
pub fn signed(value: Quantity, resolution: Quantity) -> String {
    let text = if resolution.to_rational().is_zero() { exact(value) } else { value.rounded(resolution) };
    if text.starts_with('-') { text } else { format!("+{text}") }
}

/// An uncertainty, in the unit's own measure, with three digits, rounded away from zero.
pub fn outward(value: f64, unit: Unit) -> String {
    let (prefix, exponent) = match unit {
        Unit::Percent => NO_PREFIX,
        Unit::Time | Unit::Voltage => small_prefix(value),
    };
    let value = value / 10f64.powi(exponent);
    let step = 10f64.powi(value.abs().max(1e-9).log10().floor() as i32 - 2);
    // A hair less before rounding up, so that 10 stays 10.
    let value = ((value / step) - 1e-6).ceil() * step;
    let places = (-step.log10().round()).max(0.0) as usize;
    let text = format!("{value:.places$}");
    let text = if places > 0 { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    format!("{text} {prefix}{unit}")
}

/// A number with its unit, and as many digits as the resolution supports.
///
/// ```
/// use deep_tap_core::quantity::engineering;
/// assert_eq!(engineering(10.000_312e6, 100.0, "Hz"), "10.0003 MHz");
/// ```
pub fn engineering(value: f64, resolution: f64, unit: &str) -> String {
    let (prefix, exponent) = match unit {
        // Shares have no prefix.
        "%" | "ppm" => NO_PREFIX,
        _ => prefix_near(if value == 0.0 { resolution } else { value.abs() }),
    };
    let scale = 10f64.powi(exponent);
    let digits = if resolution > 0.0 { -(resolution / scale).log10().floor() } else { 6.0 };
    let places = digits.clamp(0.0, 9.0) as usize;
    format!("{:.places$} {prefix}{unit}", value / scale)
}

/// A number of which only the size matters, such as a scale, with this many digits.
///
/// ```
/// use deep_tap_core::quantity::rough;
/// assert_eq!(rough(1.2345e-6, 3, "s"), "1.23 us");
/// assert_eq!(rough(250.0, 2, "Hz"), "250 Hz");
/// ```
pub fn rough(value: f64, digits: usize, unit: &str) -> String {
    let (prefix, exponent) = if value == 0.0 { NO_PREFIX } else { prefix_near(value.abs()) };
    let value = value / 10f64.powi(exponent);
    let whole = if value.abs() >= 100.0 {
        3
    } else if value.abs() >= 10.0 {
        2
    } else {
        1
    };
    let places = digits.saturating_sub(whole);
    format!("{value:.places$} {prefix}{unit}")
}

/// A number and how far it may be off: `10.0003 MHz ± 0.0004 MHz` as `10.0003 MHz ± 400 Hz`.
pub fn estimate(known: Estimate, unit: &str) -> String {
    let Estimate { value, lo, hi } = known;
    let off = (value - lo).max(hi - value);
    if off <= value.abs() * 1e-12 {
        return plain_estimate(value, unit);
    }
    if !hi.is_finite() {
        return format!("over {}", engineering(lo, lo * 1e-3, unit));
    }
    // The last digit of the uncertainty is rounded up, so that it covers all.
    let step = 10f64.powf(off.log10().floor() - 1.0);
    let up = (off / step - 1e-6).ceil() * step;
    format!("{} ± {}", engineering(value, up, unit), engineering(up, up / 10.0, unit))
}

/// A number that is known exactly, to seven digits, without the zeros at its end.
fn plain_estimate(value: f64, unit: &str) -> String {
    if value == 0.0 {
        return format!("0 {unit}");
    }
    let text = engineering(value, value.abs() * 1e-6, unit);
    match text.split_once(' ') {
        Some((number, unit)) if number.contains('.') => {
            format!("{} {unit}", number.trim_end_matches('0').trim_end_matches('.'))
        }
        _ => text,
    }
}
