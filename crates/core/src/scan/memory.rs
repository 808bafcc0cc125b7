//! Samples kept in memory: levels as traces, codes as analog traces.

use super::{Filler, Samples};
use crate::capture::{AnalogBuilder, AnalogTrace, Trace};
use crate::line::AnalogScale;

/// Keeps samples in memory, however they are cut into blocks: the levels of the first inputs, and
/// the codes of all analog inputs.
#[derive(Debug)]
pub struct Memory {
    levels: Filler,
    analog: AnalogLines,
}

/// The codes of all analog inputs so far.
#[derive(Debug, Default)]
struct AnalogLines {
    lines: Vec<AnalogBuilder>,
    /// Tick of the first code, and ticks from one to the next.
    first: u64,
    every: u64,
}

impl AnalogLines {
    /// Takes the codes in that come with samples, the first of which is at this position.
    fn push(&mut self, samples: Samples<'_>, position: u64) {
        if self.lines.is_empty() {
            self.lines.resize_with(samples.analog_inputs(), AnalogBuilder::new);
        }
        for (input, line) in self.lines.iter_mut().enumerate() {
            let (first, every, codes) = samples.analog(input);
            if line.is_empty() && !codes.is_empty() {
                (self.first, self.every) = (position.saturating_add(first), every);
            }
            line.push(codes);
        }
    }

    /// The analog lines, with one scale for each; lines without a single code have none.
    fn finish(self, scales: &[AnalogScale]) -> Vec<AnalogTrace> {
        let (first, every) = (self.first, self.every);
        let mut lines = self.lines.into_iter();
        scales.iter().map(|scale| lines.next().unwrap_or_default().finish(*scale, first, every)).collect()
    }
}

impl Memory {
    /// For this many inputs.
    pub fn new(inputs: usize) -> Self {
        let bits: Vec<u32> = (0..inputs as u32).collect();
        Memory { levels: Filler::new(&bits), analog: AnalogLines::default() }
    }

    /// Appends samples.
    pub fn push(&mut self, samples: Samples<'_>) {
        self.analog.push(samples, self.levels.position());
        self.levels.push(samples);
    }

    /// Samples taken in so far.
    pub fn position(&self) -> u64 {
        self.levels.position()
    }

    /// One trace per input, and one analog trace per scale.
    pub fn finish(self, scales: &[AnalogScale]) -> (Vec<Trace>, Vec<AnalogTrace>) {
        (self.levels.finish(), self.analog.finish(scales))
    }
}
