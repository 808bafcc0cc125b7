//! Named voltages, and how numbers stand for them.

use std::fmt;
use std::str::FromStr;

use super::pulse_widths::PulseWidths;
use crate::error::{Error, ErrorKind, Result};
use crate::quantity::{Rational, Voltage};

/// Which analog line of a capture or setup, counted from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AnalogId(pub usize);

/// A named voltage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AnalogLine {
    /// Its name on the schematic.
    pub name: String,
    /// The analog input it is wired to; `None` when the source had no inputs.
    pub input: Option<u32>,
    /// How far the voltage must come back from a level before it can cross it again.
    pub hysteresis: Voltage,
    /// How short its stretches beyond a level can be.
    pub pulses: PulseWidths,
}

impl AnalogLine {
    /// An analog line known by name only, without hysteresis.
    pub fn named(name: impl Into<String>) -> Self {
        AnalogLine {
            name: name.into(),
            input: None,
            hysteresis: Voltage::ZERO,
            pulses: PulseWidths::default(),
        }
    }
}

/// How the codes of a converter stand for voltages: `zero + code * step`.
///
/// ```
/// use deep_tap_core::line::AnalogScale;
/// let volts = |text: &str| text.parse().unwrap();
/// let scale = AnalogScale::new(volts("2.5 V"), volts("1.25 mV"), volts("10 mV")).unwrap();
/// assert_eq!(scale.voltage(-400), volts("2 V"));
/// assert_eq!(scale.first_at_least(volts("2.001 V")), -399);
/// assert_eq!(scale.last_at_most(volts("2.001 V")), -400);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AnalogScale {
    zero: Voltage,
    step: Voltage,
    error: Voltage,
}

impl Default for AnalogScale {
    /// A volt from one code to the next, and as much error.
    fn default() -> Self {
        let volt = Voltage::from_rational(Rational::ONE);
        AnalogScale { zero: Voltage::ZERO, step: volt, error: volt }
    }
}

impl AnalogScale {
    /// The voltage of code 0, the voltage from one code to the next, which is above zero, and the
    /// largest error of a sample, half a step included; `None` for a step or error out of range.
    pub fn new(zero: Voltage, step: Voltage, error: Voltage) -> Option<Self> {
        (step > Voltage::ZERO && error >= Voltage::ZERO).then_some(AnalogScale { zero, step, error })
    }

    /// The voltage of code 0.
    pub fn zero(&self) -> Voltage {
        self.zero
    }

    /// The voltage from one code to the next.
    pub fn step(&self) -> Voltage {
        self.step
    }

    /// The largest error of a sample.
    pub fn error(&self) -> Voltage {
        self.error
    }

    /// The narrowest hysteresis with which a line that is made from these voltages has no edge that the error of a
    /// sample makes: each side of the threshold by that error and a step.
    pub fn quiet_hysteresis(&self) -> Voltage {
        let side = self.error.to_rational().checked_add(self.step.to_rational());
        let both = side.and_then(|side| side.checked_mul(Rational::from(2)));
        both.map_or(self.error, Voltage::from_rational)
    }

    /// The voltage that a code stands for.
    pub fn voltage(&self, code: i16) -> Voltage {
        let above = Rational::from(i64::from(code)).checked_mul(self.step.to_rational());
        let sum = above.and_then(|above| above.checked_add(self.zero.to_rational()));
        Voltage::from_rational(sum.unwrap_or(Rational::ZERO))
    }

    /// The lowest code that stands for this voltage or more; beyond all codes where none does.
    pub fn first_at_least(&self, voltage: Voltage) -> i32 {
        self.codes(voltage).map_or(i32::MAX, |codes| limited(codes.ceil()))
    }

    /// The highest code that stands for this voltage or less; below all codes where none does.
    pub fn last_at_most(&self, voltage: Voltage) -> i32 {
        self.codes(voltage).map_or(i32::MIN, |codes| limited(codes.floor()))
    }

    fn codes(&self, voltage: Voltage) -> Option<Rational> {
        voltage.to_rational().checked_sub(self.zero.to_rational())?.checked_div(self.step.to_rational())
    }
}

/// One beyond the codes on either side is as good as any.
fn limited(code: i128) -> i32 {
    code.clamp(i128::from(i16::MIN) - 1, i128::from(i16::MAX) + 1) as i32
}

/// From one voltage up to another, both included: `0 V .. 5 V`.
///
/// ```
/// use deep_tap_core::line::VoltageRange;
/// let range: VoltageRange = "-2.5 V .. 2.5 V".parse()?;
/// assert_eq!(range.to_string(), "-2.5 V .. 2.5 V");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct VoltageRange {
    /// The lowest voltage.
    pub low: Voltage,
    /// The highest.
    pub high: Voltage,
}

impl VoltageRange {
    /// Whether all of another range lies in this one.
    pub fn contains(&self, other: VoltageRange) -> bool {
        self.low <= other.low && other.high <= self.high
    }

    /// From the lowest to the highest voltage.
    pub fn span(&self) -> Voltage {
        let span = self.high.to_rational().checked_sub(self.low.to_rational());
        Voltage::from_rational(span.unwrap_or(Rational::ZERO))
    }
}

impl FromStr for VoltageRange {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let wrong = |message: String| {
            Error::new(ErrorKind::Quantity, message).with_help("write a range like '0 V .. 5 V'")
        };
        let (low, high) =
            text.split_once("..").ok_or_else(|| wrong(format!("'{text}' is not a range of voltages")))?;
        let range = VoltageRange { low: low.trim().parse()?, high: high.trim().parse()? };
        if range.low >= range.high {
            return Err(wrong(format!("the range '{text}' is empty or upside down")));
        }
        Ok(range)
    }
}

impl fmt::Display for VoltageRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} .. {}", self.low, self.high)
    }
}
