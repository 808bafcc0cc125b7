//! Voltages of imported records: from numbers to codes, and to levels by a threshold.

use crate::capture::{AnalogBuilder, AnalogTrace, Capture};
use crate::error::Result;
use crate::line::{AnalogScale, Threshold};
use crate::quantity::{Rational, Voltage};

/// Codes on either side of the middle.
const CODES: f64 = 32_767.0;

/// The voltages of a line while it is read.
///
/// Its codes are made in the end, when the range is known: a code for each voltage as it was written where
/// there are few enough of them, and else as many steps as codes have.
#[derive(Debug, Default)]
pub(crate) struct Volts {
    values: Vec<f64>,
    least: f64,
    most: f64,
    /// The smallest step between them, and the largest one of a last digit.
    step: f64,
    written: f64,
}

/// A voltage as it was written, in volts.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Voltage64 {
    pub(crate) value: f64,
    /// What its last digit other than zero stands for; zero where there is no such thing.
    pub(crate) step: f64,
    /// What its last digit stands for.
    pub(crate) written: f64,
}

impl Voltage64 {
    /// Whether it can be one of a board: codes that stand for it are within exact arithmetic.
    pub(crate) fn is_sensible(self) -> bool {
        self.value.abs() < 1e9 && self.step < 1e9 && self.written < 1e9
    }
}

impl Volts {
    /// Appends a voltage.
    pub(crate) fn push(&mut self, Voltage64 { value, step, written }: Voltage64) {
        if self.values.is_empty() {
            (self.least, self.most, self.step) = (value, value, step);
        }
        self.least = self.least.min(value);
        self.most = self.most.max(value);
        self.step = self.step.min(step);
        self.written = self.written.max(written);
        self.values.push(value);
    }

    /// The line, with a voltage every so many ticks.
    pub(crate) fn finish(self, every: u64) -> AnalogTrace {
        let middle = (self.least + self.most) / 2.0;
        let span = self.most - self.least;
        let fits = self.step > 0.0 && span / self.step <= 2.0 * CODES;
        let step = if fits { self.step } else { rounded_up(span / (2.0 * CODES)) };
        let zero = (middle / step).round();
        let code = |value: &f64| ((value / step).round() - zero).clamp(-CODES, CODES) as i16;
        let codes: Vec<i16> = self.values.iter().map(code).collect();
        let exact = rational(step);
        // As written, a voltage is off by half of its last digit at the most.
        let error = if fits { rational(self.written) } else { exact };
        let half = error.checked_div(Rational::from(2)).unwrap_or(error);
        let zero = exact.checked_mul(Rational::new(zero as i128, 1).unwrap_or(Rational::ZERO));
        let volts = Voltage::from_rational;
        let scale = AnalogScale::new(volts(zero.unwrap_or(Rational::ZERO)), volts(exact), volts(half));
        let mut builder = AnalogBuilder::new();
        builder.push(&codes);
        builder.finish(scale.unwrap_or_default(), 0, every)
    }
}

/// The next number of one digit.
fn rounded_up(step: f64) -> f64 {
    let power = 10f64.powf(step.max(1e-18).log10().floor());
    (step / power).ceil() * power
}

/// A number of one digit as a fraction.
fn rational(step: f64) -> Rational {
    let exponent = step.log10().floor() as i32;
    let count = (step / 10f64.powi(exponent)).round().max(1.0);
    let scale = Rational::power_of_ten(exponent).unwrap_or(Rational::ONE);
    scale.checked_mul(Rational::from(count as i64)).unwrap_or(Rational::ONE)
}

/// Adds to each analog line a line that is high above a threshold, under its name; the analog line is called
/// after its unit, too.
///
/// # Errors
/// When the threshold cannot be one.
pub(crate) fn lines_of(
    capture: Capture,
    threshold: Threshold,
    hysteresis: Option<Voltage>,
) -> Result<Capture> {
    let names: Vec<String> = capture.analog_lines().iter().map(|line| line.name.clone()).collect();
    let mut builder = capture.into_builder().renamed_analog(|line| {
        line.hysteresis = hysteresis.unwrap_or(line.hysteresis);
        line.name = format!("{}_V", line.name);
    });
    for name in names {
        builder = builder.derive_line(&name, &format!("{name}_V"), threshold.voltage())?;
    }
    builder.build()
}
