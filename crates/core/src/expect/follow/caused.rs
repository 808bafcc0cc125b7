//! Values that show on another bus.

use super::asked::{Asked, Values};
use super::delay::Delay;
use super::given::{Follow, FollowResult, ValueOn};
use super::outcome::{Outcome, Outcomes, end_of};
use crate::capture::Capture;
use crate::error::Result;
use crate::expect::judged::DeviationKind;
use crate::limit::Verdict;
use crate::quantity::Rational;
use crate::time::Tick;

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
    // The right one goes before any other, and what is certain before what may be none.
    for (right, sure) in [(true, true), (true, false), (false, true), (false, false)] {
        for (number, one) in asked.iter().enumerate() {
            if partner[number].is_some() || (sure && !one.certain) {
                continue;
            }
            let expected = follow.expected(one.value);
            let is_right = |show: &Asked| Rational::new(i128::from(show.value), 1) == expected;
            let fits = |show: &Asked| (!right || is_right(show)) && (!sure || show.certain);
            let found = window(one).find(|place| !taken[*place] && fits(&shows[*place]));
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
    asked: &Values,
    to: &ValueOn,
    capture: &Capture,
    delay: &Delay,
) -> Result<FollowResult> {
    let shows = to.all(capture, true)?;
    let (partner, taken) = matched(follow, &asked.all, &shows.all, delay);
    let mut outcomes: Vec<(Tick, Outcome)> = Vec::new();
    for (one, partner) in asked.all.iter().zip(&partner) {
        let show = partner.map(|place| &shows.all[place]);
        let mut outcome = of_one(follow, one, show, capture, delay);
        let (from, to) = (one.at.0.saturating_sub(delay.reach), one.at.0.saturating_add(delay.most));
        // What could not be read may have been the right one.
        if outcome.verdict == Verdict::Fail && shows.may_hide(from, to) {
            outcome.verdict = Verdict::Inconclusive;
        }
        outcomes.push((one.at, outcome));
    }
    let first = asked.all.first().map_or(end_of(capture), |one| one.at);
    for (show, _) in shows.all.iter().zip(&taken).filter(|(_, taken)| !**taken) {
        // Before the first value, it may be that one before the record was asked for.
        if show.at.0 <= first.0 && show.at.0 <= delay.most {
            continue;
        }
        let found = Rational::new(i128::from(show.value), 1).map(|value| (value, show.at));
        // Nor is it known what could not be read where values are asked for.
        let (from, to) = (show.at.0.saturating_sub(delay.most), show.at.0.saturating_add(delay.reach));
        let known = show.certain && !asked.may_hide(from, to);
        let verdict = if known { Verdict::Fail } else { Verdict::Inconclusive };
        let kind = Some(DeviationKind::TooMuch);
        outcomes.push((show.at, Outcome { asked: None, found, took: None, kind, verdict }));
    }
    outcomes.sort_by_key(|(at, _)| *at);
    let mut following = Outcomes::new(follow, capture, false);
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
