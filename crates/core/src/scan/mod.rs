//! From samples to traces: blocks of packed samples become bit planes, and those become edges.

use crate::capture::{Trace, TraceBuilder};
use crate::line::Level;
use crate::time::Tick;

/// Consecutive samples of up to 64 inputs: bit `i` of a word is input `i`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SampleBlock {
    /// One word per sample.
    pub samples: Vec<u64>,
    /// Per sample, a one for each input whose level is not known; empty when all are.
    pub unknown: Vec<u64>,
}

impl SampleBlock {
    /// Number of samples.
    pub fn len(&self) -> usize {
        self.samples.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.samples.is_empty()
    }

    /// Removes all samples and keeps the memory.
    pub fn clear(&mut self) {
        self.samples.clear();
        self.unknown.clear();
    }
}

/// Fills one trace per input from blocks of samples, however they are cut.
#[derive(Debug)]
pub struct Filler {
    /// Bit of the samples that each trace reads.
    bits: Vec<u32>,
    traces: Vec<TraceBuilder>,
    position: u64,
    last: Option<(u64, u64)>,
}

impl Filler {
    /// Reads these bits of each sample, 0 to 63; larger ones read as low.
    pub fn new(bits: &[u32]) -> Self {
        let traces = bits.iter().map(|_| TraceBuilder::new(Level::Low)).collect();
        Filler { bits: bits.to_vec(), traces, position: 0, last: None }
    }

    /// Samples taken in so far.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// Appends a block.
    pub fn push(&mut self, block: &SampleBlock) {
        for (index, samples) in block.samples.chunks(64).enumerate() {
            let unknown = block.unknown.get(index * 64..index * 64 + samples.len()).unwrap_or(&[]);
            self.push_group(samples, unknown);
        }
    }

    fn push_group(&mut self, samples: &[u64], unknown: &[u64]) {
        let count = samples.len() as u32;
        let all_unknown = unknown.iter().fold(0, |all, u| all | u);
        // A stretch in which no line changes costs one comparison per sample and nothing else.
        let same = |first: u64| samples.iter().fold(0, |all, s| all | (s ^ first)) == 0;
        let first = samples[0];
        let quiet = all_unknown == 0 && self.last == Some((first, 0)) && same(first);
        if !quiet {
            let position = Tick(self.position);
            for (trace, bit) in self.traces.iter_mut().zip(&self.bits) {
                let plane = |words: &[u64]| {
                    let bits = words.iter().enumerate();
                    bits.fold(0, |plane, (i, word)| plane | (word.checked_shr(*bit).unwrap_or(0) & 1) << i)
                };
                let unknown = if all_unknown == 0 { 0 } else { plane(unknown) };
                trace.push_samples(position, plane(samples), unknown, count);
            }
        }
        self.last = samples.last().map(|s| (*s, unknown.last().copied().unwrap_or(0)));
        self.position += u64::from(count);
    }

    /// The traces, in the order of the bits given at the start.
    pub fn finish(self) -> Vec<Trace> {
        let len = self.position;
        self.traces.into_iter().map(|t| t.finish(len)).collect()
    }
}
