//! Packed samples, as instruments deliver them.

use std::ops::Range;

/// How many bytes a sample takes, and so how many inputs fit into it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SampleWidth {
    /// One byte: 8 inputs.
    W8,
    /// Two bytes: 16 inputs.
    W16,
    /// Four bytes: 32 inputs.
    W32,
    /// Eight bytes: 64 inputs.
    #[default]
    W64,
}

impl SampleWidth {
    /// All widths, rising.
    pub const ALL: [SampleWidth; 4] = [Self::W8, Self::W16, Self::W32, Self::W64];

    /// The narrowest width for this many inputs; [`W64`](Self::W64) for more than any holds.
    pub fn for_inputs(inputs: usize) -> Self {
        Self::ALL.into_iter().find(|w| w.inputs() as usize >= inputs).unwrap_or_default()
    }

    /// Bytes per sample.
    pub const fn bytes(self) -> usize {
        1 << self as usize
    }

    /// The bits that a sample of this width does not have.
    pub(crate) fn beyond(self) -> u64 {
        u64::MAX.checked_shl(self.inputs()).unwrap_or(0)
    }

    /// Inputs per sample.
    pub const fn inputs(self) -> u32 {
        8 << self as u32
    }
}

/// Consecutive samples: bit `i` of a sample is the `i`-th input, its bytes are little-endian.
///
/// ```
/// use deep_tap_core::scan::{SampleBlock, SampleWidth};
///
/// let mut block = SampleBlock::new(SampleWidth::W16);
/// block.push(0x8001, 0);
/// block.push_run(0x0001, 0, 3);
/// assert_eq!(block.len(), 4);
/// assert_eq!(block.samples().levels(), [0x01, 0x80, 1, 0, 1, 0, 1, 0]);
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SampleBlock {
    width: SampleWidth,
    levels: Vec<u8>,
    /// As long as `levels`, or empty when all levels are known.
    unknown: Vec<u8>,
    /// Codes per analog input.
    analog: Vec<Vec<i16>>,
    grid: Grid,
}

/// Which samples analog codes were taken with: number `first`, and every `every`-th from there on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Grid {
    first: u64,
    every: u64,
}

impl Grid {
    /// Codes taken with the samples before this one.
    fn before(self, sample: usize) -> usize {
        match self.every {
            0 => 0,
            every => (sample as u64).saturating_sub(self.first).div_ceil(every) as usize,
        }
    }
}

impl SampleBlock {
    /// An empty block of samples this wide.
    pub fn new(width: SampleWidth) -> Self {
        SampleBlock { width, ..SampleBlock::default() }
    }

    /// Number of samples.
    pub fn len(&self) -> usize {
        self.levels.len() / self.width.bytes()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.levels.is_empty()
    }

    /// Removes all samples and keeps the memory; what follows is this wide.
    pub fn reset(&mut self, width: SampleWidth) {
        self.width = width;
        self.levels.clear();
        self.unknown.clear();
        self.analog.clear();
        self.grid = Grid::default();
    }

    /// Says which samples of this block come with analog codes: number `first`, and every `every`-th
    /// from there on (at least 1). The codes follow with [`push_analog`](Self::push_analog).
    pub fn start_analog(&mut self, inputs: usize, first: u64, every: u64) {
        self.analog = vec![Vec::new(); inputs];
        self.grid = Grid { first, every: every.max(1) };
    }

    /// Appends codes of an analog input, counted from 0 in the order of the configuration.
    pub fn push_analog(&mut self, input: usize, codes: &[i16]) {
        if let Some(to) = self.analog.get_mut(input) {
            to.extend_from_slice(codes);
        }
    }

    /// Appends one sample; a one in `unknown` says that the level of that input is not known. Bits
    /// beyond the width are left out.
    pub fn push(&mut self, levels: u64, unknown: u64) {
        self.push_run(levels, unknown, 1);
    }

    /// Appends `count` equal samples.
    pub fn push_run(&mut self, levels: u64, unknown: u64, count: usize) {
        let bytes = self.width.bytes();
        let append = |to: &mut Vec<u8>, word: u64| {
            let (start, len) = (to.len(), bytes * count);
            to.extend_from_slice(&word.to_le_bytes()[..bytes.min(len)]);
            // Twice as many each time.
            while to.len() < start + len {
                let more = (to.len() - start).min(start + len - to.len());
                to.extend_from_within(start..start + more);
            }
        };
        if unknown != 0 || !self.unknown.is_empty() {
            self.unknown.resize(self.levels.len(), 0);
            append(&mut self.unknown, unknown);
        }
        append(&mut self.levels, levels);
    }

    /// Appends packed samples of this block's width, all levels known; an incomplete sample at the
    /// end is left out.
    pub fn push_bytes(&mut self, bytes: &[u8]) {
        let whole = bytes.len() - bytes.len() % self.width.bytes();
        self.levels.extend_from_slice(&bytes[..whole]);
        if !self.unknown.is_empty() {
            self.unknown.resize(self.levels.len(), 0);
        }
    }

    /// Appends other samples, widened or narrowed to this block's width, with their analog codes.
    pub fn append(&mut self, samples: Samples<'_>) {
        self.append_codes(samples, self.len() as u64);
        if samples.width == self.width && samples.unknown.is_empty() {
            self.push_bytes(samples.levels);
        } else {
            samples.iter().for_each(|(levels, unknown)| self.push(levels, unknown));
        }
    }

    /// Appends the analog codes that come with samples, the first of which is the one of this number here.
    pub(crate) fn append_codes(&mut self, samples: Samples<'_>, before: u64) {
        for input in 0..samples.analog_inputs() {
            let (first, every, codes) = samples.analog(input);
            let more = self.analog.len() <= input;
            if more {
                self.analog.push(Vec::new());
            }
            if self.analog[input].is_empty() && !codes.is_empty() {
                self.grid = Grid { first: before + first, every };
            }
            self.analog[input].extend_from_slice(codes);
        }
    }

    /// The samples, to be read.
    pub fn samples(&self) -> Samples<'_> {
        Samples {
            width: self.width,
            levels: &self.levels,
            unknown: &self.unknown,
            analog: &self.analog,
            grid: self.grid,
            from: 0,
        }
    }
}

/// Borrowed packed samples, from a [`SampleBlock`] or straight from bytes.
///
/// ```
/// use deep_tap_core::scan::{SampleWidth, Samples};
///
/// let samples = Samples::new(SampleWidth::W8, &[1, 3, 2, 2]);
/// assert_eq!(samples.slice(1..3).iter().collect::<Vec<_>>(), [(3, 0), (2, 0)]);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Samples<'a> {
    width: SampleWidth,
    levels: &'a [u8],
    unknown: &'a [u8],
    analog: &'a [Vec<i16>],
    grid: Grid,
    /// Samples of the block that came before these.
    from: usize,
}

impl<'a> Samples<'a> {
    /// Packed samples, all levels known; an incomplete sample at the end is left out.
    pub fn new(width: SampleWidth, bytes: &'a [u8]) -> Self {
        let whole = bytes.len() - bytes.len() % width.bytes();
        Samples { width, levels: &bytes[..whole], unknown: &[], analog: &[], grid: Grid::default(), from: 0 }
    }

    /// Number of samples.
    pub fn len(&self) -> usize {
        self.levels.len() / self.width.bytes()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.levels.is_empty()
    }

    /// Width of a sample.
    pub fn width(&self) -> SampleWidth {
        self.width
    }

    /// The packed levels.
    pub fn levels(&self) -> &'a [u8] {
        self.levels
    }

    /// Per sample, a one for each input whose level is not known; empty when all are known.
    pub fn unknown(&self) -> &'a [u8] {
        self.unknown
    }

    /// The samples with these numbers; those that do not exist are left out.
    #[must_use]
    pub fn slice(&self, range: Range<usize>) -> Samples<'a> {
        let bytes = self.width.bytes();
        let end = range.end.min(self.len());
        let bounds = range.start.min(end) * bytes..end * bytes;
        let unknown = self.unknown.get(bounds.clone()).unwrap_or(&[]);
        let from = self.from + range.start.min(end);
        Samples { levels: &self.levels[bounds], unknown, from, ..*self }
    }

    /// Number of analog inputs that come along.
    pub fn analog_inputs(&self) -> usize {
        self.analog.len()
    }

    /// The codes of an analog input that were taken with these samples: the number of the sample
    /// that the first one was taken with, samples from one to the next, and the codes.
    ///
    /// ```
    /// use deep_tap_core::scan::{SampleBlock, SampleWidth};
    ///
    /// let mut block = SampleBlock::new(SampleWidth::W8);
    /// block.push_run(0, 0, 10);
    /// block.start_analog(1, 2, 4);
    /// block.push_analog(0, &[100, 101]);
    /// assert_eq!(block.samples().analog(0), (2, 4, &[100, 101][..]));
    /// assert_eq!(block.samples().slice(3..10).analog(0), (3, 4, &[101][..]));
    /// ```
    pub fn analog(&self, input: usize) -> (u64, u64, &'a [i16]) {
        let codes = self.analog.get(input).map_or(&[][..], Vec::as_slice);
        let (start, end) = (self.grid.before(self.from), self.grid.before(self.from + self.len()));
        let start = start.min(codes.len());
        let at = self.grid.first.saturating_add((start as u64).saturating_mul(self.grid.every));
        (at.saturating_sub(self.from as u64), self.grid.every, &codes[start..end.clamp(start, codes.len())])
    }

    /// Levels and unknown bits of a sample; zeros beyond the end.
    pub fn get(&self, number: usize) -> (u64, u64) {
        let word = |from: &[u8]| match self.width {
            SampleWidth::W8 => at::<1>(from, number).map_or(0, |b| u64::from(u8::from_le_bytes(b))),
            SampleWidth::W16 => at::<2>(from, number).map_or(0, |b| u64::from(u16::from_le_bytes(b))),
            SampleWidth::W32 => at::<4>(from, number).map_or(0, |b| u64::from(u32::from_le_bytes(b))),
            SampleWidth::W64 => at::<8>(from, number).map_or(0, u64::from_le_bytes),
        };
        (word(self.levels), word(self.unknown))
    }

    /// Levels and unknown bits of each sample.
    pub fn iter(&self) -> impl Iterator<Item = (u64, u64)> + 'a {
        let samples = *self;
        (0..samples.len()).map(move |number| samples.get(number))
    }
}

/// Sample `number` of packed samples that take `N` bytes.
#[inline]
fn at<const N: usize>(bytes: &[u8], number: usize) -> Option<[u8; N]> {
    bytes.get(number.checked_mul(N)?..)?.first_chunk().copied()
}
