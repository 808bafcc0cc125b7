//! What instants are read from.

use crate::line::Signal;
use crate::quantity::Voltage;

/// What the instants of an event are read from: the signals whose edges they are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Instants {
    signals: Vec<Signal>,
    between_ticks: bool,
    level_error: Voltage,
}

impl Instants {
    /// Instants at edges of any of these lines and crossings.
    pub fn edges<S: Into<Signal>>(signals: impl IntoIterator<Item = S>) -> Self {
        let signals = signals.into_iter().map(Into::into).collect();
        Instants { signals, between_ticks: false, level_error: Voltage::ZERO }
    }

    /// Instants that no signal gives, such as those of samples.
    pub(crate) fn none() -> Self {
        Instants::edges([] as [Signal; 0])
    }

    /// Instants at edges of one line or crossing.
    pub fn edges_of(signal: impl Into<Signal>) -> Self {
        Instants::edges([signal])
    }

    /// The same where they may lie between two ticks, even in an exact record, and are seen at the
    /// later one: a duration that is over, the end of a frame.
    #[must_use]
    pub fn between_ticks(self, between_ticks: bool) -> Self {
        Instants { between_ticks, ..self }
    }

    /// The same where the voltages of crossings may be off by this much themselves, since they were
    /// taken from the record.
    #[must_use]
    pub fn with_level_error(self, level_error: Voltage) -> Self {
        Instants { level_error, ..self }
    }

    /// The lines and crossings whose edges they are.
    pub fn signals(&self) -> &[Signal] {
        &self.signals
    }

    /// How far the voltages of crossings may be off.
    pub fn level_error(&self) -> Voltage {
        self.level_error
    }

    /// Whether they may lie between two ticks of an exact record.
    pub fn is_between_ticks(&self) -> bool {
        self.between_ticks
    }

    /// Whether all of these and the others come in by one input, so that skew does not matter.
    pub fn share_input(&self, other: &Instants) -> bool {
        match self.signals.first() {
            Some(first) => {
                self.signals.iter().chain(&other.signals).all(|signal| signal.shares_input(*first))
            }
            None => false,
        }
    }
}
