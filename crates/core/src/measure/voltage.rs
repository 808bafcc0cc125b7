//! Levels of an analog line, and how fast it goes from one to the other.

use std::ops::Range;

use crate::capture::AnalogTrace;
use crate::quantity::{Rational, Voltage};
use crate::time::Tick;

/// The levels of an analog line.
///
/// Low and high level are the most frequent code in the lower and in the upper half of what was
/// seen (IEEE 181-2011, 5.2, the histogram method). A voltage that holds counts for as long as it does.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct VoltageLevels {
    /// The low level.
    pub low: Voltage,
    /// The high level; the same where the line is steady.
    pub high: Voltage,
    /// The lowest sample.
    pub least: Voltage,
    /// The highest sample.
    pub most: Voltage,
    /// The mean in volts.
    pub mean: f64,
    /// Samples looked at.
    pub samples: u64,
    /// Largest error of each of these voltages.
    pub error: Voltage,
}

impl VoltageLevels {
    /// From the low to the high level.
    pub fn amplitude(&self) -> Voltage {
        let span = self.high.to_rational().checked_sub(self.low.to_rational());
        Voltage::from_rational(span.unwrap_or(Rational::ZERO))
    }

    /// The voltage at a share of the way from the low level to the high one.
    pub fn at(&self, percent: i64) -> Voltage {
        let share = Rational::new(i128::from(percent), 100);
        let above = share.and_then(|share| share.checked_mul(self.amplitude().to_rational()));
        let at = above.and_then(|above| above.checked_add(self.low.to_rational()));
        Voltage::from_rational(at.unwrap_or(self.low.to_rational()))
    }
}

/// The levels of an analog line in a range of ticks; `None` when it has no sample there.
///
/// ```
/// use deep_tap_core::capture::AnalogBuilder;
/// use deep_tap_core::line::AnalogScale;
/// use deep_tap_core::measure::voltage_levels;
/// use deep_tap_core::time::Tick;
///
/// let volts = |text: &str| text.parse().unwrap();
/// let scale = AnalogScale::new(volts("0 V"), volts("1 mV"), volts("5 mV")).unwrap();
/// let mut builder = AnalogBuilder::new();
/// builder.push(&[0, 0, 0, 1650, 3400, 3300, 3300, 3300]);
/// let line = builder.finish(scale, 0, 10);
/// let levels = voltage_levels(&line, Tick(0)..Tick(80)).unwrap();
/// assert_eq!((levels.low, levels.high, levels.most), (volts("0 V"), volts("3.3 V"), volts("3.4 V")));
/// ```
pub fn voltage_levels(line: &AnalogTrace, range: Range<Tick>) -> Option<VoltageLevels> {
    let mut counts = vec![0u64; 1 << 16];
    let (mut samples, mut sum) = (0u64, 0i128);
    let mut weights = 0u64;
    for (_, code, weight) in line.codes_in(range) {
        counts[place(code)] += weight;
        samples += 1;
        weights += weight;
        sum += i128::from(code) * i128::from(weight);
    }
    let first = counts.iter().position(|count| *count > 0)?;
    let last = counts.iter().rposition(|count| *count > 0)?;
    let middle = (first + last) / 2;
    let most_frequent =
        |range: Range<usize>| range.clone().max_by_key(|at| counts[*at]).unwrap_or(range.start);
    let (mut low, mut high) = (most_frequent(first..middle + 1), most_frequent(middle + 1..last + 1));
    let scale = line.scale();
    let code = |place: usize| (place as i32 + i32::from(i16::MIN)) as i16;
    // What the converter cannot tell apart is one level.
    let step = scale.step().to_rational().checked_mul(Rational::from((last - first) as i64));
    if first == last || step.is_some_and(|span| span <= scale.error().to_rational()) {
        low = most_frequent(first..last + 1);
        high = low;
    }
    let mean_code = sum as f64 / weights as f64;
    Some(VoltageLevels {
        low: scale.voltage(code(low)),
        high: scale.voltage(code(high)),
        least: scale.voltage(code(first)),
        most: scale.voltage(code(last)),
        mean: scale.zero().to_f64() + mean_code * scale.step().to_f64(),
        samples,
        error: scale.error(),
    })
}

fn place(code: i16) -> usize {
    (i32::from(code) - i32::from(i16::MIN)) as usize
}

/// A way from one voltage to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Transition {
    /// Whether it goes up.
    pub rises: bool,
    /// The first sample beyond the voltage that it leaves behind.
    pub start: Tick,
    /// The first sample that has reached the other one.
    pub end: Tick,
}

impl Transition {
    /// From one voltage to the other, in ticks; known to lie within one sample of the line to
    /// either side.
    pub fn ticks(&self) -> u64 {
        self.end.0 - self.start.0
    }
}

/// The ways of an analog line between two voltages in a range of ticks, in order of time. One that
/// turns back half way is none, and one on which the voltage is not known.
pub fn transitions(line: &AnalogTrace, range: Range<Tick>, low: Voltage, high: Voltage) -> Vec<Transition> {
    let scale = line.scale();
    let (above_low, at_high) = (scale.first_at_least(low), scale.first_at_least(high));
    let mut found = Vec::new();
    // Where the line was last at or below the lower voltage, and at or above the upper one.
    let (mut was_low, mut was_high) = (None, None);
    let mut expected = None;
    for (sample, code, _) in line.codes_in(range) {
        // What lies between is not known.
        if expected.replace(sample + 1).is_some_and(|expected| expected != sample) {
            (was_low, was_high) = (None, None);
        }
        let code = i32::from(code);
        let (is_low, is_high) = (code < above_low, code >= at_high);
        if is_high && let Some(start) = was_low.take() {
            found.push((true, start, sample));
        }
        if is_low && let Some(start) = was_high.take() {
            found.push((false, start, sample));
        }
        if is_low {
            was_low = Some(sample + 1);
        }
        if is_high {
            was_high = Some(sample + 1);
        }
    }
    let tick = |sample: u64| line.tick_of(sample);
    found
        .into_iter()
        .map(|(rises, start, end)| Transition { rises, start: tick(start), end: tick(end) })
        .collect()
}
