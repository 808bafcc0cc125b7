//! Checking limits over a whole capture.

use std::ops::ControlFlow;

use rayon::prelude::*;

use super::bound::BoundLimit;
use super::judge::Verdict;
use super::kind::Kind;
use super::occurrence::{Doubt, Measured, Occurrence, Visited};
use super::required::Required;
use super::result::{Counts, Deciding, LimitResult, Reason, Statistics};
use super::walk::{CertainPair, Take};
use crate::capture::Capture;
use crate::error::{ErrorKind, Result};
use crate::known::{Precision, Rule, Span};
use crate::line::Signal;
use crate::quantity::Quantity;
use crate::quantity::{Rate, Rational, Time};

/// Checks one limit over a whole capture. Where a tick is too long for a duration in its events, it is
/// inconclusive ([`Reason::TooSlow`]).
///
/// # Errors
/// When the limit cannot be expressed in exact ticks of this capture, or a bus whose frames it looks at
/// cannot be decoded.
pub fn check(capture: &Capture, limit: &BoundLimit, rule: Rule) -> Result<LimitResult> {
    let Some(settled) = limit.settled(capture) else {
        return Ok(Tally::new(capture, limit.limit.required).result(limit, rule));
    };
    let mut tally = Tally::new(capture, limit.limit.required);
    match settled.walk(capture, rule, &mut tally) {
        Ok(()) => Ok(tally.result(&settled, rule)),
        Err(error) if error.kind() == ErrorKind::TooSlow => {
            let mut result = tally.result(&settled, rule);
            (result.verdict, result.reason) = (Verdict::Inconclusive, Some(Reason::TooSlow));
            result.decided = limit.shortest_duration().and_then(|time| just_above(capture, time));
            Ok(result)
        }
        Err(error) => Err(error),
    }
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
    /// Of intervals, in ticks.
    sum: i128,
    least: i64,
    most: i64,
    /// Of values that are no intervals.
    values: Option<Values>,
    worst: Option<Worst>,
}

struct Worst {
    rank: u8,
    margin: Option<Rational>,
    occurrence: Occurrence,
    /// Another occurrence of this rank and a length in this range is not worse: the margin is least
    /// at one of its ends.
    within: (i64, i64),
}

struct Values {
    sum: f64,
    least: Quantity,
    most: Quantity,
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
        Tally { capture, required, counts: Counts::default(), sum: 0, least, most, values: None, worst: None }
    }

    #[inline]
    fn count(&mut self, verdict: Verdict) {
        self.counts.seen += 1;
        match verdict {
            Verdict::Pass => self.counts.passed += 1,
            Verdict::Fail => self.counts.failed += 1,
            Verdict::Inconclusive | Verdict::NotSeen => self.counts.inconclusive += 1,
        }
    }

    /// Counts an interval; whether it may be the worst so far.
    #[inline]
    fn count_ticks(&mut self, ticks: i64, verdict: Verdict) -> bool {
        self.count(verdict);
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

    /// Counts a value that is no interval.
    fn count_value(&mut self, occurrence: Occurrence) {
        self.count(occurrence.verdict);
        if let Some(value) = occurrence.value(self.capture.base()) {
            let values = self.values.get_or_insert(Values { sum: 0.0, least: value, most: value });
            values.sum += value.to_f64();
            if value.to_rational() < values.least.to_rational() {
                values.least = value;
            }
            if value.to_rational() > values.most.to_rational() {
                values.most = value;
            }
        }
        self.compare(occurrence, 0);
    }

    #[cold]
    fn compare(&mut self, occurrence: Occurrence, ticks: i64) {
        let rank = rank(occurrence.verdict);
        let value = occurrence.value(self.capture.base());
        let margin = value.and_then(|value| self.required.margin(value.to_rational()));
        match &mut self.worst {
            Some(worst) if worst.rank == rank => {
                worst.within = (worst.within.0.min(ticks), worst.within.1.max(ticks));
                if margin < worst.margin {
                    (worst.margin, worst.occurrence) = (margin, occurrence);
                }
            }
            Some(worst) if worst.rank > rank => {}
            worst => *worst = Some(Worst { rank, margin, occurrence, within: (ticks, ticks) }),
        }
    }
}

impl Take for Tally<'_> {
    fn found(&mut self, found: Visited) -> ControlFlow<()> {
        match found {
            Visited::Unpaired(_) => self.counts.unpaired += 1,
            Visited::Occurrence(occurrence) => match occurrence.measured.ticks() {
                Some(ticks) => {
                    if self.count_ticks(ticks, occurrence.verdict) {
                        self.compare(occurrence, ticks);
                    }
                }
                None => self.count_value(occurrence),
            },
        }
        ControlFlow::Continue(())
    }

    #[inline]
    fn certain(&mut self, certain: CertainPair) -> ControlFlow<()> {
        if self.count_ticks(certain.ticks(), certain.verdict) {
            self.compare(certain.occurrence(), certain.ticks());
        }
        ControlFlow::Continue(())
    }
}

impl Tally<'_> {
    fn result(self, bound: &BoundLimit, rule: Rule) -> LimitResult {
        let capture = self.capture;
        let base = capture.base();
        let limit = &bound.limit;
        let margin = self.worst.as_ref().and_then(|worst| worst.margin);
        let worst = self.worst.map(|worst| worst.occurrence);
        let mut verdict = worst.map_or(Verdict::NotSeen, |w| w.verdict);
        let mut reason = worst.and_then(|w| w.doubt).map(Reason::Occurrence);
        // A pulse shorter than a tick can be missed: passing all that were seen proves nothing.
        let hides =
            capture.resolution().sampled && limit.required.min_time().is_some_and(|min| min <= base.tick());
        if limit.kind() == Kind::Width && hides && verdict == Verdict::Pass && rule == Rule::Proven {
            verdict = Verdict::Inconclusive;
            reason = Some(Reason::HiddenPulses);
        }
        // What is found of such events is neither all that happened nor certain.
        let precision = Precision::of(capture, rule);
        if bound.is_composite() && !precision.is_exact() && worst.is_some() {
            verdict = Verdict::Inconclusive;
            reason = Some(Reason::Composite);
        }
        let span = bound.span_within(&precision);
        let bounds = worst.and_then(|w| w.bounds(&span));
        let measured = worst.and_then(|w| w.value(base));
        let statistics = match self.values {
            Some(Values { sum, least, most }) => {
                Some(Statistics { min: least, mean: sum / self.counts.seen as f64, max: most })
            }
            None if self.counts.seen > 0 => Some(Statistics {
                min: base.length_of(self.least).into(),
                mean: self.sum as f64 / self.counts.seen as f64 * base.tick().to_f64(),
                max: base.length_of(self.most).into(),
            }),
            None => None,
        };
        let decided = match (verdict, reason, worst) {
            (Verdict::Inconclusive, Some(Reason::HiddenPulses), _) => {
                limit.required.min_time().and_then(|min| just_above(capture, min))
            }
            (Verdict::Inconclusive, Some(Reason::Occurrence(doubt)), Some(worst)) => {
                deciding(capture, &span, limit.required, &worst, doubt)
            }
            _ => None,
        };
        // What the rate of the analog lines leaves open is not decided by that of the others.
        let is_digital = |signal: &Signal| {
            let line = signal.line().and_then(|line| capture.lines().get(line.0));
            line.is_some_and(|line| line.extra == Time::ZERO)
        };
        let decided = decided.filter(|_| bound.signals().iter().all(is_digital));
        LimitResult {
            reference: bound.reference.clone(),
            part: bound.part.clone(),
            symbol: limit.symbol.clone(),
            what: limit.what.clone(),
            kind: limit.kind(),
            group: limit.group.clone(),
            unit: limit.kind().unit(),
            required: limit.required,
            typical: limit.typical,
            verdict,
            reason,
            worst,
            tick: base.tick(),
            bounds,
            at: worst.map(|w| base.time_of(w.start)),
            measured,
            margin: margin.map(|margin| limit.kind().unit().of(margin)),
            counts: self.counts,
            statistics,
            decided,
        }
    }
}

/// The rate whose tick is `1 / (distance to the limit - skew)`, rounded up to one that exists.
fn deciding(
    capture: &Capture,
    span: &Span,
    required: Required,
    worst: &Occurrence,
    doubt: Doubt,
) -> Option<Deciding> {
    let base = capture.base();
    if doubt == Doubt::Unknown || !capture.resolution().sampled {
        return None;
    }
    let distance = || Some(required.margin(worst.value(base)?.to_rational())?.abs());
    let times =
        |share: Rational, length: Time| share.checked_mul(length.to_rational()).map(Time::from_rational);
    // The time by which an edge must be known: what a tick may be, at the most.
    let tick = match worst.measured {
        Measured::Interval { ticks, .. } => {
            // To know the order, a tick must fit into the interval itself; half a tick is its best guess.
            let off = match doubt {
                Doubt::Resolution => distance()?,
                Doubt::Order | Doubt::Unknown => base.tick().to_rational().checked_div(Rational::from(2))?,
            };
            span.tick_within(Time::from_rational(off), base.length_of(ticks))?
        }
        // A tick changes a share by its own share of the period, whose error of the time base cancels.
        Measured::Share { period, .. } if doubt == Doubt::Resolution => {
            span.tick_within_share(times(distance()?, base.length_of(period))?)?
        }
        Measured::Bits { ticks, .. } if doubt == Doubt::Resolution => {
            let took = base.length_of(ticks);
            span.tick_within(times(distance()?, took)?, took)?
        }
        Measured::Share { .. } | Measured::Bits { .. } | Measured::Voltage { .. } => return None,
    };
    if tick <= Time::ZERO {
        return Some(Deciding::Never);
    }
    Some(rounded_up(capture, tick.to_rational().recip()?))
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
