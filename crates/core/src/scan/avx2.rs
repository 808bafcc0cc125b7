//! Bit planes with AVX2: the only place for SIMD.
//!
//! PERF: a plane of 8-bit samples is one shift and one `movemask` per 32 samples. 16-bit samples
//! are parted into their low and high bytes first, so that they cost the same; wider ones use the
//! narrower `movemask` of their own size. `docs/performance.md` has what it gives.
#![allow(unsafe_code, reason = "vector instructions; each use says why it is sound")]

use std::arch::x86_64::{
    __m256i, _mm_cvtsi32_si128, _mm256_and_si256, _mm256_castsi256_pd, _mm256_castsi256_ps,
    _mm256_extract_epi64, _mm256_loadu_si256, _mm256_movemask_epi8, _mm256_movemask_pd, _mm256_movemask_ps,
    _mm256_or_si256, _mm256_packus_epi16, _mm256_permute4x64_epi64, _mm256_set1_epi16, _mm256_set1_epi64x,
    _mm256_setzero_si256, _mm256_sll_epi16, _mm256_sll_epi32, _mm256_sll_epi64, _mm256_srli_epi16,
    _mm256_testz_si256, _mm256_xor_si256,
};

use super::SampleWidth;
use super::planes::{GROUP, Plane, SPAN, folded, repeated};

/// As `Slicer::differing`; the length must be a multiple of 32 bytes.
pub(super) fn differing(samples: &[u8], width: SampleWidth, word: u64) -> u64 {
    debug_assert!(samples.len().is_multiple_of(32));
    // SAFETY: `Slicer` comes here only after it has detected AVX2.
    folded(unsafe { differing_words(samples, repeated(word, width)) }, width)
}

/// As `Slicer::planes`, for the whole groups of 64 samples; how many these are.
pub(super) fn planes(samples: &[u8], width: SampleWidth, bits: &[u32], out: &mut [Plane]) -> usize {
    // SAFETY: `Slicer` comes here only after it has detected AVX2.
    unsafe {
        match width {
            SampleWidth::W8 => planes_8(samples, bits, out),
            SampleWidth::W16 => planes_16(samples, bits, out),
            SampleWidth::W32 => planes_32(samples, bits, out),
            SampleWidth::W64 => planes_64(samples, bits, out),
        }
    }
}

/// How many groups of this many bytes, a multiple of 32, at the start equal `wanted` under `mask`.
pub(super) fn quiet_groups(samples: &[u8], group: usize, wanted: u64, mask: u64) -> usize {
    debug_assert!(group.is_multiple_of(32));
    // SAFETY: `Slicer` comes here only after it has detected AVX2.
    unsafe { quiet_groups_32(samples, group, wanted, mask) }
}

#[target_feature(enable = "avx2")]
fn quiet_groups_32(samples: &[u8], group: usize, wanted: u64, mask: u64) -> usize {
    let (wanted, mask) = (_mm256_set1_epi64x(wanted as i64), _mm256_set1_epi64x(mask as i64));
    let same = |bytes: &&[u8]| {
        let differs = |index| _mm256_xor_si256(load(bytes, index), wanted);
        let all = (0..bytes.len() / 32).fold(_mm256_setzero_si256(), |all, index| {
            _mm256_or_si256(all, differs(index))
        });
        _mm256_testz_si256(all, mask) == 1
    };
    samples.chunks_exact(group).take_while(same).count()
}

/// The 32 bytes at an index counted in 32 bytes.
#[inline]
#[target_feature(enable = "avx2")]
fn load(samples: &[u8], index: usize) -> __m256i {
    let bytes = &samples[index * 32..index * 32 + 32];
    // SAFETY: the slice has 32 bytes, and the load asks for no alignment.
    unsafe { _mm256_loadu_si256(bytes.as_ptr().cast()) }
}

#[target_feature(enable = "avx2")]
fn differing_words(samples: &[u8], wanted: u64) -> u64 {
    let wanted = _mm256_set1_epi64x(wanted as i64);
    let mut all = _mm256_setzero_si256();
    for index in 0..samples.len() / 32 {
        all = _mm256_or_si256(all, _mm256_xor_si256(load(samples, index), wanted));
    }
    let swapped = _mm256_permute4x64_epi64::<0b0100_1110>(all);
    let half = _mm256_or_si256(all, swapped);
    (_mm256_extract_epi64::<0>(half) | _mm256_extract_epi64::<1>(half)) as u64
}

/// Plane `bit` (0 to 7) of 64 bytes.
#[inline]
#[target_feature(enable = "avx2")]
fn byte_plane(low: __m256i, high: __m256i, bit: u32) -> u64 {
    let shift = _mm_cvtsi32_si128(7 - bit as i32);
    let mask = |v| u64::from(_mm256_movemask_epi8(v) as u32);
    mask(_mm256_sll_epi16(low, shift)) | mask(_mm256_sll_epi16(high, shift)) << 32
}

#[target_feature(enable = "avx2")]
fn planes_8(samples: &[u8], bits: &[u32], out: &mut [Plane]) -> usize {
    let groups = samples.chunks_exact(GROUP).take(SPAN);
    let count = groups.len();
    for (at, group) in groups.enumerate() {
        let (low, high) = (load(group, 0), load(group, 1));
        for (bit, plane) in bits.iter().zip(&mut *out) {
            plane[at] = if *bit < 8 { byte_plane(low, high, *bit) } else { 0 };
        }
    }
    count
}

#[target_feature(enable = "avx2")]
fn planes_16(samples: &[u8], bits: &[u32], out: &mut [Plane]) -> usize {
    let byte = _mm256_set1_epi16(0xff);
    // Packing works in halves of 128 bits: the middle quarters change places.
    let pack = |a, b| _mm256_permute4x64_epi64::<0b1101_1000>(_mm256_packus_epi16(a, b));
    let low = |v| _mm256_and_si256(v, byte);
    let high = |v| _mm256_srli_epi16::<8>(v);
    let groups = samples.chunks_exact(GROUP * 2).take(SPAN);
    let count = groups.len();
    for (at, group) in groups.enumerate() {
        let v = [load(group, 0), load(group, 1), load(group, 2), load(group, 3)];
        let lows = (pack(low(v[0]), low(v[1])), pack(low(v[2]), low(v[3])));
        let highs = (pack(high(v[0]), high(v[1])), pack(high(v[2]), high(v[3])));
        for (bit, plane) in bits.iter().zip(&mut *out) {
            plane[at] = match bit {
                0..8 => byte_plane(lows.0, lows.1, *bit),
                8..16 => byte_plane(highs.0, highs.1, *bit - 8),
                _ => 0,
            };
        }
    }
    count
}

#[target_feature(enable = "avx2")]
fn planes_32(samples: &[u8], bits: &[u32], out: &mut [Plane]) -> usize {
    let groups = samples.chunks_exact(GROUP * 4).take(SPAN);
    let count = groups.len();
    for (at, group) in groups.enumerate() {
        for (bit, plane) in bits.iter().zip(&mut *out) {
            let shift = _mm_cvtsi32_si128(31 - (*bit).min(31) as i32);
            let mask = |index| {
                let shifted = _mm256_sll_epi32(load(group, index), shift);
                u64::from(_mm256_movemask_ps(_mm256_castsi256_ps(shifted)) as u32) << (index * 8)
            };
            plane[at] = if *bit < 32 { (0..8).fold(0, |all, index| all | mask(index)) } else { 0 };
        }
    }
    count
}

#[target_feature(enable = "avx2")]
fn planes_64(samples: &[u8], bits: &[u32], out: &mut [Plane]) -> usize {
    let groups = samples.chunks_exact(GROUP * 8).take(SPAN);
    let count = groups.len();
    for (at, group) in groups.enumerate() {
        for (bit, plane) in bits.iter().zip(&mut *out) {
            let shift = _mm_cvtsi32_si128(63 - (*bit).min(63) as i32);
            let mask = |index| {
                let shifted = _mm256_sll_epi64(load(group, index), shift);
                u64::from(_mm256_movemask_pd(_mm256_castsi256_pd(shifted)) as u32) << (index * 4)
            };
            plane[at] = if *bit < 64 { (0..16).fold(0, |all, index| all | mask(index)) } else { 0 };
        }
    }
    count
}
