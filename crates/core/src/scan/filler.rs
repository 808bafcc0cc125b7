//! Traces from samples.

use super::planes::{GROUP, Plane, SPAN, Slicer};
use super::Samples;
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
    /// The lines that change in a span, their bits and planes.
    changing: Changing,
}

#[derive(Debug, Default)]
struct Changing {
    traces: Vec<usize>,
    bits: Vec<u32>,
    planes: Vec<Plane>,
    unknown: Vec<Plane>,
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
            at += self.skip_quiet(samples.slice(at..samples.len()));
            // Spans begin at multiples of 64 ticks, so that they fit the words of busy chunks.
            let room = match self.position % GROUP as u64 {
                0 => SPAN * GROUP,
                within => GROUP - within as usize,
            };
            let end = (at + room).min(samples.len());
            if at < end {
                self.push_span(samples.slice(at..end));
            }
            at = end;
        }
    }

    /// Passes samples that equal the last one; how many.
    fn skip_quiet(&mut self, samples: Samples<'_>) -> usize {
        let Some((levels, 0)) = self.last else { return 0 };
        let beyond = levels & samples.width().beyond() != 0;
        if beyond || !samples.unknown().is_empty() || !self.position.is_multiple_of(GROUP as u64) {
            return 0;
        }
        let quiet = self.slicer.quiet(samples.levels(), samples.width(), levels, self.mask);
        self.position += quiet as u64;
        quiet
    }

    /// Takes samples in that fit into the words of one span.
    fn push_span(&mut self, samples: Samples<'_>) {
        let (width, count) = (samples.width(), samples.len());
        let (levels, unknown) = self.last.unwrap_or_default();
        let open = if samples.unknown().is_empty() {
            0
        } else {
            self.slicer.differing(samples.unknown(), width, 0)
        };
        let differing = match self.last {
            None => u64::MAX,
            // Bits beyond the width read as low.
            Some(_) => {
                let changed = self.slicer.differing(samples.levels(), width, levels);
                changed | open | unknown | levels & width.beyond()
            }
        };
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
        let (width, lines, count) = (samples.width(), changing.bits.len(), samples.len() as u32);
        changing.planes.resize(lines.max(changing.planes.len()), [0; SPAN]);
        self.slicer.planes(samples.levels(), width, &changing.bits, &mut changing.planes);
        if open != 0 {
            changing.unknown.resize(lines.max(changing.unknown.len()), [0; SPAN]);
            self.slicer.planes(samples.unknown(), width, &changing.bits, &mut changing.unknown);
        }
        let (position, within) = (self.position, self.position % GROUP as u64);
        let words = (count as usize).div_ceil(GROUP);
        for (place, trace) in changing.traces.iter().enumerate() {
            let plane = &mut changing.planes[place];
            // Only a single word begins within its group.
            plane[0] <<= within;
            let mut unknown: &[u64] = &[];
            if open != 0 {
                changing.unknown[place][0] <<= within;
                unknown = &changing.unknown[place][..words];
            }
            self.traces[*trace].push_samples(Tick(position), &plane[..words], unknown, count);
        }
    }

    /// The traces, in the order of the bits given at the start.
    pub fn finish(self) -> Vec<Trace> {
        let len = self.position;
        self.traces.into_iter().map(|t| t.finish(len)).collect()
    }
}

