//! What all occurrences of a limit come to.

use super::bound::BoundLimit;
use super::hidden::{Hides, asks_for_granted};
use super::judge::Verdict;
use super::occurrence::{Doubt, Measured, Occurrence, Visited};
use super::required::Required;
use super::result::{Counts, LimitResult, Reason, Statistics};
use super::worth_trying::just_above;
use crate::capture::Capture;
use crate::known::{Precision, Rule, Span};
use crate::line::Signal;
use crate::quantity::{Quantity, Rational, Time};
use crate::time::TimeBase;

/// Counts and the worst of all occurrences, as one plan decides them.
#[derive(Clone, Debug)]
pub(super) struct Tally {
    base: TimeBase,
    required: Required,
    counts: Counts,
    /// Of intervals, in ticks.
    sum: i128,
    least: i64,
    most: i64,
    /// Of values that are no intervals.
    values: Option<Values>,
    worst: Option<Worst>,
    /// The first that is not certain and meets the limit, and the how manieth it was.
    passing_possible: Option<(u64, Occurrence)>,
    /// How many waits nothing answered that counts, and the most ticks of one.
    waits: u64,
    waited: i64,
}

#[derive(Clone, Debug)]
struct Worst {
    rank: u8,
    /// The how manieth it was: of equally bad ones, the first counts.
    nth: u64,
    margin: Option<Rational>,
    occurrence: Occurrence,
    /// Another occurrence of this rank and a length in this range is not worse: the margin is least
    /// at one of its ends.
    within: (i64, i64),
}

#[derive(Clone, Debug)]
struct Values {
    count: u64,
    sum: f64,
    least: Quantity,
    most: Quantity,
    /// What was measured last and how that was decided, and its value.
    last: (Measured, Verdict),
    last_value: f64,
}

/// How bad a verdict is.
fn rank(verdict: Verdict) -> u8 {
    match verdict {
        Verdict::Fail => 2,
        Verdict::Inconclusive => 1,
        Verdict::Pass | Verdict::NotSeen => 0,
    }
}

impl Tally {
    pub(super) fn new(base: TimeBase, required: Required) -> Self {
        let (least, most) = (i64::MAX, i64::MIN);
        Tally {
            base,
            required,
            counts: Counts::default(),
            sum: 0,
            least,
            most,
            values: None,
            worst: None,
            passing_possible: None,
            waits: 0,
            waited: 0,
        }
    }

    fn count(&mut self, verdict: Verdict, times: u64) {
        self.counts.seen += times;
        match verdict {
            Verdict::Pass => self.counts.passed += times,
            Verdict::Fail => self.counts.failed += times,
            Verdict::Inconclusive | Verdict::NotSeen => self.counts.inconclusive += times,
        }
    }

    /// Counts what was found, the how manieth that is.
    pub(super) fn add(&mut self, found: Visited, nth: u64) {
        match found {
            Visited::Unpaired(_) => self.counts.unpaired += 1,
            Visited::Occurrence(occurrence) if !occurrence.certain => self.count_possible(occurrence, nth, 1),
            Visited::Occurrence(occurrence) => match occurrence.measured.ticks() {
                Some(ticks) => {
                    if self.count_ticks(ticks, occurrence.verdict) {
                        self.compare(occurrence, ticks, nth);
                    }
                }
                None => self.count_value(occurrence, nth),
            },
        }
    }

    /// Takes note of how many ticks were seen of a wait that nothing answered, or nothing that counts.
    pub(super) fn wait(&mut self, ticks: i64) {
        (self.waits, self.waited) = (self.waits + 1, self.waited.max(ticks));
    }

    /// Counts waits that nothing answered, the longest of so many ticks.
    pub(super) fn add_unanswered(&mut self, times: u64, longest: i64) {
        self.counts.unpaired += times;
        (self.waits, self.waited) = (self.waits + times, self.waited.max(longest));
    }

    /// Counts intervals that are all decided in one way: how many, what they sum up to, the first of them, and of
    /// the shortest and of the longest the first, each with the how manieth it is.
    pub(super) fn add_alike(&mut self, times: u64, sum: i128, ends: [(Occurrence, u64); 3]) {
        let [(first, nth), shortest, longest] = ends;
        if !first.certain {
            self.count_possible(first, nth, times);
        } else {
            self.count(first.verdict, times);
            self.sum += sum;
        }
        for (occurrence, nth) in [shortest, longest] {
            let ticks = occurrence.measured.ticks().unwrap_or(0);
            if occurrence.certain {
                (self.least, self.most) = (self.least.min(ticks), self.most.max(ticks));
            }
            if occurrence.certain || occurrence.verdict != Verdict::Pass {
                self.compare(occurrence, ticks, nth);
            }
        }
    }

    /// Counts an interval; whether it may be the worst so far.
    #[inline]
    fn count_ticks(&mut self, ticks: i64, verdict: Verdict) -> bool {
        self.count(verdict, 1);
        self.sum += i128::from(ticks);
        (self.least, self.most) = (self.least.min(ticks), self.most.max(ticks));
        self.may_be_worst(ticks, verdict)
    }

    /// Whether an interval of so many ticks may be worse than all so far.
    #[inline]
    fn may_be_worst(&self, ticks: i64, verdict: Verdict) -> bool {
        self.worst.as_ref().is_none_or(|worst| {
            let rank = rank(verdict);
            rank > worst.rank || (rank == worst.rank && !(worst.within.0..=worst.within.1).contains(&ticks))
        })
    }

    /// Counts one that may be no occurrence at all: it never makes a limit pass, and opens it unless it
    /// meets the limit.
    #[cold]
    fn count_possible(&mut self, occurrence: Occurrence, nth: u64, times: u64) {
        self.counts.possible += times;
        match occurrence.verdict {
            Verdict::Pass => {
                let first = self.passing_possible.get_or_insert((nth, occurrence));
                if nth < first.0 {
                    *first = (nth, occurrence);
                }
            }
            verdict => {
                let ticks = occurrence.measured.ticks();
                if ticks.is_none_or(|ticks| self.may_be_worst(ticks, verdict)) {
                    self.compare(occurrence, ticks.unwrap_or(0), nth);
                }
            }
        }
    }

    /// Counts a value that is no interval.
    fn count_value(&mut self, occurrence: Occurrence, nth: u64) {
        self.count(occurrence.verdict, 1);
        // As a clock's share of its period, many are the same.
        let again = self
            .values
            .as_ref()
            .is_some_and(|values| values.last == (occurrence.measured, occurrence.verdict));
        if let Some(values) = self.values.as_mut().filter(|_| again) {
            values.count += 1;
            values.sum += values.last_value;
            if self.worst.as_ref().is_some_and(|worst| worst.rank >= rank(occurrence.verdict)) {
                return;
            }
        } else if let Some(value) = occurrence.value(self.base) {
            let (last, last_value) = ((occurrence.measured, occurrence.verdict), value.to_f64());
            let begun = Values { count: 0, sum: 0.0, least: value, most: value, last, last_value };
            let values = self.values.get_or_insert(begun);
            values.count += 1;
            values.sum += last_value;
            (values.last, values.last_value) = (last, last_value);
            if value.to_rational() < values.least.to_rational() {
                values.least = value;
            }
            if value.to_rational() > values.most.to_rational() {
                values.most = value;
            }
        }
        self.compare(occurrence, 0, nth);
    }

    #[cold]
    fn compare(&mut self, occurrence: Occurrence, ticks: i64, nth: u64) {
        let rank = rank(occurrence.verdict);
        let value = occurrence.value(self.base);
        let margin = value.and_then(|value| self.required.margin(value.to_rational()));
        match &mut self.worst {
            Some(worst) if worst.rank == rank => {
                worst.within = (worst.within.0.min(ticks), worst.within.1.max(ticks));
                if (margin, nth) < (worst.margin, worst.nth) {
                    (worst.margin, worst.nth, worst.occurrence) = (margin, nth, occurrence);
                }
            }
            Some(worst) if worst.rank > rank => {}
            worst => *worst = Some(Worst { rank, nth, margin, occurrence, within: (ticks, ticks) }),
        }
    }
}

impl Tally {
    /// Whether all that was seen passes, but pulses that were not seen may violate the limit.
    fn may_be_missed(
        &self,
        bound: &BoundLimit,
        hides: Hides,
        span: &Span,
        granted: Option<Time>,
        cut: i64,
    ) -> bool {
        let (kind, required) = (bound.limit.kind(), bound.limit.required);
        // With hidden edges, what is cut off is a whole pulse that is not longer than what is seen of it.
        let longest = || span.length(cut.saturating_sub(1))?.hi;
        let cut_too_long =
            required.max_time().is_some_and(|max| cut > 0 && longest().is_none_or(|longest| longest > max));
        // An answer that hides came before the wait was over.
        let all_known = self.waits >= self.counts.unpaired && required.min.is_none();
        let latest = || span.length(self.waited)?.hi;
        let soon = all_known && required.max_time().is_some_and(|max| latest().is_some_and(|hi| hi <= max));
        let unanswered = self.counts.unpaired.max(self.waits) > 0 && !soon;
        hides.leave_open(kind, required, unanswered, cut_too_long)
            || asks_for_granted(kind, required, granted)
    }

    /// What that comes to in a record. `cut` is the most ticks of what an end of it cuts off.
    pub(super) fn result(self, bound: &BoundLimit, capture: &Capture, rule: Rule, cut: i64) -> LimitResult {
        let base = capture.base();
        let limit = &bound.limit;
        let margin = self.worst.as_ref().and_then(|worst| worst.margin);
        let worst = self.worst.as_ref().map(|worst| worst.occurrence);
        let mut verdict = worst.map_or(Verdict::NotSeen, |w| w.verdict);
        let mut reason = worst.and_then(|w| w.doubt).map(Reason::Occurrence);
        let worst = match (worst, self.passing_possible) {
            (None, Some((_, possible))) => {
                (verdict, reason) = (Verdict::Inconclusive, Some(Reason::Occurrence(Doubt::Order)));
                Some(possible)
            }
            (worst, _) => worst,
        };
        let precision = Precision::of(capture, rule);
        let (granted, hides) = (bound.granted(&precision), bound.hides(&precision));
        let span = bound.span_within(&precision);
        if verdict == Verdict::Pass && self.may_be_missed(bound, hides, &span, granted, cut) {
            verdict = Verdict::Inconclusive;
            reason = Some(Reason::HiddenPulses);
        }
        // However close the edges are: of which occurrences there are, nothing is certain.
        if hides.condition && verdict == Verdict::Inconclusive && worst.is_some_and(|worst| !worst.certain) {
            reason = Some(Reason::Occurrence(Doubt::Hidden));
        }
        // What is found of such events is neither all that happened nor certain.
        if bound.is_open(&precision) && worst.is_some() {
            verdict = Verdict::Inconclusive;
            reason = Some(Reason::Composite);
        }
        let bounds = worst.and_then(|w| w.bounds(&span));
        let measured = worst.and_then(|w| w.value(base));
        let statistics = match self.values {
            Some(Values { count, sum, least, most, .. }) => {
                Some(Statistics { min: least, mean: sum / count as f64, max: most })
            }
            // Of intervals; there may be none where nothing changed at all.
            None if self.least <= self.most => Some(Statistics {
                min: base.length_of(self.least).into(),
                mean: self.sum as f64 / self.counts.seen as f64 * base.tick().to_f64(),
                max: base.length_of(self.most).into(),
            }),
            None => None,
        };
        let worth_trying = match (verdict, reason, worst) {
            (Verdict::Inconclusive, Some(Reason::HiddenPulses), _) if !hides.any() => {
                limit.required.min_time().and_then(|min| just_above(capture, min))
            }
            (Verdict::Inconclusive, Some(Reason::HiddenPulses | Reason::Occurrence(Doubt::Hidden)), _) => {
                Some(bound.nothing_hides_from(capture, &precision))
            }
            (Verdict::Inconclusive, Some(Reason::Occurrence(doubt)), Some(worst)) => {
                bound.worth_trying(capture, &span, &worst, doubt)
            }
            _ => None,
        };
        // What the rate of the analog lines leaves open is not decided by that of the others.
        let is_digital = |signal: &Signal| {
            let line = signal.line().and_then(|line| capture.lines().get(line.0));
            line.is_some_and(|line| line.extra == Time::ZERO)
        };
        let worth_trying = worth_trying.filter(|_| bound.signals().iter().all(is_digital));
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
            worth_trying,
            granted,
        }
    }
}
