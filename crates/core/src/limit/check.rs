//! The result of a limit over a whole capture.

use std::ops::ControlFlow;

use rayon::prelude::*;
use serde::Serialize;

use super::judge::{Rule, Verdict};
use super::occurrence::{CertainPair, Doubt, Found, Occurrence, Take};
use super::part::{BoundLimit, Kind, Required};
use crate::capture::Capture;
use crate::error::Result;
use crate::line::LineId;
use crate::time::{Bounds, Interval, Rate, Rational, Resolution, Time};

/// How many occurrences ended how.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Counts {
    /// Occurrences in all.
    pub seen: u64,
    /// Of these, passed.
    pub passed: u64,
    /// Of these, failed.
    pub failed: u64,
    /// Of these, inconclusive.
    pub inconclusive: u64,
    /// Starting events that found no partner, and pulses cut off by an end of the record.
    pub unpaired: u64,
}

/// The measured values of all occurrences.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Statistics {
    /// The smallest.
    pub min: Time,
    /// The mean, rounded.
    pub mean: f64,
    /// The largest.
    pub max: Time,
}

/// At which sample rate an inconclusive measurement would be decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Deciding {
    /// At this rate, the lowest sufficient one that the instrument has (or, where its rates are
    /// not known, the exact one).
    Rate(Rate),
    /// At this rate, which is above the instrument's fastest.
    Beyond {
        /// The rate that would be needed.
        needed: Rate,
        /// The fastest that the instrument has.
        fastest: Rate,
    },
    /// At no rate: the measured value is on the limit, within the skew and time-base error.
    Never,
}

/// Why a limit as a whole is inconclusive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// The worst occurrence is in doubt.
    Occurrence(Doubt),
    /// All pulses seen pass, but shorter ones than a tick may have been missed, and the limit
    /// forbids them.
    HiddenPulses,
    /// Its events are of several parts, or frames of a bus: a sampled record may hide some of them, and
    /// show some that did not happen.
    Composite,
}

/// The verdict on one limit, with everything needed to believe it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct LimitResult {
    /// The part's reference on the board.
    pub reference: String,
    /// The part number.
    pub part: String,
    /// The datasheet's symbol.
    pub symbol: String,
    /// The datasheet's words.
    pub what: String,
    /// What one occurrence is.
    pub kind: Kind,
    /// The required range.
    pub required: Required,
    /// The verdict: the worst over all occurrences.
    pub verdict: Verdict,
    /// Why it is inconclusive, if it is.
    pub reason: Option<Reason>,
    /// The worst occurrence: of those with the worst verdict, the one with the least margin.
    pub worst: Option<Occurrence>,
    /// What is known of the worst occurrence's true interval.
    pub bounds: Option<Bounds>,
    /// When the worst occurrence begins.
    pub at: Option<Time>,
    /// The worst occurrence's interval as counted.
    pub measured: Option<Time>,
    /// The worst occurrence's distance to the limit, negative when violated.
    pub margin: Option<Time>,
    /// How many occurrences ended how.
    pub counts: Counts,
    /// The values of all occurrences.
    pub statistics: Option<Statistics>,
    /// For an inconclusive result, the rate that would decide it.
    pub decided: Option<Deciding>,
}

/// Checks one limit over a whole capture.
///
/// # Errors
/// When the limit cannot be expressed in exact ticks of this capture, or a bus whose frames it looks at
/// cannot be decoded.
pub fn check(capture: &Capture, limit: &BoundLimit, rule: Rule) -> Result<LimitResult> {
    limit.check_frames(capture.base())?;
    let blurred = limit.blurred(capture);
    let capture = blurred.as_ref().unwrap_or(capture);
    let mut tally = Tally::new(capture, limit.limit.required);
    limit.walk(capture, rule, &mut tally)?;
    Ok(tally.result(limit, rule))
}

/// Checks several limits over a whole capture, on all cores; the results are in their order.
///
/// # Errors
/// As [`check`], for the first limit that cannot be checked.
pub fn check_all<'a>(
    capture: &Capture,
    limits: impl IntoIterator<Item = &'a BoundLimit>,
    rule: Rule,
) -> Result<Vec<LimitResult>> {
    let limits: Vec<&BoundLimit> = limits.into_iter().collect();
    limits.into_par_iter().with_max_len(1).map(|limit| check(capture, limit, rule)).collect()
}

/// The verdict over several: one fail is a fail, otherwise one inconclusive is inconclusive,
/// otherwise one not seen is not seen, otherwise pass. With none at all, not seen.
pub fn overall(verdicts: impl IntoIterator<Item = Verdict>) -> Verdict {
    let rank = |v: &Verdict| match v {
        Verdict::Fail => 3,
        Verdict::Inconclusive => 2,
        Verdict::NotSeen => 1,
        Verdict::Pass => 0,
    };
    verdicts.into_iter().max_by_key(rank).unwrap_or(Verdict::NotSeen)
}

/// Counts and the worst of all occurrences.
struct Tally<'a> {
    capture: &'a Capture,
    required: Required,
    counts: Counts,
    sum: i128,
    least: i64,
    most: i64,
    worst: Option<Worst>,
}

struct Worst {
    rank: u8,
    margin: Time,
    occurrence: Occurrence,
    /// Another occurrence of this rank and a length in this range is not worse: the margin is least
    /// at one of its ends.
    within: (i64, i64),
}

/// Distance of a measured value to the nearer end of the required range, negative outside.
fn margin(required: Required, measured: Time) -> Time {
    let measured = measured.to_rational();
    let below = required.min.and_then(|min| measured.checked_sub(min.to_rational()));
    let above = required.max.and_then(|max| max.to_rational().checked_sub(measured));
    let least = below.into_iter().chain(above).min();
    Time::from_rational(least.unwrap_or(Rational::ZERO))
}

/// How bad a verdict is.
fn rank(verdict: Verdict) -> u8 {
    match verdict {
        Verdict::Fail => 2,
        Verdict::Inconclusive => 1,
        Verdict::Pass | Verdict::NotSeen => 0,
    }
}

impl<'a> Tally<'a> {
    fn new(capture: &'a Capture, required: Required) -> Self {
        let (least, most) = (i64::MAX, i64::MIN);
        Tally { capture, required, counts: Counts::default(), sum: 0, least, most, worst: None }
    }

    /// Counts an occurrence; whether it may be the worst so far.
    #[inline]
    fn count(&mut self, ticks: i64, verdict: Verdict) -> bool {
        self.counts.seen += 1;
        match verdict {
            Verdict::Pass => self.counts.passed += 1,
            Verdict::Fail => self.counts.failed += 1,
            Verdict::Inconclusive | Verdict::NotSeen => self.counts.inconclusive += 1,
        }
        self.sum += i128::from(ticks);
        (self.least, self.most) = (self.least.min(ticks), self.most.max(ticks));
        match &self.worst {
            None => true,
            Some(worst) => {
                let rank = rank(verdict);
                rank > worst.rank
                    || (rank == worst.rank && !(worst.within.0..=worst.within.1).contains(&ticks))
            }
        }
    }

    #[cold]
    fn compare(&mut self, occurrence: Occurrence) {
        let (rank, ticks) = (rank(occurrence.verdict), occurrence.interval.ticks);
        let margin = margin(self.required, self.capture.base().length_of(ticks));
        match &mut self.worst {
            Some(worst) if worst.rank == rank => {
                worst.within = (worst.within.0.min(ticks), worst.within.1.max(ticks));
                if margin < worst.margin {
                    (worst.margin, worst.occurrence) = (margin, occurrence);
                }
            }
            worst => *worst = Some(Worst { rank, margin, occurrence, within: (ticks, ticks) }),
        }
    }
}

impl Take for Tally<'_> {
    fn found(&mut self, found: Found) -> ControlFlow<()> {
        match found {
            Found::Unpaired(_) => self.counts.unpaired += 1,
            Found::Occurrence(occurrence) => {
                if self.count(occurrence.interval.ticks, occurrence.verdict) {
                    self.compare(occurrence);
                }
            }
        }
        ControlFlow::Continue(())
    }

    #[inline]
    fn certain(&mut self, certain: CertainPair, like: Interval) -> ControlFlow<()> {
        if self.count(certain.ticks(), certain.verdict) {
            self.compare(certain.occurrence(like));
        }
        ControlFlow::Continue(())
    }
}

impl Tally<'_> {
    fn result(self, bound: &BoundLimit, rule: Rule) -> LimitResult {
        let capture = self.capture;
        let base = capture.base();
        let limit = &bound.limit;
        let worst = self.worst.map(|worst| worst.occurrence);
        let mut verdict = worst.map_or(Verdict::NotSeen, |w| w.verdict);
        let mut reason = worst.and_then(|w| w.doubt).map(Reason::Occurrence);
        // A pulse shorter than a tick can be missed: passing all that were seen proves nothing.
        let hides = capture.resolution().sampled && limit.required.min.is_some_and(|min| min <= base.tick());
        if limit.kind == Kind::Width && hides && verdict == Verdict::Pass && rule == Rule::Proven {
            verdict = Verdict::Inconclusive;
            reason = Some(Reason::HiddenPulses);
        }
        // What is found of such events is neither all that happened nor certain.
        if bound.is_composite() && !capture.resolution().is_exact() && worst.is_some() && rule == Rule::Proven
        {
            verdict = Verdict::Inconclusive;
            reason = Some(Reason::Composite);
        }
        let resolution = match rule {
            Rule::Proven => *capture.resolution(),
            Rule::Measured => Resolution::EXACT,
        };
        let bounds = worst.and_then(|w| w.bounds(base, &resolution));
        let measured = worst.map(|w| base.length_of(w.interval.ticks));
        let statistics = (self.counts.seen > 0).then(|| Statistics {
            min: base.length_of(self.least),
            mean: self.sum as f64 / self.counts.seen as f64 * base.tick().to_f64(),
            max: base.length_of(self.most),
        });
        let decided = match (verdict, reason, worst) {
            (Verdict::Inconclusive, Some(Reason::HiddenPulses), _) => {
                limit.required.min.and_then(|min| just_above(capture, min))
            }
            (Verdict::Inconclusive, Some(Reason::Occurrence(doubt)), Some(worst)) => {
                deciding(capture, limit.required, &worst, doubt)
            }
            _ => None,
        };
        // What the rate of the analog lines leaves open is not decided by that of the others.
        let known = |line: &LineId| capture.lines().get(line.0).is_some_and(|line| line.extra == Time::ZERO);
        let decided = decided.filter(|_| bound.lines().iter().all(known));
        LimitResult {
            reference: bound.reference.clone(),
            part: bound.part.clone(),
            symbol: limit.symbol.clone(),
            what: limit.what.clone(),
            kind: limit.kind,
            required: limit.required,
            verdict,
            reason,
            worst,
            bounds,
            at: worst.map(|w| base.time_of(w.start)),
            measured,
            margin: measured.map(|m| margin(limit.required, m)),
            counts: self.counts,
            statistics,
            decided,
        }
    }
}

/// The rate whose tick is `1 / (distance to the limit - skew)`, rounded up to one that exists.
fn deciding(capture: &Capture, required: Required, worst: &Occurrence, doubt: Doubt) -> Option<Deciding> {
    let resolution = capture.resolution();
    let base = capture.base();
    if doubt == Doubt::Unknown || !resolution.sampled {
        return None;
    }
    let measured = base.length_of(worst.interval.ticks).to_rational();
    let distance = match doubt {
        Doubt::Resolution => margin(required, Time::from_rational(measured)).to_rational().abs(),
        // To know the order, a tick must fit into the interval itself; half a tick is its best guess.
        _ => base.tick().to_rational().checked_div(Rational::from(2))?,
    };
    let skew = if worst.interval.same_input { Rational::ZERO } else { resolution.skew.to_rational() };
    let clock = measured.abs().checked_mul(resolution.accuracy.to_fraction())?;
    let tick = distance.checked_sub(skew)?.checked_sub(clock)?.checked_sub(resolution.extra.to_rational())?;
    if tick <= Rational::ZERO {
        return Some(Deciding::Never);
    }
    Some(rounded_up(capture, tick.recip()?))
}

/// The lowest rate whose tick is shorter than a time.
fn just_above(capture: &Capture, time: Time) -> Option<Deciding> {
    let needed = time.to_rational().recip()?;
    let rates = &capture.origin().rates;
    match rates.iter().find(|r| r.to_rational() > needed) {
        Some(rate) => Some(Deciding::Rate(*rate)),
        None => Some(rounded_up(capture, needed)),
    }
}

fn rounded_up(capture: &Capture, needed: Rational) -> Deciding {
    let rates = &capture.origin().rates;
    let needed = Rate::from_rational(needed);
    match (rates.iter().find(|r| **r >= needed && **r > capture.base().rate()), rates.last()) {
        (Some(rate), _) => Deciding::Rate(*rate),
        (None, Some(fastest)) => Deciding::Beyond { needed, fastest: *fastest },
        (None, None) => Deciding::Rate(needed),
    }
}
