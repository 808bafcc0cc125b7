//! Instants on a board.

use deep_tap_core::quantity::{Rational, Time};

/// An instant on a board, in femtoseconds since it was switched on. Covers two and a half hours.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Instant(pub i64);

impl Instant {
    /// A number of picoseconds.
    pub const fn ps(ps: i64) -> Instant {
        Instant(ps.saturating_mul(1_000))
    }

    /// A number of nanoseconds.
    pub const fn ns(ns: i64) -> Instant {
        Instant(ns.saturating_mul(1_000_000))
    }

    /// A number of microseconds.
    pub const fn us(us: i64) -> Instant {
        Instant(us.saturating_mul(1_000_000_000))
    }

    /// The nearest instant so long after switching on; what is negative is at once, and what is too
    /// far for any record is safe to add to.
    pub fn after(time: Time) -> Instant {
        let femto = Rational::power_of_ten(15).and_then(|scale| time.to_rational().checked_mul(scale));
        let whole = femto.map_or(i128::MAX, Rational::round).clamp(0, i128::from(i64::MAX / 4));
        Instant(i64::try_from(whole).unwrap_or(i64::MAX / 4))
    }

    /// The same as an exact time.
    pub fn time(self) -> Time {
        Time::from_rational(
            Rational::new(i128::from(self.0), 1_000_000_000_000_000).unwrap_or(Rational::ZERO),
        )
    }
}

impl std::ops::Add for Instant {
    type Output = Instant;
    fn add(self, other: Instant) -> Instant {
        Instant(self.0.saturating_add(other.0))
    }
}

impl std::ops::Sub for Instant {
    type Output = Instant;
    fn sub(self, other: Instant) -> Instant {
        Instant(self.0.saturating_sub(other.0))
    }
}
