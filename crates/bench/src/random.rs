//! Repeatable random numbers.

/// A small generator of repeatable random numbers (SplitMix64).
#[derive(Clone, Debug)]
pub struct Random(u64);

impl Random {
    /// The same seed gives the same numbers.
    pub fn new(seed: u64) -> Self {
        Random(seed)
    }

    /// A generator of its own for a part of the whole, so that parts do not disturb each other.
    #[must_use]
    pub fn split(&self, part: u64) -> Random {
        let mut mixed = Random(self.0 ^ part.wrapping_mul(0xd1b5_4a32_d192_ed03));
        mixed.bits();
        mixed
    }

    /// 64 random bits.
    pub fn bits(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number from 0 to `end`, exclusive; 0 when `end` is 0.
    pub fn below(&mut self, end: u64) -> u64 {
        ((u128::from(self.bits()) * u128::from(end)) >> 64) as u64
    }

    /// A number from `low` to `high`, both included.
    pub fn between(&mut self, low: i64, high: i64) -> i64 {
        let span = high.abs_diff(low).saturating_add(1);
        low.min(high).wrapping_add_unsigned(self.below(span))
    }
}
