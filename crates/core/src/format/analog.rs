//! Voltages of imported records: from numbers to codes, and to levels by a threshold.

use crate::capture::{AnalogBuilder, AnalogTrace, Capture, HeldBuilder};
use crate::error::Result;
use crate::line::{AnalogScale, Threshold};
use crate::quantity::{Rational, Voltage};
use crate::time::Tick;

/// Codes on either side of the middle.
const CODES: f64 = 32_767.0;

/// The voltages of a line while it is read.
///
/// Its codes are made in the end, when the range is known: a code for each voltage as it was written where
/// there are few enough of them, and else as many steps as codes have.
#[derive(Debug, Default)]
pub(crate) struct Volts {
    /// In order; not a number where it is not known.
    values: Vec<f64>,
    /// Where each begins, if not one at every tick.
    ticks: Vec<u64>,
    gaps: bool,
    range: Option<Range>,
}

/// The voltages that are known.
#[derive(Clone, Copy, Debug)]
struct Range {
    least: f64,
    most: f64,
    /// The smallest step between them, and the largest one of a last digit.
    step: f64,
    written: f64,
}

impl Range {
    /// Whether a code for each step between them is too many.
    fn is_too_fine(self) -> bool {
        self.step <= 0.0 || (self.most - self.least) / self.step > 2.0 * CODES
    }
}

/// A voltage as it was written, in volts.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Voltage64 {
    pub(crate) value: f64,
    /// What its last digit other than zero stands for.
    pub(crate) step: f64,
    /// What its last digit stands for; zero where the number is exact.
    pub(crate) written: f64,
}

impl Voltage64 {
    /// Whether it can be one of a board: codes that stand for it are within exact arithmetic.
    pub(crate) fn is_sensible(self) -> bool {
        self.value.abs() < MOST_VOLTS && self.step < MOST_VOLTS && self.written < MOST_VOLTS
    }

    /// A number that a program wrote in binary, or with all its digits: it is taken for the shortest decimal one that
    /// reads as it.
    fn of(value: f64) -> Self {
        let text = format!("{value:e}");
        let (digits, exponent) = text.split_once('e').unwrap_or((&text, "0"));
        let decimals = digits.split_once('.').map_or(0, |(_, decimals)| decimals.len() as i32);
        let exponent: i32 = exponent.parse().unwrap_or(0);
        let step = if value == 0.0 { 1.0 } else { 10f64.powi(exponent - decimals) };
        Voltage64 { value, step, written: 0.0 }
    }
}

/// No voltage is that large.
const MOST_VOLTS: f64 = 1e9;

impl Volts {
    /// Appends the voltage of the next tick; `None` where it is not known.
    pub(crate) fn push(&mut self, volts: Option<Voltage64>) {
        match volts {
            Some(volts) => {
                self.widen(volts);
                self.values.push(volts.value);
            }
            None => {
                self.gaps = true;
                self.values.push(f64::NAN);
            }
        }
    }

    /// The same of a number that is written in binary, or with all its digits; what is none, or too large, is not
    /// known. Whether it is not too large.
    pub(crate) fn push_number(&mut self, value: f64) -> bool {
        if !value.is_finite() || value.abs() >= MOST_VOLTS {
            self.push(None);
            return !value.is_finite();
        }
        // PERF: the digits of a number cost more than all else; they are of no use once they are too many.
        self.push(Some(match self.range {
            Some(range) if range.is_too_fine() => Voltage64 { value, step: range.step, written: 0.0 },
            _ => Voltage64::of(value),
        }));
        true
    }

    /// Appends the voltage before once more.
    pub(crate) fn push_again(&mut self) {
        match self.values.last() {
            Some(last) => self.values.push(*last),
            None => self.push(None),
        }
    }

    /// Says that the next voltage begins at a tick, at or after all before, and holds until the one after it. Of
    /// several at one tick the last counts.
    pub(crate) fn at(&mut self, tick: u64) {
        if self.ticks.last() == Some(&tick) {
            self.ticks.pop();
            self.values.pop();
        }
        self.ticks.push(tick);
    }

    /// Whether some voltage is not known.
    pub(crate) fn has_gaps(&self) -> bool {
        self.gaps
    }

    fn widen(&mut self, volts: Voltage64) {
        let Voltage64 { value, step, written } = volts;
        let range = self.range.get_or_insert(Range { least: value, most: value, step, written });
        range.least = range.least.min(value);
        range.most = range.most.max(value);
        range.step = range.step.min(step);
        range.written = range.written.max(written);
    }

    /// The line, with a voltage at each tick. None may be unknown.
    pub(crate) fn finish(self) -> AnalogTrace {
        let codes = Coding::of(self.range);
        let mut builder = AnalogBuilder::new();
        builder.push(&self.values.iter().map(|value| codes.code(*value)).collect::<Vec<i16>>());
        builder.finish(codes.scale, 0, 1)
    }

    /// The line of so many ticks, whose voltages hold until the next.
    ///
    /// # Errors
    /// When there are more ticks than a capture can hold.
    pub(crate) fn finish_held(self, len: u64) -> Result<AnalogTrace> {
        let codes = Coding::of(self.range);
        let code = |value: &f64| value.is_finite().then(|| codes.code(*value));
        let place = |number: usize| self.ticks.get(number).copied().unwrap_or(number as u64);
        let mut all = self.values.iter().enumerate().map(|(number, value)| (place(number), code(value)));
        let mut first = all.next();
        let start = first.take_if(|(tick, _)| *tick == 0).and_then(|(_, code)| code);
        let mut builder = HeldBuilder::new(start);
        first.into_iter().chain(all).try_for_each(|(tick, code)| builder.push(Tick(tick), code))?;
        Ok(builder.finish(codes.scale, len))
    }
}

/// How voltages become codes.
struct Coding {
    scale: AnalogScale,
    step: f64,
    zero: f64,
}

impl Coding {
    fn of(range: Option<Range>) -> Self {
        let range = range.unwrap_or(Range { least: 0.0, most: 0.0, step: 1.0, written: 0.0 });
        let (middle, span) = ((range.least + range.most) / 2.0, range.most - range.least);
        let fits = !range.is_too_fine();
        let step = if fits { range.step } else { rounded_up(span / (2.0 * CODES)) };
        let zero = (middle / step).round();
        let exact = rational(step);
        // As written, a voltage is off by half of its last digit at the most.
        let error = match (fits, range.written > 0.0) {
            (true, false) => Rational::ZERO,
            (true, true) => rational(range.written),
            (false, _) => exact,
        };
        let half = error.checked_div(Rational::from(2)).unwrap_or(error);
        let volts = Voltage::from_rational;
        let at_zero = exact.checked_mul(Rational::new(zero as i128, 1).unwrap_or(Rational::ZERO));
        let scale = AnalogScale::new(volts(at_zero.unwrap_or(Rational::ZERO)), volts(exact), volts(half));
        Coding { scale: scale.unwrap_or_default(), step, zero }
    }

    fn code(&self, value: f64) -> i16 {
        ((value / self.step).round() - self.zero).clamp(-CODES, CODES) as i16
    }
}

/// The next number of one digit.
fn rounded_up(step: f64) -> f64 {
    let step = step.max(1e-18);
    let power = 10f64.powf(step.log10().floor());
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
