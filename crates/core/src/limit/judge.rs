//! Deciding an interval, exactly.
//!
//! Everything a verdict needs is linear in the number of ticks counted, so a limit becomes a
//! handful of whole numbers once, and each occurrence costs a few integer comparisons.

use serde::Serialize;

use super::required::Required;
use crate::error::{Error, ErrorKind, Result};
use crate::known::{BEYOND, Span};
use crate::quantity::Quantity;
use crate::quantity::{Bounds, Rational};

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

impl Required {
    /// The decision about a value of which this is known, in the unit of the ends, a share as a fraction.
    pub fn decide(&self, known: Bounds<Rational>) -> Verdict {
        let (min, max) = (self.min.map(Quantity::to_rational), self.max.map(Quantity::to_rational));
        let below = |hi: Rational, min| hi < min || (known.hi_exclusive && hi == min);
        let under = min.zip(known.hi).is_some_and(|(min, hi)| below(hi, min));
        let over = max.is_some_and(|max| known.lo > max || (known.lo_exclusive && known.lo == max));
        if under || over {
            Verdict::Fail
        } else if min.is_none_or(|min| known.lo >= min)
            && max.is_none_or(|max| known.hi.is_some_and(|hi| hi <= max))
        {
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
}

impl Judge {
    /// The decisions about intervals that are known like this.
    pub(super) fn new(required: Required, span: &Span) -> Result<Self> {
        Self::try_new(required, span).ok_or_else(|| not_exact(required, span))
    }

    fn try_new(required: Required, span: &Span) -> Option<Self> {
        let mut judge =
            Judge { pass_from: i64::MIN, fail_to: i64::MIN, pass_to: i64::MAX, fail_from: i64::MAX };
        if let Some(min) = required.min_time() {
            judge.pass_from = span.first_certainly_at_least(min)?;
            judge.fail_to = span.last_certainly_below(min)?;
        }
        if let Some(max) = required.max_time() {
            judge.pass_to = span.last_certainly_at_most(max)?;
            judge.fail_from = span.first_certainly_above(max)?;
        }
        Some(judge)
    }

    /// Whether any number of ticks fails.
    pub(super) fn can_fail(&self) -> bool {
        self.fail_to >= 0 || self.fail_from < BEYOND
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

fn not_exact(required: Required, span: &Span) -> Error {
    let tick = span.base().tick();
    let message = format!("the limit {required} cannot be compared exactly at a tick of {tick}");
    Error::new(ErrorKind::Range, message).with_help("write the limit with fewer digits")
}

/// A range around a reference that must be clear, as ticks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Clearance {
    /// Passes up to here: certainly not after the beginning of the range.
    pub(super) before: i64,
    /// Fails from here on: certainly after the beginning, and
    pub(super) inside_from: i64,
    /// up to here: certainly before the end.
    pub(super) inside_to: i64,
    /// Passes from here on: certainly not before the end.
    pub(super) after: i64,
}

impl Clearance {
    /// The decisions about changes whose distances are known like this.
    pub(super) fn new(required: Required, span: &Span) -> Result<Self> {
        Self::try_new(required, span).ok_or_else(|| not_exact(required, span))
    }

    fn try_new(required: Required, span: &Span) -> Option<Self> {
        let (min, max) = required.min_time().zip(required.max_time())?;
        Some(Clearance {
            before: span.last_certainly_at_most(min)?,
            inside_from: span.first_certainly_above(min)?,
            inside_to: span.last_certainly_below(max)?,
            after: span.first_certainly_at_least(max)?,
        })
    }

    /// The decision about a change this many ticks after the reference.
    pub(super) fn decide(&self, ticks: i64) -> Verdict {
        if (self.inside_from..=self.inside_to).contains(&ticks) {
            Verdict::Fail
        } else if ticks <= self.before || ticks >= self.after {
            Verdict::Pass
        } else {
            Verdict::Inconclusive
        }
    }

    /// Whether any change would be a violation for certain.
    pub(super) fn can_fail(&self) -> bool {
        self.inside_from <= self.inside_to
    }
}
