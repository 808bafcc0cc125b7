//! Deciding an interval, exactly.
//!
//! Everything a verdict needs is linear in the number of ticks counted, so a limit becomes a
//! handful of whole numbers once, and each occurrence costs a few integer comparisons.

use serde::Serialize;

use super::quantity::{Quantity, Required};
use crate::error::{Error, ErrorKind, Result};
use crate::time::{Bounds, Interval, Rational, Resolution, Time, TimeBase};

/// What became of a limit, or of one occurrence of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Everything the interval may be is inside the required range.
    Pass,
    /// Everything the interval may be is outside.
    Fail,
    /// Neither: at this sample rate the question has no answer.
    Inconclusive,
    /// The limit's events never occurred.
    NotSeen,
}

impl std::fmt::Display for Verdict {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Verdict::Pass => "pass",
            Verdict::Fail => "FAIL",
            Verdict::Inconclusive => "inconclusive",
            Verdict::NotSeen => "not seen",
        })
    }
}

/// The decision rule.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rule {
    /// Conformity and non-conformity each have to be proven (ISO 14253-1, JCGM 106).
    #[default]
    Proven,
    /// The counted value is taken for the true one, without regard to its uncertainty.
    Measured,
}

impl Required {
    /// The decision about a value of which this is known, in the unit of the ends, a share as a fraction.
    pub fn decide(&self, known: Bounds<Rational>) -> Verdict {
        let (min, max) = (self.min.map(Quantity::to_rational), self.max.map(Quantity::to_rational));
        let under = min.is_some_and(|min| known.hi < min || (known.hi_exclusive && known.hi == min));
        let over = max.is_some_and(|max| known.lo > max || (known.lo_exclusive && known.lo == max));
        if under || over {
            Verdict::Fail
        } else if min.is_none_or(|min| known.lo >= min) && max.is_none_or(|max| known.hi <= max) {
            Verdict::Pass
        } else {
            Verdict::Inconclusive
        }
    }
}

/// A required range as ticks. The fields hold the extreme tick counts of each decision.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Judge {
    /// Passes from here on: the whole interval is not less than the minimum.
    pub(super) pass_from: i64,
    /// Fails up to here: the whole interval is less than the minimum.
    pub(super) fail_to: i64,
    /// Passes up to here: the whole interval is not more than the maximum.
    pub(super) pass_to: i64,
    /// Fails from here on: the whole interval is more than the maximum.
    pub(super) fail_from: i64,
    /// From here on, the end is possibly after the start.
    pub(super) possible_from: i64,
    /// From here on, the end is certainly after the start.
    pub(super) certain_from: i64,
}

impl Judge {
    /// The decisions about intervals that share early ends and inputs with `like`.
    ///
    /// `together` says whether two exact instants that coincide are in order.
    pub(super) fn new(
        required: Required,
        base: TimeBase,
        resolution: &Resolution,
        like: Interval,
        together: bool,
    ) -> Result<Self> {
        Self::try_new(required, base, resolution, like, together).ok_or_else(|| {
            let message =
                format!("the limit {required} cannot be compared exactly at a tick of {}", base.tick());
            Error::new(ErrorKind::Range, message).with_help("write the limit with fewer digits")
        })
    }

    fn try_new(
        required: Required,
        base: TimeBase,
        resolution: &Resolution,
        like: Interval,
        together: bool,
    ) -> Option<Self> {
        let skew = if like.same_input { Rational::ZERO } else { resolution.skew.to_rational() };
        let blur = base.ticks_in(Time::from_rational(skew.checked_add(resolution.extra.to_rational())?))?;
        let error = resolution.accuracy.to_fraction();
        let scale = Scale {
            slower: Rational::ONE.checked_add(error)?,
            faster: Rational::ONE.checked_sub(error).filter(|f| *f > Rational::ZERO)?,
            blur,
            start_early: i128::from(like.start_early),
            end_early: i128::from(like.end_early),
        };
        let mut judge = Judge {
            pass_from: i64::MIN,
            fail_to: i64::MIN,
            pass_to: i64::MAX,
            fail_from: i64::MAX,
            possible_from: 0,
            certain_from: 0,
        };
        if let Some(min) = required.min_time() {
            let min = base.ticks_in(min)?;
            judge.pass_from = clamp(scale.first_with_lo_at_least(min)?);
            judge.fail_to = clamp(scale.last_with_hi_below(min)?);
        }
        if let Some(max) = required.max_time() {
            let max = base.ticks_in(max)?;
            judge.pass_to = clamp(scale.last_with_hi_at_most(max)?);
            judge.fail_from = clamp(scale.first_with_lo_above(max)?);
        }
        // In order: lo >= 0. Possibly in order: not (hi < 0), nor exactly together unless allowed.
        let exact = like.start_early == 0 && like.end_early == 0 && blur.is_zero();
        judge.certain_from =
            clamp(scale.first_with_lo_at_least(Rational::ZERO)?) + i64::from(exact && !together);
        judge.possible_from = if exact {
            judge.certain_from
        } else {
            clamp(scale.last_with_hi_below(Rational::ZERO)?).saturating_add(1)
        };
        if like.same_input {
            // Two edges of one input are always recorded in their order.
            judge.certain_from = 1;
            judge.possible_from = 1;
        }
        Some(judge)
    }

    /// The decision about an interval of this many ticks.
    pub(super) fn decide(&self, ticks: i64) -> Verdict {
        if ticks <= self.fail_to || ticks >= self.fail_from {
            Verdict::Fail
        } else if ticks >= self.pass_from && ticks <= self.pass_to {
            Verdict::Pass
        } else {
            Verdict::Inconclusive
        }
    }
}

fn clamp(ticks: i128) -> i64 {
    // Far outside any record either way, and safe to add to.
    const FAR: i128 = 1 << 62;
    ticks.clamp(-FAR, FAR) as i64
}

/// The bounds of an interval of `n` ticks, in ticks:
/// `lo = (n - end_early) * clock - blur`, `hi = (n + start_early) * clock + blur`,
/// where the clock's error always widens.
struct Scale {
    slower: Rational,
    faster: Rational,
    blur: Rational,
    start_early: i128,
    end_early: i128,
}

impl Scale {
    /// `value`, which `lo` must reach, as whole and exact numbers of counted ticks.
    fn lo_ticks(&self, value: Rational) -> Option<Rational> {
        let value = value.checked_add(self.blur)?;
        value.checked_div(if value.is_negative() { self.slower } else { self.faster })
    }

    fn hi_ticks(&self, value: Rational) -> Option<Rational> {
        let value = value.checked_sub(self.blur)?;
        value.checked_div(if value.is_negative() { self.faster } else { self.slower })
    }

    fn first_with_lo_at_least(&self, value: Rational) -> Option<i128> {
        Some(self.lo_ticks(value)?.ceil() + self.end_early)
    }

    /// `lo` itself is excluded when the end may be early: then reaching the value is enough.
    fn first_with_lo_above(&self, value: Rational) -> Option<i128> {
        let ticks = self.lo_ticks(value)?;
        let first = if self.end_early > 0 { ticks.ceil() } else { ticks.floor() + 1 };
        Some(first + self.end_early)
    }

    fn last_with_hi_at_most(&self, value: Rational) -> Option<i128> {
        Some(self.hi_ticks(value)?.floor() - self.start_early)
    }

    fn last_with_hi_below(&self, value: Rational) -> Option<i128> {
        let ticks = self.hi_ticks(value)?;
        let last = if self.start_early > 0 { ticks.floor() } else { ticks.ceil() - 1 };
        Some(last - self.start_early)
    }
}
