//! What should follow what, and how it did.

use super::asked::{Asked, asked};
use super::caused::on_bus;
use super::settled::{Wanted, settled};
use crate::capture::Capture;
use crate::decode::{Pick, SerialBus};
use crate::error::Result;
use crate::event::{FrameTests, Program};
use crate::expect::judged::Judged;
use crate::known::{Instants, Precision, Rule};
use crate::limit::{Required, Verdict};
use crate::line::{AnalogId, Bus, Signal};
use crate::measure::Measure;
use crate::quantity::{Bounds, Quantity, Rational, Time, Voltage};
use crate::time::Tick;

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
    pub kind: Option<crate::expect::DeviationKind>,
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
    /// Follows all values through a record.
    ///
    /// # Errors
    /// When a bus cannot be decoded at the record's clock, or an event cannot happen there.
    pub fn follow(&self, capture: &Capture) -> Result<FollowResult> {
        let asked = asked(&self.from, capture)?;
        let delay = Delay::new(self, capture);
        match &self.to {
            FollowTarget::Transfers(to) => on_bus(self, &asked, to, capture, &delay),
            FollowTarget::Lines(bus) => Ok(settled(self, &asked, Wanted::Lines(bus), capture, &delay)),
            FollowTarget::Voltage(line, tolerance) => {
                Ok(settled(self, &asked, Wanted::Voltage(*line, *tolerance), capture, &delay))
            }
        }
    }

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

/// What is known of the time from a value to what it causes.
pub(super) struct Delay {
    pub(super) span: crate::known::Span,
    required: Required,
    /// The most ticks that may be in time, and that a value need be looked for.
    pub(super) most: u64,
    /// Within how many ticks the order of the two is not known.
    pub(super) reach: u64,
}

impl Delay {
    fn new(follow: &Follow, capture: &Capture) -> Delay {
        let from: Vec<Signal> = match &follow.from {
            FollowSource::Transfers(on) => on.bus.lines().iter().map(Signal::from).collect(),
            FollowSource::Lines(_, at) => at.event_signals(),
        };
        let to: Vec<Signal> = match &follow.to {
            FollowTarget::Transfers(on) => on.bus.lines().iter().map(Signal::from).collect(),
            FollowTarget::Lines(bus) => bus.lines.iter().map(Signal::from).collect(),
            // Between which of its samples it comes near enough is worked out with each value.
            FollowTarget::Voltage(..) => Vec::new(),
        };
        let precision = Precision::of(capture, Rule::Proven);
        let both: Vec<Signal> = from.iter().chain(&to).copied().collect();
        let reach = precision.order(&both, Voltage::ZERO).reach().unwrap_or(0);
        let from = if to.is_empty() { Instants::none() } else { Instants::edges(from) };
        let (from, to) = (from.between_ticks(true), Instants::edges(to).between_ticks(true));
        let span = precision.between(&from, &to);
        let ticks = capture.base().ticks_in(follow.within).map(Rational::ceil);
        let ticks = ticks.and_then(|ticks| u64::try_from(ticks).ok()).unwrap_or(u64::MAX / 4);
        // What may still be in time within the uncertainty of the record.
        let most = (1..=64).map(|more| ticks.saturating_add(more)).take_while(|ticks| {
            let bounds = span.bounds(i64::try_from(*ticks).unwrap_or(i64::MAX / 4));
            bounds.is_some_and(|bounds| bounds.lo <= follow.within)
        });
        let most = most.last().unwrap_or(ticks);
        Delay { span, required: follow.required(), most, reach }
    }

    /// Whether a delay of at least and at most so many ticks is as required, and what is known of it.
    pub(super) fn judge(&self, fewest: i64, most: i64) -> (Verdict, Option<Bounds>) {
        let known = self.span.bounds_over(fewest, most);
        let verdict =
            known.map_or(Verdict::Inconclusive, |known| self.required.decide(known.map(Time::to_rational)));
        (verdict, known.map(Bounds::not_negative))
    }

    /// A delay as a measure.
    pub(super) fn measure(&self, from: &Asked, fewest: i64, most: i64, capture: &Capture) -> Option<Measure> {
        let bounds = self.span.length_over(fewest.max(0), most)?;
        let at = Some(capture.base().time_of(from.at));
        Some(Measure { value: self.span.counted(most), bounds, at })
    }
}

/// A number as people write it: a count in hexadecimal, or volts.
pub(super) fn shown(value: Rational, is_voltage: bool) -> String {
    let whole = Rational::new(value.floor(), 1) == Some(value);
    let count = (!is_voltage && whole).then(|| value.floor());
    match count.and_then(|count| u64::try_from(count).ok()) {
        Some(count) => format!("0x{count:02X}"),
        None => {
            let millivolt = Rational::new(1, 1000).unwrap_or(Rational::ONE);
            let quantity = |volts| Quantity::Voltage(Voltage::from_rational(volts));
            quantity(value).rounded(quantity(millivolt))
        }
    }
}

/// Where a value ends that the record still shows.
pub(super) fn end_of(capture: &Capture) -> Tick {
    Tick(capture.len())
}
