//! What an instrument can do, as data.

use crate::time::{Percent, Rate, Time, Voltage};

/// What an instrument can do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Capabilities {
    /// Number of digital inputs, numbered from 0.
    pub inputs: u32,
    /// Its modes, each a trade of inputs against rate and memory.
    pub modes: Vec<Mode>,
    /// Lowest and highest threshold.
    pub thresholds: (Voltage, Voltage),
    /// Highest voltage an input stands.
    pub highest_input: Voltage,
    /// Largest difference in delay between two inputs.
    pub skew: Time,
    /// Largest relative error of the time base.
    pub accuracy: Percent,
}

/// One way in which an instrument can record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mode {
    /// Most inputs recorded at once.
    pub inputs: u32,
    /// Sample rates, rising.
    pub rates: Vec<Rate>,
    /// Most samples in one recording: the memory, or what a stream may be long.
    pub memory: u64,
    /// Whether the samples are sent while they are taken, instead of being kept on board.
    pub streams: bool,
}

impl Capabilities {
    /// The rates at which this many inputs can be recorded, on board or as a stream, rising, each
    /// once.
    pub fn rates_for(&self, inputs: u32, streams: bool) -> Vec<Rate> {
        let fitting = self.modes.iter().filter(|m| m.inputs >= inputs && m.streams == streams);
        let mut rates: Vec<Rate> = fitting.flat_map(|m| m.rates.iter().copied()).collect();
        rates.sort_unstable();
        rates.dedup();
        rates
    }

    /// The deepest mode that records this many inputs at this rate, on board or as a stream.
    pub fn mode_for(&self, inputs: u32, rate: Rate, streams: bool) -> Option<&Mode> {
        let fits = |m: &&Mode| m.streams == streams && m.inputs >= inputs && m.rates.contains(&rate);
        let fitting = self.modes.iter().filter(fits);
        fitting.max_by_key(|m| m.memory)
    }
}
