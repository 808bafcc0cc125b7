//! Bit planes with AVX2: the only place for SIMD.
//!
//! PERF: a plane of 8-bit samples is one shift and one `movemask` per 32 samples. Samples of 16 and
//! 32 bits are parted into their bytes first, and only those that hold a wanted bit, so that they
//! cost little more; taking each plane straight from 32-bit samples was slower. 64-bit ones, seldom
//! met, use the `movemask` of their own size. `docs/performance.md` has what it gives.
#![allow(unsafe_code, reason = "vector instructions; each use says why it is sound")]

use std::arch::x86_64::{
    __m256i, _MM_HINT_T0, _mm_cvtsi32_si128, _mm_prefetch, _mm256_and_si256, _mm256_castsi256_pd,
    _mm256_castsi256_ps, _mm256_cmpeq_epi8, _mm256_cmpeq_epi16, _mm256_cmpeq_epi32, _mm256_cmpeq_epi64,
    _mm256_extract_epi64, _mm256_loadu_si256, _mm256_movemask_epi8, _mm256_movemask_pd, _mm256_movemask_ps,
    _mm256_or_si256, _mm256_packs_epi16, _mm256_packus_epi16, _mm256_packus_epi32, _mm256_permute4x64_epi64,
    _mm256_set1_epi16, _mm256_set1_epi32, _mm256_set1_epi64x, _mm256_setzero_si256, _mm256_sll_epi16,
    _mm256_sll_epi64, _mm256_srl_epi16, _mm256_srl_epi32, _mm256_testz_si256, _mm256_xor_si256,
};

use super::SampleWidth;
use super::planes::{GROUP, Plane, SPAN};
use super::portable::{folded, repeated};

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
            SampleWidth::W8 => planes_by_bytes::<1>(samples, bits, out),
            SampleWidth::W16 => planes_by_bytes::<2>(samples, bits, out),
            SampleWidth::W32 => planes_by_bytes::<4>(samples, bits, out),
            SampleWidth::W64 => planes_64(samples, bits, out),
        }
    }
}

/// As `Slicer::count_changes`.
pub(super) fn count_changes(plane: &[u64], before: bool) -> u64 {
    // SAFETY: every processor with AVX2 has the instruction that counts bits, and `Slicer` comes
    // here only after it has detected AVX2.
    unsafe { count_changes_popcnt(plane, before) }
}

#[target_feature(enable = "avx2,popcnt")]
fn count_changes_popcnt(plane: &[u64], before: bool) -> u64 {
    super::portable::count_changes(plane, before)
}

/// As `Slicer::changes`, for the whole groups but the first, which has nothing before it here.
pub(super) fn changes(samples: &[u8], width: SampleWidth, mask: u64, out: &mut Plane) -> u32 {
    // SAFETY: `Slicer` comes here only after it has detected AVX2, and every processor with AVX2
    // has the instruction that counts bits.
    unsafe {
        match width {
            SampleWidth::W8 => changes_of::<1>(samples, mask, out),
            SampleWidth::W16 => changes_of::<2>(samples, mask, out),
            SampleWidth::W32 => changes_of::<4>(samples, mask, out),
            SampleWidth::W64 => changes_of::<8>(samples, mask, out),
        }
    }
}

#[target_feature(enable = "avx2,popcnt")]
fn changes_of<const WIDTH: usize>(samples: &[u8], mask: u64, out: &mut Plane) -> u32 {
    let (mask, zero) = (_mm256_set1_epi64x(mask as i64), _mm256_setzero_si256());
    let mut count = 0;
    let groups = (samples.len() / (GROUP * WIDTH)).min(SPAN);
    for (number, out) in out.iter_mut().enumerate().take(groups).skip(1) {
        let start = number * GROUP * WIDTH;
        let (here, before) = (&samples[start..], &samples[start - WIDTH..]);
        let differ = |index| {
            let changed = _mm256_xor_si256(load(here, index), load(before, index));
            _mm256_and_si256(changed, mask)
        };
        let steady = match WIDTH {
            1 => {
                let steady = |index| {
                    let equal = _mm256_cmpeq_epi8(differ(index), zero);
                    u64::from(_mm256_movemask_epi8(equal) as u32) << (index * 32)
                };
                steady(0) | steady(1)
            }
            2 => {
                let steady = |index| {
                    let equal = |index| _mm256_cmpeq_epi16(differ(index), zero);
                    let packed = _mm256_packs_epi16(equal(index), equal(index + 1));
                    let packed = _mm256_permute4x64_epi64::<0b1101_1000>(packed);
                    u64::from(_mm256_movemask_epi8(packed) as u32) << (index * 16)
                };
                steady(0) | steady(2)
            }
            4 => (0..8).fold(0, |all, index| {
                let equal = _mm256_castsi256_ps(_mm256_cmpeq_epi32(differ(index), zero));
                all | u64::from(_mm256_movemask_ps(equal) as u32) << (index * 8)
            }),
            _ => (0..16).fold(0, |all, index| {
                let equal = _mm256_castsi256_pd(_mm256_cmpeq_epi64(differ(index), zero));
                all | u64::from(_mm256_movemask_pd(equal) as u32) << (index * 4)
            }),
        };
        *out = !steady;
        count += out.count_ones();
    }
    count
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
        let all = (0..bytes.len() / 32)
            .fold(_mm256_setzero_si256(), |all, index| _mm256_or_si256(all, differs(index)));
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

/// Fetches a share of what the next call will look at, while this one works.
///
/// PERF: without it, slicing samples that change all the time waits for memory two thirds of
/// its time: the work in between keeps the processor from reading ahead. All at once at the start
/// it would wait, too: only a dozen lines can be on their way. So each plane fetches its share.
#[inline]
#[target_feature(enable = "avx2")]
fn fetch_ahead(samples: &[u8], share: usize, shares: usize) {
    let lines = samples.len() / 64;
    for line in lines * share / shares..lines * (share + 1) / shares {
        let ahead = samples.as_ptr().wrapping_add(samples.len() + line * 64);
        // A prefetch is only a hint: it reads nothing and cannot fault, wherever it points.
        _mm_prefetch::<_MM_HINT_T0>(ahead.cast());
    }
}

/// Bit `bit` (0 to 7) of 64 bytes for each group.
#[inline]
#[target_feature(enable = "avx2")]
fn byte_plane(groups: &[[__m256i; 2]], bit: u32, plane: &mut Plane) {
    let shift = _mm_cvtsi32_si128(7 - bit as i32);
    let mask = |v| u64::from(_mm256_movemask_epi8(_mm256_sll_epi16(v, shift)) as u32);
    for ([low, high], word) in groups.iter().zip(plane) {
        *word = mask(*low) | mask(*high) << 32;
    }
}

/// Packs the bytes of two vectors of 16-bit numbers below 256. Packing works in halves of 128
/// bits: the middle quarters change places.
#[inline]
#[target_feature(enable = "avx2")]
fn pack_16(a: __m256i, b: __m256i) -> __m256i {
    _mm256_permute4x64_epi64::<0b1101_1000>(_mm256_packus_epi16(a, b))
}

/// Byte `place` of 64 samples of 16 bits.
#[inline]
#[target_feature(enable = "avx2")]
fn bytes_of_16(group: &[u8], place: u32) -> [__m256i; 2] {
    let (byte, shift) = (_mm256_set1_epi16(0xff), _mm_cvtsi32_si128(8 * place as i32));
    let one = |index| _mm256_and_si256(_mm256_srl_epi16(load(group, index), shift), byte);
    [pack_16(one(0), one(1)), pack_16(one(2), one(3))]
}

/// Byte `place` of 64 samples of 32 bits.
#[inline]
#[target_feature(enable = "avx2")]
fn bytes_of_32(group: &[u8], place: u32) -> [__m256i; 2] {
    let (byte, shift) = (_mm256_set1_epi32(0xff), _mm_cvtsi32_si128(8 * place as i32));
    let one = |index| _mm256_and_si256(_mm256_srl_epi32(load(group, index), shift), byte);
    let two = |index| {
        let packed = _mm256_packus_epi32(one(index), one(index + 1));
        _mm256_permute4x64_epi64::<0b1101_1000>(packed)
    };
    [pack_16(two(0), two(2)), pack_16(two(4), two(6))]
}

/// The planes of samples that are parted into their bytes first.
#[inline]
#[target_feature(enable = "avx2")]
fn planes_by_bytes<const WIDTH: usize>(samples: &[u8], bits: &[u32], out: &mut [Plane]) -> usize {
    let count = samples.chunks_exact(GROUP * WIDTH).len().min(SPAN);
    let mut bytes = [[_mm256_setzero_si256(); 2]; SPAN];
    for place in 0..WIDTH as u32 {
        let inside = |bit: &u32| bit / 8 == place;
        if !bits.iter().any(inside) {
            continue;
        }
        for (bytes, group) in bytes.iter_mut().zip(samples.chunks_exact(GROUP * WIDTH)) {
            *bytes = match WIDTH {
                1 => [load(group, 0), load(group, 1)],
                2 => bytes_of_16(group, place),
                _ => bytes_of_32(group, place),
            };
        }
        for (share, (bit, plane)) in bits.iter().zip(&mut *out).enumerate() {
            if inside(bit) {
                fetch_ahead(samples, share, bits.len());
                byte_plane(&bytes[..count], bit % 8, plane);
            }
        }
    }
    for (bit, plane) in bits.iter().zip(out) {
        if *bit >= 8 * WIDTH as u32 {
            plane[..count].fill(0);
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
