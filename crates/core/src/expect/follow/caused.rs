//! Values that show on another bus.

use super::asked::Asked;
use super::given::{Delay, Follow, FollowResult, FollowedValue, ValueOn, end_of, shown};
use crate::capture::Capture;
use crate::error::Result;
use crate::expect::DeviationKind;
use crate::expect::judged::{Ended, Occurrence, Otherwise, Tally};
use crate::limit::Verdict;
use crate::measure::Measure;
use crate::quantity::{Rational, Time};
use crate::time::Tick;

/// Most values that are kept.
const MOST: usize = 1_000_000;

/// Makes the result of what became of each value.
pub(super) struct Following<'a> {
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

impl<'a> Following<'a> {
    pub(super) fn new(follow: &'a Follow, capture: &'a Capture, is_voltage: bool) -> Self {
        Following { follow, capture, is_voltage, tally: Tally::new(), values: Vec::new(), took: None }
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

/// Which value that shows belongs to each that is asked for.
fn matched(
    follow: &Follow,
    asked: &[Asked],
    shows: &[Asked],
    delay: &Delay,
) -> (Vec<Option<usize>>, Vec<bool>) {
    let mut taken = vec![false; shows.len()];
    let mut partner = vec![None; asked.len()];
    let window = |one: &Asked| {
        let from = one.at.0.saturating_sub(delay.reach);
        let first = shows.partition_point(|show| show.at.0 < from);
        let last = shows.partition_point(|show| show.at.0 <= one.at.0.saturating_add(delay.most));
        first..last.max(first)
    };
    // The right one goes before any other.
    for right in [true, false] {
        for (number, one) in asked
            .iter()
            .enumerate()
            .filter(|(number, _)| right || partner[*number].is_none())
            .map(|(n, a)| (n, *a))
            .collect::<Vec<_>>()
        {
            let expected = follow.expected(one.value);
            let is = |show: &Asked| Rational::new(i128::from(show.value), 1) == expected;
            let found = window(&one).find(|place| !taken[*place] && (!right || is(&shows[*place])));
            if let Some(found) = found {
                taken[found] = true;
                partner[number] = Some(found);
            }
        }
    }
    (partner, taken)
}

/// Follows values to another bus.
pub(super) fn on_bus(
    follow: &Follow,
    asked: &[Asked],
    to: &ValueOn,
    capture: &Capture,
    delay: &Delay,
) -> Result<FollowResult> {
    let shows = to.all(capture, true)?;
    let (partner, taken) = matched(follow, asked, &shows, delay);
    let mut outcomes: Vec<(Tick, Outcome)> = Vec::new();
    for (one, partner) in asked.iter().zip(&partner) {
        outcomes.push((one.at, of_one(follow, one, partner.map(|place| &shows[place]), capture, delay)));
    }
    let first = asked.first().map_or(end_of(capture), |one| one.at);
    for (show, _) in shows.iter().zip(&taken).filter(|(_, taken)| !**taken) {
        // Before the first value, it may be that one before the record was asked for.
        if show.at.0 <= first.0 && show.at.0 <= delay.most {
            continue;
        }
        let found = Rational::new(i128::from(show.value), 1).map(|value| (value, show.at));
        let verdict = if show.certain { Verdict::Fail } else { Verdict::Inconclusive };
        let kind = Some(DeviationKind::TooMuch);
        outcomes.push((show.at, Outcome { asked: None, found, took: None, kind, verdict }));
    }
    outcomes.sort_by_key(|(at, _)| *at);
    let mut following = Following::new(follow, capture, false);
    outcomes.into_iter().for_each(|(_, outcome)| following.add(outcome));
    Ok(following.finish())
}

fn of_one(follow: &Follow, one: &Asked, show: Option<&Asked>, capture: &Capture, delay: &Delay) -> Outcome {
    let asked = Some(*one);
    let Some(show) = show else {
        // It may come after the record.
        let open = one.at.0.saturating_add(delay.most) >= capture.len();
        let verdict = if open { Verdict::NotSeen } else { Verdict::Fail };
        let kind = Some(DeviationKind::Missing);
        return Outcome { asked, found: None, took: None, kind, verdict };
    };
    let sure = one.certain && show.certain;
    let value = Rational::new(i128::from(show.value), 1);
    let found = value.map(|value| (value, show.at));
    let ticks = show.at.since(one.at);
    let took = delay.measure(one, ticks, ticks, capture);
    let (in_time, _) = delay.judge(ticks, ticks);
    let right = value == follow.expected(one.value);
    let (kind, verdict) = match (right, in_time) {
        (false, _) => (Some(DeviationKind::Differs), Verdict::Fail),
        (true, Verdict::Pass) => (None, Verdict::Pass),
        (true, verdict) => (Some(DeviationKind::Pause), verdict),
    };
    let verdict = if sure { verdict } else { Verdict::Inconclusive };
    Outcome { asked, found, took, kind, verdict }
}
