//! Words of a dump, eight bytes at a time, and its times as ticks.

/// Eight bytes `0`, and eight ones.
pub(super) const ZEROS: u64 = 0x3030_3030_3030_3030;
pub(super) const ONES: u64 = 0x0101_0101_0101_0101;

/// Eight bytes, the first of them lowest, with line feeds beyond the end.
#[inline]
pub(super) fn eight(bytes: &[u8], at: usize) -> u64 {
    let rest = bytes.get(at..).unwrap_or(&[]);
    match rest.first_chunk::<8>() {
        Some(bytes) => u64::from_le_bytes(*bytes),
        None => {
            let mut bytes = [b'\n'; 8];
            bytes[..rest.len()].copy_from_slice(rest);
            u64::from_le_bytes(bytes)
        }
    }
}

/// Where the word that begins here ends.
#[inline]
pub(super) fn word_end(bytes: &[u8], mut at: usize) -> usize {
    loop {
        let len = until_blank(eight(bytes, at));
        at += len;
        if len < 8 {
            return at.min(bytes.len());
        }
    }
}

/// How many of eight bytes stand before the first blank.
#[inline]
pub(super) fn until_blank(bytes: u64) -> usize {
    // A byte below 0x21 borrows; that a later one may seem to is no matter.
    let blank = bytes.wrapping_sub(ONES * 0x21) & !bytes & (ONES * 0x80);
    blank.trailing_zeros() as usize / 8
}

/// How many of eight bytes are digits before one that is not, given their exclusive or with `0`.
#[inline]
fn count_digits(digits: u64) -> usize {
    // Above nine, a byte of this has one of its four highest bits; a carry only reaches later bytes.
    let others = (digits | digits.wrapping_add(ONES * 6)) & (ONES * 0xf0);
    others.trailing_zeros() as usize / 8
}

/// The number that the first of eight digits are, given their exclusive or with `0`; at least one of them.
#[inline]
fn number_of(digits: u64, count: usize) -> u64 {
    let digits = digits << (8 * (8 - count));
    let pairs = (digits & 0x00ff_00ff_00ff_00ff) * 10 + (digits >> 8 & 0x00ff_00ff_00ff_00ff);
    let fours = (pairs & 0x0000_ffff_0000_ffff) * 100 + (pairs >> 16 & 0x0000_ffff_0000_ffff);
    (fours & 0xffff_ffff) * 10_000 + (fours >> 32)
}

/// Powers of ten.
const TENS: [u64; 8] = [1, 10, 100, 1000, 10_000, 100_000, 1_000_000, 10_000_000];

/// A time of up to 15 digits that a blank follows, and how many digits it has.
#[inline]
pub(super) fn time_of(bytes: &[u8], at: usize) -> Option<(u64, usize)> {
    let digits = eight(bytes, at) ^ ZEROS;
    let count = count_digits(digits);
    let (time, count) = match count {
        0 => return None,
        1..8 => (number_of(digits, count), count),
        _ => {
            let more = eight(bytes, at + 8) ^ ZEROS;
            let count = count_digits(more);
            match count {
                0 => (number_of(digits, 8), 8),
                1..8 => (number_of(digits, 8) * TENS[count] + number_of(more, count), 8 + count),
                _ => return None,
            }
        }
    };
    (*bytes.get(at + count)? <= b' ').then_some((time, count))
}

/// From the times of the file to ticks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Ticks {
    /// Units of the file in a tick.
    pub(super) divisor: u64,
    /// 2^64 divided by that, rounded up.
    reciprocal: u64,
}

impl Ticks {
    pub(super) fn new(divisor: u64) -> Self {
        let divisor = divisor.max(1);
        let reciprocal = if divisor == 1 { 0 } else { u64::MAX / divisor + 1 };
        Ticks { divisor, reciprocal }
    }

    /// How many ticks so many units are; `None` where they are no whole number of ticks, or that cannot be
    /// told fast.
    #[inline]
    pub(super) fn whole(self, units: u64) -> Option<u64> {
        if self.divisor == 1 {
            return Some(units);
        }
        // PERF: a product in the place of a quotient, exact below 2^32 by a divisor below 2^31.
        if (units | self.divisor << 1) >> 32 != 0 {
            return None;
        }
        let ticks = ((u128::from(units) * u128::from(self.reciprocal)) >> 64) as u64;
        (ticks * self.divisor == units).then_some(ticks)
    }
}
