//! What should follow what, and how it did.

use crate::decode::{Pick, SerialBus};
use crate::event::{FrameTests, Program};
use crate::expect::judged::{DeviationKind, Judged};
use crate::limit::{Required, Verdict};
use crate::line::{AnalogId, Bus};
use crate::measure::Measure;
use crate::quantity::{Rational, Time, Voltage};

/// A value on one bus, and what it should cause elsewhere.
#[derive(Clone, Debug)]
pub struct Follow {
    /// Where values are asked for.
    pub from: FollowSource,
    /// Where they should show.
    pub to: FollowTarget,
    /// What is expected of one count, and of zero: of a value, the value; of a voltage, volts.
    pub per_count: Rational,
    /// The value at zero.
    pub offset: Rational,
    /// The shortest time that it may take.
    pub at_least: Option<Time>,
    /// The longest.
    pub within: Time,
}

/// A number in transfers of a bus.
#[derive(Clone, Debug)]
pub struct ValueOn {
    /// The bus.
    pub bus: SerialBus,
    /// Only in transfers that meet these.
    pub only: Option<FrameTests>,
    /// The number.
    pub value: Pick,
}

/// Where values are asked for.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum FollowSource {
    /// In transfers.
    Transfers(Box<ValueOn>),
    /// On parallel lines, at each occurrence of an event.
    Lines(Bus, Box<Program>),
}

/// Where values should show.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum FollowTarget {
    /// In transfers.
    Transfers(Box<ValueOn>),
    /// On parallel lines, until the next value is asked for.
    Lines(Bus),
    /// As a voltage, within a tolerance, until the next value is asked for.
    Voltage(AnalogId, Voltage),
}

/// What became of one value.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct FollowedValue {
    /// When it was asked for: the end of what carries it. Nothing for one that was not asked for.
    pub asked_at: Option<Time>,
    /// What was asked for, as on its bus.
    pub asked: Option<u64>,
    /// What should show: a count, or volts.
    pub expected: Option<Rational>,
    /// What showed.
    pub found: Option<Rational>,
    /// When.
    pub at: Option<Time>,
    /// How long it took.
    pub took: Option<Measure>,
    /// Pass: the right one, in time. Fail: another, none, too soon or too late, or one that was not asked for. Not
    /// seen: the record ends first, or the next value was asked for first.
    pub verdict: Verdict,
    /// In which way it is not as it should be.
    pub kind: Option<DeviationKind>,
}

/// How all values followed.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct FollowResult {
    /// How many, and those that did not.
    pub judged: Judged,
    /// Whether what shows is volts.
    pub is_voltage: bool,
    /// How long it took, of those that showed: the shortest and the longest.
    pub took: Option<(Measure, Measure)>,
    /// What is required of that.
    pub required: Required,
    /// Each value, up to a million of them.
    pub values: Vec<FollowedValue>,
}

impl Follow {
    /// Takes the settings of the buses of these names.
    pub(crate) fn settle(&mut self, known: &[SerialBus]) {
        let from = match &mut self.from {
            FollowSource::Transfers(on) => Some(&mut on.bus),
            FollowSource::Lines(..) => None,
        };
        let to = match &mut self.to {
            FollowTarget::Transfers(on) => Some(&mut on.bus),
            FollowTarget::Lines(_) | FollowTarget::Voltage(..) => None,
        };
        for own in from.into_iter().chain(to) {
            if let Some(bus) = known.iter().find(|bus| bus.name() == own.name()) {
                *own = bus.clone();
            }
        }
    }

    /// What should show for a value; `None` where exact arithmetic does not fit.
    pub(super) fn expected(&self, value: u64) -> Option<Rational> {
        let value = Rational::new(i128::from(value), 1)?;
        value.checked_mul(self.per_count)?.checked_add(self.offset)
    }

    /// What is required of the time that it takes.
    pub(super) fn required(&self) -> Required {
        Required::times(self.at_least, Some(self.within))
    }
}

impl FollowResult {
    /// What should show, or does, as people write it: a count in hexadecimal, or volts to the millivolt.
    pub fn show(&self, value: Rational) -> String {
        shown(value, self.is_voltage)
    }
}

/// A count in hexadecimal, or volts to the millivolt.
pub(super) fn shown(value: Rational, is_voltage: bool) -> String {
    let whole = Rational::new(value.floor(), 1) == Some(value);
    match u64::try_from(value.floor()) {
        _ if is_voltage => {
            let millivolt = Rational::new(1, 1000).unwrap_or(Rational::ONE);
            Voltage::from_rational(value).rounded(Voltage::from_rational(millivolt))
        }
        Ok(count) if whole => format!("0x{count:02X}"),
        _ => value.to_string(),
    }
}
