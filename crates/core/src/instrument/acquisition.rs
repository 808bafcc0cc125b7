//! One recording to be made: from which instrument, into what, and what comes of it.

use super::{Configuration, Instrument, Search};
use crate::capture::{AnalogTrace, Trace};
use crate::error::Result;
use crate::quantity::Time;
use crate::scan::{Memory, Samples};
use crate::time::Tick;

/// Where a recording stands.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Progress {
    /// Waiting for the trigger.
    Waiting {
        /// For how long, by the instrument's clock.
        elapsed: Time,
    },
    /// Filling the memory.
    Recording {
        /// Samples recorded.
        done: u64,
        /// Samples asked for.
        of: u64,
    },
    /// Reading the memory out.
    Reading {
        /// Samples read.
        done: u64,
        /// Samples to read.
        of: u64,
    },
}

/// One recording to be made.
pub struct Acquisition<'a> {
    /// The instrument.
    pub instrument: &'a mut dyn Instrument,
    /// What to record.
    pub configuration: &'a Configuration,
    /// Names of the inputs, in the order of the configuration, for messages.
    pub names: &'a [&'a str],
    /// What to look for in the samples when they are streamed; its lines are the inputs of the
    /// same number. `None` to keep everything from arming on.
    pub search: Option<Search>,
    /// How long to wait for the trigger, by the instrument's clock; `None` waits for ever.
    pub time_out: Option<Time>,
}

impl<'a> Acquisition<'a> {
    /// A recording that waits for the trigger of its configuration, for ever if need be.
    pub fn new(
        instrument: &'a mut dyn Instrument,
        configuration: &'a Configuration,
        names: &'a [&'a str],
    ) -> Acquisition<'a> {
        Acquisition { instrument, configuration, names, search: None, time_out: None }
    }
}

/// Where the samples of a recording go.
///
/// Implementors: `begin` is called once, before anything else, and not at all when the
/// trigger does not come. An error ends the recording.
pub trait Sink {
    /// The recording begins. `trigger` is the number of the sample that is the trigger, counted
    /// from the first one that will be pushed.
    ///
    /// # Errors
    /// When nothing can be taken.
    fn begin(&mut self, trigger: Option<Tick>) -> Result<()>;

    /// The next samples; bit `i` is the `i`-th configured input.
    ///
    /// # Errors
    /// When they cannot be taken.
    fn push(&mut self, samples: Samples<'_>) -> Result<()>;
}

/// What was recorded, apart from the samples.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Recorded {
    /// Ticks recorded.
    pub len: u64,
    /// The tick that is the trigger, if there was one.
    pub trigger: Option<Tick>,
    /// What the user should know.
    pub remarks: Vec<String>,
}

/// What was recorded.
#[derive(Debug)]
pub struct Recording {
    /// One trace per configured input.
    pub traces: Vec<Trace>,
    /// One analog trace per configured analog input.
    pub analog: Vec<AnalogTrace>,
    /// Ticks recorded.
    pub len: u64,
    /// The tick that is the trigger, if there was one.
    pub trigger: Option<Tick>,
    /// What the user should know.
    pub remarks: Vec<String>,
}

impl Sink for Memory {
    fn begin(&mut self, _: Option<Tick>) -> Result<()> {
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        Memory::push(self, samples);
        Ok(())
    }
}

/// What to say when the user stops before the trigger came.
pub(super) fn stopped_waiting(elapsed: Time) -> String {
    format!("stopped after waiting for {elapsed}: the trigger had not come")
}

/// What to say when the trigger came before the part before it was full.
pub(super) fn short_of_past(configuration: &Configuration, trigger: Option<Tick>) -> Option<String> {
    let missing = configuration.before.checked_sub(trigger?.0).filter(|missing| *missing > 0)?;
    Some(format!(
        "the trigger came {missing} samples before the part before the trigger was full: the record begins when the instrument was armed"
    ))
}
