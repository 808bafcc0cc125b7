//! What became of values, one by one.

use super::asked::Asked;
use super::given::{Follow, FollowResult, FollowedValue, shown};
use crate::capture::Capture;
use crate::expect::judged::{DeviationKind, Ended, Occurrence, Otherwise, Tally};
use crate::limit::Verdict;
use crate::measure::Measure;
use crate::quantity::{Rational, Time};
use crate::time::Tick;

/// Most values that are kept.
const MOST: usize = 1_000_000;

/// Makes the result of what became of each value.
pub(super) struct Outcomes<'a> {
    follow: &'a Follow,
    capture: &'a Capture,
    is_voltage: bool,
    tally: Tally,
    values: Vec<FollowedValue>,
    took: Option<(Measure, Measure)>,
}

/// What became of one value.
pub(super) struct Outcome {
    pub(super) asked: Option<Asked>,
    pub(super) found: Option<(Rational, Tick)>,
    pub(super) took: Option<Measure>,
    /// In which way it is not as it should be; nothing where it is.
    pub(super) kind: Option<DeviationKind>,
    pub(super) verdict: Verdict,
}

impl<'a> Outcomes<'a> {
    pub(super) fn new(follow: &'a Follow, capture: &'a Capture, is_voltage: bool) -> Self {
        Outcomes { follow, capture, is_voltage, tally: Tally::new(), values: Vec::new(), took: None }
    }

    fn time(&self, tick: Tick) -> Time {
        self.capture.base().time_of(tick.min(end_of(self.capture)))
    }

    pub(super) fn add(&mut self, outcome: Outcome) {
        let Outcome { asked, found, took, kind, verdict } = outcome;
        let expected = asked.and_then(|asked| self.follow.expected(asked.value));
        let asked_at = asked.map(|asked| self.time(asked.at));
        let at = found.map(|(_, at)| self.time(at));
        let begins = asked_at.or(at).unwrap_or(Time::ZERO);
        if let Some(took) = took {
            let (shortest, longest) = self.took.get_or_insert((took, took));
            if took.value < shortest.value {
                *shortest = took;
            }
            if took.value > longest.value {
                *longest = took;
            }
        }
        let words = |value: Option<Rational>| value.map(|value| shown(value, self.is_voltage));
        let found = found.map(|(value, _)| value);
        let ended = match (verdict, kind) {
            (Verdict::Pass, _) => Ended::Whole,
            (Verdict::NotSeen, _) => Ended::CutOff { seen: false },
            (_, None) => Ended::Whole,
            (_, Some(DeviationKind::Pause)) => Ended::Otherwise(Otherwise {
                kind: DeviationKind::Pause,
                place: 0,
                step: None,
                expected: Some(self.follow.required().to_string()),
                found: took.map(|took| took.value.rounded(self.capture.base().tick())),
                at: at.unwrap_or(begins),
            }),
            (_, Some(kind)) => Ended::Otherwise(Otherwise {
                kind,
                place: 0,
                step: None,
                expected: words(expected),
                found: words(found),
                at: at.unwrap_or(begins),
            }),
        };
        let is_one = asked.is_none_or(|asked| asked.certain);
        let sure = verdict != Verdict::Inconclusive;
        self.tally.add(Occurrence { begins, is_one, sure, ended });
        if self.values.len() < MOST {
            let asked = asked.map(|asked| asked.value);
            self.values.push(FollowedValue { asked_at, asked, expected, found, at, took, verdict, kind });
        }
    }

    pub(super) fn finish(self) -> FollowResult {
        FollowResult {
            judged: self.tally.finish(),
            is_voltage: self.is_voltage,
            took: self.took,
            required: self.follow.required(),
            values: self.values,
        }
    }
}

/// Where a value ends that the record still shows.
pub(super) fn end_of(capture: &Capture) -> Tick {
    Tick(capture.len())
}
