//! Values with their uncertainty, as texts.

use deep_tap::limit::{Quantity, Unit};
use deep_tap::measure::Estimate;
use deep_tap::time::{Bounds, Rational, Time};

/// A value and what is known of it: `41 ns ± 10 ns`, or from where to where where it is not even.
pub(crate) fn uncertain(measured: Quantity, bounds: Bounds<Quantity>, tick: Time) -> String {
    let (lo, hi) = (bounds.lo, bounds.hi);
    if lo == hi {
        return exact(measured);
    }
    let unit = measured.unit();
    let resolution = resolution(measured, bounds, tick);
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
pub(crate) fn resolution(measured: Quantity, bounds: Bounds<Quantity>, tick: Time) -> Quantity {
    match measured.unit() {
        Unit::Time => tick.into(),
        unit => {
            let open = bounds.hi.to_rational().checked_sub(bounds.lo.to_rational());
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
pub(crate) fn signed(value: Quantity, resolution: Quantity) -> String {
    let text = if resolution.to_rational().is_zero() { exact(value) } else { value.rounded(resolution) };
    if text.starts_with('-') { text } else { format!("+{text}") }
}

/// An uncertainty, in the unit's own measure, with three digits, rounded away from zero.
pub(crate) fn outward(value: f64, unit: Unit) -> String {
    let prefixes = [(1.0, ""), (1e-3, "m"), (1e-6, "u"), (1e-9, "n"), (1e-12, "p")];
    let (scale, prefix) = match unit {
        Unit::Percent => (1.0, ""),
        Unit::Time | Unit::Voltage => {
            prefixes.into_iter().find(|(scale, _)| value >= *scale).unwrap_or((1e-15, "f"))
        }
    };
    let value = value / scale;
    let step = 10f64.powi(value.abs().max(1e-9).log10().floor() as i32 - 2);
    // A hair less before rounding up, so that 10 stays 10.
    let value = ((value / step) - 1e-6).ceil() * step;
    let places = (-step.log10().round()).max(0.0) as usize;
    let text = format!("{value:.places$}");
    let text = if places > 0 { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    format!("{text} {prefix}{unit}")
}

/// Seconds, volts or percent, for programs to read.
pub(crate) fn plain(value: Option<Quantity>) -> String {
    value.map_or(String::new(), |value| match value.unit() {
        Unit::Time => format!("{:e}", value.to_f64()),
        Unit::Percent | Unit::Voltage => value.to_f64().to_string(),
    })
}

/// Seconds, for programs to read.
pub(crate) fn seconds(time: Option<Time>) -> String {
    plain(time.map(Quantity::Time))
}

/// A number with its unit, and as many digits as the resolution supports.
pub(crate) fn engineering(value: f64, resolution: f64, unit: &str) -> String {
    let prefixes = [
        (1e12, "T"),
        (1e9, "G"),
        (1e6, "M"),
        (1e3, "k"),
        (1.0, ""),
        (1e-3, "m"),
        (1e-6, "u"),
        (1e-9, "n"),
        (1e-12, "p"),
    ];
    let size = if value == 0.0 { resolution } else { value.abs() };
    // Shares and plain numbers have no prefix.
    let found = prefixes.into_iter().filter(|_| !matches!(unit, "%" | "ppm"));
    let found = found.into_iter().find(|(scale, _)| size >= *scale * 0.999_999_999);
    let (scale, prefix) = if matches!(unit, "%" | "ppm") { (1.0, "") } else { found.unwrap_or((1e-15, "f")) };
    let digits = if resolution > 0.0 { -(resolution / scale).log10().floor() } else { 6.0 };
    let places = digits.clamp(0.0, 9.0) as usize;
    format!("{:.places$} {prefix}{unit}", value / scale)
}

/// A number and how far it may be off: `10.0003 MHz ± 0.0004 MHz` as `10.0003 MHz ± 400 Hz`.
pub(crate) fn estimate(known: Estimate, unit: &str) -> String {
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
