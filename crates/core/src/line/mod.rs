//! Lines, their levels and thresholds, and the groups they form.

mod analog;
mod bus;
mod crossing;
mod levels;
mod named;
mod pulse_widths;
mod threshold;
mod value_names;

pub use analog::{AnalogId, AnalogLine, AnalogScale, VoltageRange};
pub use bus::{BitOrder, Bus, BusError, BusId, Radix, Value};
pub use crossing::{Crossing, Gate, Side, Signal};
pub use levels::Levels;
pub(crate) use named::{Meant as NameMeant, NameIndex, meant, several};
pub use pulse_widths::{Narrowest, PulseWidths};
pub use threshold::{LogicFamily, Threshold};
pub use value_names::ValueNames;

use std::fmt;

use serde::Serialize;

use crate::quantity::Time;

/// The level of a line at an instant.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// Below the threshold.
    Low,
    /// Above the threshold.
    High,
    /// Driven by nobody: `z` of a simulation. Known, but neither low nor high.
    Floating,
    /// Not known: `x` of a simulation, or a stretch of a capture that was lost.
    Unknown,
}

impl Level {
    /// The level as a bit, or `None` when floating or unknown.
    pub fn bit(self) -> Option<bool> {
        match self {
            Level::Low => Some(false),
            Level::High => Some(true),
            Level::Floating | Level::Unknown => None,
        }
    }

    /// The other of low and high; what is neither stays what it is.
    #[must_use]
    pub fn opposite(self) -> Level {
        match self {
            Level::Low => Level::High,
            Level::High => Level::Low,
            Level::Floating => Level::Floating,
            Level::Unknown => Level::Unknown,
        }
    }
}

impl From<bool> for Level {
    fn from(bit: bool) -> Level {
        if bit { Level::High } else { Level::Low }
    }
}

impl fmt::Display for Level {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Level::Low => "low",
            Level::High => "high",
            Level::Floating => "floating",
            Level::Unknown => "unknown",
        })
    }
}

/// Which line of a capture or setup, counted from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct LineId(pub usize);

/// Where a line comes from.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Input {
    /// A numbered input of an instrument.
    Number(u32),
    /// A signal of a simulation, by its hierarchical name.
    Signal(String),
}

impl From<u32> for Input {
    fn from(number: u32) -> Self {
        Input::Number(number)
    }
}

impl fmt::Display for Input {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Input::Number(number) => write!(f, "{number}"),
            Input::Signal(name) => f.write_str(name),
        }
    }
}

/// A named digital signal wired to an input.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// Its name on the schematic.
    pub name: String,
    /// The input it is wired to; `None` when the source had no inputs.
    pub input: Option<Input>,
    /// The threshold its levels were decided with, if any.
    pub threshold: Option<Threshold>,
    /// How much less well than those of others its edges are known, as where it is made from an
    /// analog line.
    pub extra: Time,
    /// Ticks from one of its samples to the next: 1, or more where it is made from an analog line that is sampled more
    /// slowly.
    pub step: u64,
    /// How short its pulses can be.
    pub pulses: PulseWidths,
    /// What a resistor pulls it to while nobody drives it, low or high: then it reads as that.
    pub pull: Option<Level>,
}

impl From<&str> for Line {
    /// A line known by name only.
    fn from(name: &str) -> Line {
        Line::named(name)
    }
}

impl Line {
    /// A line known by name only.
    pub fn named(name: impl Into<String>) -> Self {
        Line {
            name: name.into(),
            input: None,
            threshold: None,
            extra: Time::ZERO,
            step: 1,
            pulses: PulseWidths::default(),
            pull: None,
        }
    }
}
