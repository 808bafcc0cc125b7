//! Slicing samples into bit planes: the one place that chooses between portable code and AVX2.
//!
//! To the next editor: what [`Slicer`] does exists twice, in `portable.rs` and in `avx2.rs`, which must
//! agree on every input; `tests/it/scan.rs` compares them.

use super::SampleWidth;
#[cfg(target_arch = "x86_64")]
use super::avx2;
use super::planes::{GROUP, Plane, SPAN};
use super::portable::{self, repeated};

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
            return avx2::differing(samples, width, word);
        }
        portable::differing(samples, width, word)
    }

    /// How many samples at the start, in whole groups of [`GROUP`], do not differ from `word` in
    /// any bit of `mask`.
    #[inline]
    pub(crate) fn quiet(self, samples: &[u8], width: SampleWidth, word: u64, mask: u64) -> usize {
        let group = GROUP * width.bytes();
        #[cfg(target_arch = "x86_64")]
        if self.avx2 {
            let (wanted, mask) = (repeated(word, width), repeated(mask, width));
            return avx2::quiet_groups(samples, group, wanted, mask) * GROUP;
        }
        let same = |group: &&[u8]| portable::differing(group, width, word) & mask == 0;
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
        let mut count = if self.avx2 { avx2::changes(samples, width, mask, out) } else { 0 };
        #[cfg(not(target_arch = "x86_64"))]
        let mut count = 0;
        for (word, samples_of_word) in samples.chunks(group).enumerate().take(SPAN) {
            let done = self.avx2 && word > 0 && samples_of_word.len() == group;
            if !done {
                let last = if word == 0 { last } else { portable::word_at(samples, width, word * GROUP - 1) };
                out[word] = portable::changes(samples_of_word, width, last, mask);
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
            return avx2::count_changes(plane, before);
        }
        portable::count_changes(plane, before)
    }

    /// For each of `bits`, the plane of that bit: bit `i` of word `w` is what sample `64 w + i` of at
    /// most 2048 has. Bits beyond the width read as zero; bits beyond the samples are left as zero,
    /// words beyond them as they are.
    #[inline]
    pub(crate) fn planes(self, samples: &[u8], width: SampleWidth, bits: &[u32], out: &mut [Plane]) {
        let group = GROUP * width.bytes();
        #[cfg(target_arch = "x86_64")]
        let whole = if self.avx2 { avx2::planes(samples, width, bits, out) } else { 0 };
        #[cfg(not(target_arch = "x86_64"))]
        let whole = 0;
        let rest = samples.get(whole * group..).unwrap_or(&[]);
        for (word, samples) in rest.chunks(group).enumerate().take(SPAN.saturating_sub(whole)) {
            portable::planes(samples, width, bits, whole + word, out);
        }
    }
}
