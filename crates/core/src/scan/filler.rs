//! Traces from samples.

use super::planes::{GROUP, Slicer};
use super::{SampleWidth, Samples};
use crate::capture::{Trace, TraceBuilder};
use crate::line::Level;
use crate::time::Tick;

/// Fills one trace per input from blocks of samples, however they are cut.
///
/// ```
/// use deep_tap_core::scan::{Filler, SampleWidth, Samples};
/// use deep_tap_core::time::Tick;
///
/// let mut filler = Filler::new(&[0, 1]);
/// filler.push(Samples::new(SampleWidth::W8, &[0, 1, 1]));
/// filler.push(Samples::new(SampleWidth::W8, &[3]));
/// let traces = filler.finish();
/// assert_eq!(traces[0].next_edge(Tick(0)).unwrap().tick, Tick(1));
/// assert_eq!(traces[1].next_edge(Tick(0)).unwrap().tick, Tick(3));
/// ```
#[derive(Debug)]
pub struct Filler {
    /// Bit of the samples that each trace reads.
    bits: Vec<u32>,
    /// A one for each of these.
    mask: u64,
    traces: Vec<TraceBuilder>,
    position: u64,
    /// Levels and unknown bits of the last sample.
    last: Option<(u64, u64)>,
    slicer: Slicer,
    /// The lines that change in a group, their bits and planes.
    changing: Changing,
}

#[derive(Debug, Default)]
struct Changing {
    traces: Vec<usize>,
    bits: Vec<u32>,
    planes: Vec<u64>,
    unknown: Vec<u64>,
}

impl Filler {
    /// Reads these bits of each sample, 0 to 63; those beyond a sample's width read as low.
    pub fn new(bits: &[u32]) -> Self {
        let traces = bits.iter().map(|_| TraceBuilder::new(Level::Low)).collect();
        let mask = bits.iter().fold(0, |all, bit| all | 1u64.checked_shl(*bit).unwrap_or(0));
        Filler {
            bits: bits.to_vec(),
            mask,
            traces,
            position: 0,
            last: None,
            slicer: Slicer::new(),
            changing: Changing::default(),
        }
    }

    /// The same without the instructions that only some processors have. The result is the same;
    /// this is for comparing the two.
    #[must_use]
    pub fn portable(mut self) -> Self {
        self.slicer = Slicer::portable();
        self
    }

    /// Samples taken in so far.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// Appends samples.
    pub fn push(&mut self, samples: Samples<'_>) {
        let mut at = 0;
        while at < samples.len() {
            // Groups begin at multiples of 64 ticks, so that they fit the words of busy chunks.
            let room = GROUP - (self.position % GROUP as u64) as usize;
            let end = (at + room).min(samples.len());
            self.push_group(samples.slice(at..end));
            at = end;
        }
    }

    fn push_group(&mut self, samples: Samples<'_>) {
        let (width, count) = (samples.width(), samples.len());
        let first = samples.get(0);
        let (levels, unknown) = self.last.unwrap_or((!first.0, first.1));
        let mut differing = self.slicer.differing(samples.levels(), width, levels);
        let open = if samples.unknown().is_empty() {
            0
        } else {
            self.slicer.differing(samples.unknown(), width, 0)
        };
        // Bits beyond the width read as low.
        let beyond = if width == SampleWidth::W64 { 0 } else { u64::MAX << width.inputs() };
        differing |= open | unknown | levels & beyond;
        if self.last.is_none() {
            differing = u64::MAX;
        }
        if differing & self.mask != 0 {
            self.push_changes(samples, differing, open);
        }
        self.last = Some(samples.get(count - 1));
        self.position += count as u64;
    }

    fn push_changes(&mut self, samples: Samples<'_>, differing: u64, open: u64) {
        let changing = &mut self.changing;
        changing.traces.clear();
        changing.bits.clear();
        for (trace, bit) in self.bits.iter().enumerate() {
            if differing.checked_shr(*bit).unwrap_or(0) & 1 == 1 {
                changing.traces.push(trace);
                changing.bits.push(*bit);
            }
        }
        let (width, lines) = (samples.width(), changing.bits.len());
        changing.planes.resize(lines, 0);
        changing.unknown.clear();
        changing.unknown.resize(lines, 0);
        self.slicer.planes(samples.levels(), width, &changing.bits, &mut changing.planes);
        if open != 0 {
            self.slicer.planes(samples.unknown(), width, &changing.bits, &mut changing.unknown);
        }
        let position = Tick(self.position);
        for (place, trace) in changing.traces.iter().enumerate() {
            let (plane, unknown) = (changing.planes[place], changing.unknown[place]);
            self.traces[*trace].push_samples(position, plane, unknown, samples.len() as u32);
        }
    }

    /// The traces, in the order of the bits given at the start.
    pub fn finish(self) -> Vec<Trace> {
        let len = self.position;
        self.traces.into_iter().map(|t| t.finish(len)).collect()
    }
}

