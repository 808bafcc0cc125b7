//! Bit planes of packed samples: the one place that chooses between portable code and AVX2.
//!
//! To the next editor: what [`Slicer`] does exists twice, here and in `avx2.rs`, and must agree on
//! every input; `tests/it/scan.rs` compares them.

use super::SampleWidth;

/// Samples in one word of a plane.
pub(crate) const GROUP: usize = 64;
/// Most words that are sliced at once.
pub(crate) const SPAN: usize = 32;

/// Levels of one line at up to 2048 consecutive ticks.
pub(crate) type Plane = [u64; SPAN];

/// Turns packed samples into one plane per input.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Slicer {
    avx2: bool,
}

impl Slicer {
    /// The fastest that this processor has.
    pub(crate) fn new() -> Self {
        #[cfg(target_arch = "x86_64")]
        let avx2 = std::is_x86_feature_detected!("avx2");
        #[cfg(not(target_arch = "x86_64"))]
        let avx2 = false;
        Slicer { avx2 }
    }

    /// Plain code, for comparison.
    pub(crate) fn portable() -> Self {
        Slicer { avx2: false }
    }

    /// A one for each bit in which some of these samples differ from `word`.
    #[inline]
    pub(crate) fn differing(self, samples: &[u8], width: SampleWidth, word: u64) -> u64 {
        #[cfg(target_arch = "x86_64")]
        if self.avx2 && samples.len().is_multiple_of(32) {
            return super::avx2::differing(samples, width, word);
        }
        differing(samples, width, word)
    }

    /// How many samples at the start, in whole groups of [`GROUP`], do not differ from `word` in
    /// any bit of `mask`.
    #[inline]
    pub(crate) fn quiet(self, samples: &[u8], width: SampleWidth, word: u64, mask: u64) -> usize {
        let group = GROUP * width.bytes();
        #[cfg(target_arch = "x86_64")]
        if self.avx2 {
            let (wanted, mask) = (repeated(word, width), repeated(mask, width));
            return super::avx2::quiet_groups(samples, group, wanted, mask) * GROUP;
        }
        let same = |group: &&[u8]| differing(group, width, word) & mask == 0;
        samples.chunks_exact(group).take_while(same).count() * GROUP
    }

    /// Where at most 2048 samples differ from the one before in a bit of `mask`: bit `i` of word `w`
    /// for sample `64 w + i`. `last` comes before the first. How many there are.
    #[inline]
    pub(crate) fn changes(
        self,
        samples: &[u8],
        width: SampleWidth,
        last: u64,
        mask: u64,
        out: &mut Plane,
    ) -> u32 {
        let (group, mask) = (GROUP * width.bytes(), repeated(mask, width));
        #[cfg(target_arch = "x86_64")]
        let mut count = if self.avx2 { super::avx2::changes(samples, width, mask, out) } else { 0 };
        #[cfg(not(target_arch = "x86_64"))]
        let mut count = 0;
        for (word, samples_of_word) in samples.chunks(group).enumerate().take(SPAN) {
            let done = self.avx2 && word > 0 && samples_of_word.len() == group;
            if !done {
                let last = if word == 0 { last } else { word_at(samples, width, word * GROUP - 1) };
                out[word] = changes(samples_of_word, width, last, mask);
                count += out[word].count_ones();
            }
        }
        count
    }

    /// How often the level changes in whole words, given the level before them.
    #[inline]
    pub(crate) fn count_changes(self, plane: &[u64], before: bool) -> u64 {
        #[cfg(target_arch = "x86_64")]
        if self.avx2 {
            return super::avx2::count_changes(plane, before);
        }
        count_changes(plane, before)
    }

    /// For each of `bits`, the plane of that bit: bit `i` of word `w` is what sample `64 w + i` of at
    /// most 2048 has. Bits beyond the width read as zero; bits beyond the samples are left as zero,
    /// words beyond them as they are.
    #[inline]
    pub(crate) fn planes(self, samples: &[u8], width: SampleWidth, bits: &[u32], out: &mut [Plane]) {
        let group = GROUP * width.bytes();
        #[cfg(target_arch = "x86_64")]
        let whole = if self.avx2 { super::avx2::planes(samples, width, bits, out) } else { 0 };
        #[cfg(not(target_arch = "x86_64"))]
        let whole = 0;
        let rest = samples.get(whole * group..).unwrap_or(&[]);
        for (word, samples) in rest.chunks(group).enumerate().take(SPAN.saturating_sub(whole)) {
            planes(samples, width, bits, whole + word, out);
        }
    }
}

/// How often the level changes in whole words, given the level before them.
#[inline]
pub(super) fn count_changes(plane: &[u64], before: bool) -> u64 {
    let mut carry = u64::from(before);
    let mut count = 0;
    for levels in plane {
        count += u64::from((levels ^ (levels << 1 | carry)).count_ones());
        carry = levels >> 63;
    }
    count
}

/// The word repeated to fill 64 bits.
pub(super) fn repeated(word: u64, width: SampleWidth) -> u64 {
    match width {
        SampleWidth::W8 => (word & 0xff) * 0x0101_0101_0101_0101,
        SampleWidth::W16 => (word & 0xffff) * 0x0001_0001_0001_0001,
        SampleWidth::W32 => (word & 0xffff_ffff) * 0x0000_0001_0000_0001,
        SampleWidth::W64 => word,
    }
}

/// Ors the samples in 64 bits into one.
pub(super) fn folded(mut all: u64, width: SampleWidth) -> u64 {
    let mut bits = 64;
    while bits > width.inputs() {
        bits /= 2;
        all |= all >> bits;
    }
    if width == SampleWidth::W64 { all } else { all & ((1 << width.inputs()) - 1) }
}

fn differing(samples: &[u8], width: SampleWidth, word: u64) -> u64 {
    let wanted = repeated(word, width);
    let mut groups = samples.chunks_exact(8);
    let mut all = 0;
    for group in &mut groups {
        all |= u64::from_le_bytes(group.try_into().unwrap_or_default()) ^ wanted;
    }
    // A whole number of samples is left: each differs from the same place of the repeated word.
    for (place, byte) in groups.remainder().iter().enumerate() {
        all |= (u64::from(*byte) << (place * 8)) ^ (wanted & 0xff << (place * 8));
    }
    folded(all, width)
}

/// A sample of packed ones, or zero.
fn word_at(samples: &[u8], width: SampleWidth, number: usize) -> u64 {
    super::Samples::new(width, samples).get(number).0
}

/// The word of changes of up to 64 samples; `last` comes before them.
fn changes(samples: &[u8], width: SampleWidth, last: u64, mask: u64) -> u64 {
    let (mut changes, mut last) = (0, repeated(last, width));
    for number in 0..samples.len() / width.bytes() {
        let word = repeated(word_at(samples, width, number), width);
        changes |= u64::from((word ^ last) & mask != 0) << number;
        last = word;
    }
    changes
}

fn planes(samples: &[u8], width: SampleWidth, bits: &[u32], at: usize, out: &mut [Plane]) {
    // Each byte of a sample by itself, as eight words of eight samples.
    let mut gathered: Option<(usize, [u64; 8])> = None;
    for (bit, plane) in bits.iter().zip(out) {
        if *bit >= width.inputs() {
            plane[at] = 0;
            continue;
        }
        let byte = (*bit / 8) as usize;
        let words = match gathered {
            Some((gathered, words)) if gathered == byte => words,
            _ => {
                let words = gather(samples, width, byte);
                gathered = Some((byte, words));
                words
            }
        };
        // The product moves the lowest bit of byte i to bit 56 + i; nothing else gets there.
        let pack = |word: u64| ((word >> (bit % 8)) & LOW_BITS).wrapping_mul(0x0102_0408_1020_4080) >> 56;
        plane[at] = words.iter().enumerate().fold(0, |plane, (i, word)| plane | pack(*word) << (i * 8));
    }
}

const LOW_BITS: u64 = 0x0101_0101_0101_0101;

fn gather(samples: &[u8], width: SampleWidth, byte: usize) -> [u64; 8] {
    let mut bytes = [0u8; GROUP];
    for (to, sample) in bytes.iter_mut().zip(samples.chunks_exact(width.bytes())) {
        *to = sample[byte];
    }
    let mut words = [0; 8];
    for (word, group) in words.iter_mut().zip(bytes.chunks_exact(8)) {
        *word = u64::from_le_bytes(group.try_into().unwrap_or_default());
    }
    words
}
