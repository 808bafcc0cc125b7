//! Traces from samples.

use rayon::prelude::*;

use super::Samples;
use super::planes::{GROUP, Plane, SPAN};
use super::slicer::Slicer;
use crate::capture::{CHUNK, Trace, TraceBuilder};
use crate::line::Level;
use crate::time::Tick;

/// Where fewer than one sample in this many differs from the one before, going from edge to edge is
/// taken to be faster than slicing.
const FEW: usize = 10;
/// How many spans after a busy one are taken for busy, too.
const BUSY: u32 = 15;
/// Most edges of a chunk that a list of them is the faster way to hold.
const SPARSE: usize = 300;
/// Fewest chunks worth a thread of their own.
const PART: usize = 64;

/// Fills one trace per input from samples that are all at hand, on all cores; otherwise as
/// [`Filler`].
///
/// ```
/// use deep_tap_core::scan::{SampleWidth, Samples, fill};
///
/// let traces = fill(Samples::new(SampleWidth::W8, &[0, 1, 3, 2]), &[0, 1]);
/// assert_eq!((traces[0].edge_count(), traces[1].edge_count()), (2, 1));
/// ```
pub fn fill(samples: Samples<'_>, bits: &[u32]) -> Vec<Trace> {
    let chunk = CHUNK as usize;
    let chunks = samples.len().div_ceil(chunk);
    let part = chunks.div_ceil(rayon::current_num_threads()).max(PART) * chunk;
    let starts: Vec<usize> = (0..samples.len().max(1)).step_by(part).collect();
    let parts: Vec<Vec<Trace>> = starts
        .into_par_iter()
        .map(|start| {
            let mut filler = match start.checked_sub(1) {
                None => Filler::new(bits),
                Some(before) => Filler::resume(bits, start as u64, samples.get(before)),
            };
            filler.push(samples.slice(start..start.saturating_add(part)));
            filler.finish()
        })
        .collect();
    let mut parts: Vec<_> = parts.into_iter().map(Vec::into_iter).collect();
    bits.iter().map(|_| Trace::join(parts.iter_mut().filter_map(Iterator::next))).collect()
}

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
    /// The first trace that reads each bit, and for each trace the next that reads the same.
    first_trace: [Option<u32>; 64],
    next_trace: Vec<Option<u32>>,
    /// Spans to come that are taken for busy without looking.
    busy: u32,
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
        let mut first_trace = [None; 64];
        let mut next_trace = vec![None; bits.len()];
        for (trace, bit) in bits.iter().enumerate() {
            if let Some(first) = first_trace.get_mut(*bit as usize) {
                next_trace[trace] = first.replace(trace as u32);
            }
        }
        Filler {
            bits: bits.to_vec(),
            mask,
            traces,
            position: 0,
            last: None,
            slicer: Slicer::new(),
            first_trace,
            next_trace,
            busy: 0,
            changing: Changing::default(),
        }
    }

    /// Goes on at `position`, a multiple of a chunk's length, after a sample with these levels and
    /// unknown bits.
    fn resume(bits: &[u32], position: u64, last: (u64, u64)) -> Self {
        let bit = |word: u64, bit: &u32| word.checked_shr(*bit).unwrap_or(0) & 1 == 1;
        let level = |b: &u32| if bit(last.1, b) { Level::Unknown } else { Level::from(bit(last.0, b)) };
        let traces = bits.iter().map(|b| TraceBuilder::resume(level(b), position)).collect();
        Filler { traces, position, last: Some(last), ..Filler::new(bits) }
    }

    /// The same without the instructions that only some processors have. The result is the same;
    /// this is for comparing the two.
    #[must_use]
    pub fn portable(mut self) -> Self {
        self.slicer = Slicer::portable();
        self
    }

    /// For what is read soon and forgotten then: takes more memory where lines are neither quiet nor busy, and less
    /// time.
    #[must_use]
    pub(crate) fn short_lived(mut self) -> Self {
        self.traces.iter_mut().for_each(|trace| trace.bitmaps_above(SPARSE));
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
        if self.busy > 0
            || beyond
            || !samples.unknown().is_empty()
            || !self.position.is_multiple_of(GROUP as u64)
        {
            return 0;
        }
        let quiet = self.slicer.quiet(samples.levels(), samples.width(), levels, self.mask);
        self.position += quiet as u64;
        quiet
    }

    /// Takes samples in that fit into the words of one span.
    fn push_span(&mut self, samples: Samples<'_>) {
        let (width, count) = (samples.width(), samples.len());
        match self.last.filter(|_| samples.unknown().is_empty()) {
            Some((levels, 0)) if levels & width.beyond() == 0 && self.busy > 0 => {
                self.busy -= 1;
                self.push_changes(samples, u64::MAX, 0);
            }
            // Bits beyond the width read as low.
            Some((levels, 0)) if levels & width.beyond() == 0 => self.push_known(samples, levels),
            last => {
                let (levels, unknown) = last.or(self.last).unwrap_or_default();
                let mut open = 0;
                if !samples.unknown().is_empty() {
                    open = self.slicer.differing(samples.unknown(), width, 0);
                }
                let differing = self.slicer.differing(samples.levels(), width, levels);
                let differing = differing | open | unknown | levels & width.beyond();
                self.push_changes(samples, if self.last.is_none() { u64::MAX } else { differing }, open);
            }
        }
        self.last = Some(samples.get(count - 1));
        self.position += count as u64;
    }

    /// The same where all levels are known: edge by edge where there are few, plane by plane where
    /// there are many.
    fn push_known(&mut self, samples: Samples<'_>, levels: u64) {
        let mut changes = [0; SPAN];
        let (bytes, width) = (samples.levels(), samples.width());
        let count = self.slicer.changes(bytes, width, levels, self.mask, &mut changes) as usize;
        if count * FEW > samples.len() {
            // What follows is likely to be as busy: no use in asking each time.
            self.busy = BUSY;
            self.push_changes(samples, u64::MAX, 0);
        } else if count > 0 {
            self.push_edges(samples, levels, &changes);
        }
    }

    /// Appends the edges of the samples that differ from the one before.
    fn push_edges(&mut self, samples: Samples<'_>, mut last: u64, changes: &Plane) {
        for (word, mut left) in changes.iter().copied().enumerate().take(samples.len().div_ceil(GROUP)) {
            while left != 0 {
                let number = word * GROUP + left.trailing_zeros() as usize;
                left &= left - 1;
                // Nothing changed since the last change.
                let (levels, _) = samples.get(number);
                let mut bits = (levels ^ last) & self.mask;
                last = levels;
                let tick = self.position + number as u64;
                while bits != 0 {
                    let mut trace = self.first_trace[bits.trailing_zeros() as usize];
                    bits &= bits - 1;
                    while let Some(place) = trace {
                        self.traces[place as usize].push_toggle(tick);
                        trace = self.next_trace[place as usize];
                    }
                }
            }
        }
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

    /// How much is held, in list entries of 16 bits, the last chunk left out.
    pub(crate) fn weight(&self) -> usize {
        self.traces.iter().map(TraceBuilder::weight).sum()
    }

    /// Hands over the traces of what came in since the last time before `border`, a multiple of a chunk's
    /// length that is no more than a chunk behind the position.
    pub(crate) fn cut(&mut self, border: u64) -> Vec<Trace> {
        self.traces.iter_mut().map(|trace| trace.cut(border)).collect()
    }

    /// The same of what came in since, which will be handed over again.
    pub(crate) fn tail(&self) -> Vec<Trace> {
        self.traces.iter().map(TraceBuilder::tail).collect()
    }

    /// The traces, in the order of the bits given at the start.
    pub fn finish(self) -> Vec<Trace> {
        let len = self.position;
        self.traces.into_iter().map(|t| t.finish(len)).collect()
    }
}
