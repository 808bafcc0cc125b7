//! Slicing in plain code, which is also what AVX2 must agree with.

use super::SampleWidth;
use super::planes::{GROUP, Plane};

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

pub(super) fn differing(samples: &[u8], width: SampleWidth, word: u64) -> u64 {
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
pub(super) fn word_at(samples: &[u8], width: SampleWidth, number: usize) -> u64 {
    super::Samples::new(width, samples).get(number).0
}

/// The word of changes of up to 64 samples; `last` comes before them.
pub(super) fn changes(samples: &[u8], width: SampleWidth, last: u64, mask: u64) -> u64 {
    let (mut changes, mut last) = (0, repeated(last, width));
    for number in 0..samples.len() / width.bytes() {
        let word = repeated(word_at(samples, width, number), width);
        changes |= u64::from((word ^ last) & mask != 0) << number;
        last = word;
    }
    changes
}

pub(super) fn planes(samples: &[u8], width: SampleWidth, bits: &[u32], at: usize, out: &mut [Plane]) {
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
