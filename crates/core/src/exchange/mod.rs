//! Transfers that belong together: a command with its answer, a pointer and the data that is read from there, a
//! question on one line and what is said to it on another.
//!
//! An [`Exchange`] is a list of [steps](ExchangeStep), each a transfer on one of its buses with the tests that it must
//! meet. It is followed by one state machine, whether for a list, a search, a trigger or an expectation:
//! transfers go into a [`Follower`], and out come [whole exchanges](Followed::Whole), broken ones with the step that
//! broke, and transfers that belong to none.
//!
//! [`Exchange::bus`] is the same as a bus of its own: its frames are exchanges, their fields what the steps
//! name.

mod decoder;
mod machine;
mod step;

pub use machine::{Broke, Exchanged, Followed, Follower, StepSeen};
pub use step::{ExchangeStep, Repeats, Taken};

use crate::bus::{Frame, word};
use crate::capture::Capture;
use crate::decode::{FieldNames, Protocol, SerialBus};
use crate::error::{Error, ErrorKind, Result};
use crate::event::FrameTests;
use crate::line::LineId;
use crate::quantity::Time;

/// Most buses of an exchange.
pub const MOST_BUSES: usize = 8;

/// Transfers that belong together, step by step.
///
/// ```
/// use deep_tap_core::decode::{I2cConfig, Protocol, SerialBus};
/// use deep_tap_core::event::FrameTests;
/// use deep_tap_core::exchange::{Exchange, ExchangeStep};
/// use deep_tap_core::line::LineId;
///
/// let lines = [("clock", LineId(0)), ("data", LineId(1))];
/// let bus = SerialBus::new("rtc", Protocol::I2c(I2cConfig::default()), lines)?;
/// let step = |text| Ok::<_, deep_tap_core::Error>(ExchangeStep::new(FrameTests::parse(text)?));
/// let time = Exchange::new("time", vec![bus])?
///     .step(step(r#"write, bytes "02""#)?.called("point"))
///     .step(step("read, length == 3")?.called("read").field("seconds", "data[0]".parse()?));
/// assert_eq!(time.bus()?.protocol().words(), ["exchange", "broken", "unclear", "cut-off", "seconds"]);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Exchange {
    name: String,
    buses: Vec<SerialBus>,
    /// Only transfers that meet these.
    only: Option<FrameTests>,
    steps: Vec<ExchangeStep>,
    /// How long it may pause between two steps before it is over.
    longest_pause: Option<Time>,
    /// Names of its fields' values.
    names: FieldNames,
}

impl Exchange {
    /// An exchange on these buses, without steps so far.
    ///
    /// # Errors
    /// When there is no bus, or more than eight.
    pub fn new(name: impl Into<String>, buses: Vec<SerialBus>) -> Result<Self> {
        if buses.is_empty() || buses.len() > MOST_BUSES {
            let message = format!("an exchange is on 1 to {MOST_BUSES} buses, not {}", buses.len());
            return Err(Error::new(ErrorKind::Range, message).with_help("name the buses of its steps"));
        }
        let (only, steps, longest_pause, names) = (None, Vec::new(), None, FieldNames::default());
        Ok(Exchange { name: name.into(), buses, only, steps, longest_pause, names })
    }

    /// With another step at its end.
    #[must_use]
    pub fn step(mut self, step: ExchangeStep) -> Self {
        self.steps.push(step);
        self
    }

    /// Of transfers that meet these; others may come at any time.
    #[must_use]
    pub fn only(self, only: FrameTests) -> Self {
        Exchange { only: Some(only), ..self }
    }

    /// It is over when nothing that belongs to it came for this long.
    #[must_use]
    pub fn longest_pause(self, pause: Time) -> Self {
        Exchange { longest_pause: Some(pause), ..self }
    }

    /// With names of its fields' values.
    #[must_use]
    pub fn names(self, names: FieldNames) -> Self {
        Exchange { names, ..self }
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its buses, by the numbers that its steps use.
    pub fn buses(&self) -> &[SerialBus] {
        &self.buses
    }

    /// Its steps.
    pub fn steps(&self) -> &[ExchangeStep] {
        &self.steps
    }

    /// Which transfers count at all.
    pub(crate) fn filter(&self) -> Option<&FrameTests> {
        self.only.as_ref()
    }

    pub(crate) fn pause(&self) -> Option<Time> {
        self.longest_pause
    }

    /// The same with other settings of the buses of these names.
    #[must_use]
    pub fn with_buses(mut self, known: &[SerialBus]) -> Self {
        for own in &mut self.buses {
            if let Some(bus) = known.iter().find(|bus| bus.name() == own.name()) {
                *own = bus.clone();
            }
        }
        self
    }

    /// What all of its lines are, each once, and for each bus which of them are its own.
    fn lines(&self) -> (Vec<LineId>, Vec<Vec<usize>>) {
        let mut all: Vec<LineId> = self.buses.iter().flat_map(SerialBus::lines).copied().collect();
        all.sort_unstable();
        all.dedup();
        let place = |line: &LineId| all.binary_search(line).unwrap_or(0);
        let own = self.buses.iter().map(|bus| bus.lines().iter().map(place).collect()).collect();
        (all, own)
    }

    /// A bus whose frames are these exchanges.
    ///
    /// # Errors
    /// When it has no steps, or its buses have more than 64 lines.
    pub fn bus(&self) -> Result<SerialBus> {
        if self.steps.is_empty() {
            let message = format!("the exchange '{}' has no steps", self.name);
            return Err(Error::new(ErrorKind::Range, message).with_help("give at least one"));
        }
        let (lines, _) = self.lines();
        if lines.len() > 64 {
            let message =
                format!("the buses of '{}' have {} lines, and 64 is the most", self.name, lines.len());
            return Err(Error::new(ErrorKind::Range, message).with_help("leave a parallel bus out"));
        }
        let protocol = Protocol::custom(decoder::Exchanging::new(self.clone()));
        Ok(SerialBus::of_lines(self.name.clone(), protocol, lines)?.with_names(self.names.clone()))
    }

    /// The names of the fields that its steps give.
    fn field_names(&self) -> Vec<&'static str> {
        let mut names: Vec<&'static str> =
            self.steps.iter().flat_map(|step| step.fields().map(|(name, _)| word(name))).collect();
        let mut seen = std::collections::HashSet::new();
        names.retain(|name| seen.insert(*name));
        names
    }

    /// Bits of the widest value that a field can have; `None` where any value is possible, or there is no such field.
    fn widest(&self, field: &str) -> Option<u32> {
        let of = |step: &ExchangeStep| step.widest(field, self.buses[step.bus()].protocol());
        let own = self.steps.iter().filter(|step| step.fields().any(|(name, _)| name == field));
        let widths: Option<Vec<u32>> = own.map(of).collect();
        widths?.into_iter().max().filter(|bits| (1..64).contains(bits))
    }

    /// The transfers on its buses, in the order of their ends, each with the number of its bus.
    ///
    /// # Errors
    /// When a bus cannot be decoded at the record's clock.
    pub fn transfers<'a>(
        &self,
        capture: &'a Capture,
    ) -> Result<impl Iterator<Item = (usize, Frame)> + use<'a>> {
        let lanes = self.buses.iter().map(|bus| bus.transfers(capture, capture.range()));
        let mut lanes = lanes.map(|lane| lane.map(Iterator::peekable)).collect::<Result<Vec<_>>>()?;
        Ok(std::iter::from_fn(move || {
            let ends = lanes.iter_mut().enumerate();
            let (_, bus) = ends.filter_map(|(bus, lane)| Some((lane.peek()?.end, bus))).min()?;
            Some((bus, lanes[bus].next()?))
        }))
    }
}
