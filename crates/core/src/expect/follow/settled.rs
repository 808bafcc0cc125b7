//! Values that parallel lines or a voltage take, and keep until the next one.

use std::ops::Range;

use super::asked::Values;
use super::delay::Delay;
use super::given::{Follow, FollowResult};
use super::outcome::{Outcome, Outcomes, end_of};
use crate::capture::{AnalogTrace, Capture};
use crate::expect::judged::DeviationKind;
use crate::limit::Verdict;
use crate::line::{AnalogId, Bus};
use crate::quantity::{Rational, Voltage};
use crate::time::Tick;

/// Where values should show.
#[derive(Clone, Copy)]
pub(super) enum Wanted<'a> {
    Lines(&'a Bus),
    /// Within a tolerance.
    Voltage(AnalogId, Voltage),
}

/// How a stretch compares with a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stays {
    /// It has the value from here on, and did not have it at the tick before (`fewest` ticks earlier at the least).
    From { fewest: Tick, most: Tick },
    /// It has not, at this tick.
    Not(Tick),
    /// Whether it has cannot be told.
    Open(Tick),
}

/// Follows values to where they stay.
pub(super) fn settled(
    follow: &Follow,
    asked: &Values,
    wanted: Wanted<'_>,
    capture: &Capture,
    delay: &Delay,
) -> FollowResult {
    let mut following = Outcomes::new(follow, capture, matches!(wanted, Wanted::Voltage(..)));
    for (number, one) in asked.all.iter().enumerate() {
        let next = asked.all.get(number + 1).map_or(end_of(capture), |next| next.at);
        let due = Tick(one.at.0.saturating_add(delay.most));
        let whole = due < next;
        let window = one.at..due.min(next);
        let Some(expected) = follow.expected(one.value) else { continue };
        let found = |at: Tick| wanted.value_at(capture, at).map(|value| (value, at));
        // What it settled to, which is more than what it came in with.
        let last = Tick(window.end.0.saturating_sub(1).max(one.at.0));
        let kept = |since: Tick| wanted.value_at(capture, last).map(|value| (value, since));
        let outcome = |found, took, kind, verdict: Verdict| {
            // A value that may be another decides nothing.
            let decided = matches!(verdict, Verdict::Pass | Verdict::Fail);
            let hidden = verdict == Verdict::Fail && asked.may_hide(one.at.0, next.0);
            let known = one.certain && !hidden;
            let verdict = if known || !decided { verdict } else { Verdict::Inconclusive };
            Outcome { asked: Some(*one), found, took, kind, verdict }
        };
        following.add(match wanted.stays(capture, window.clone(), expected) {
            Stays::From { fewest, most } => {
                let (fewest, ticks) = (fewest.since(one.at), most.since(one.at));
                let took = delay.measure(one, fewest, ticks, capture);
                let (in_time, _) = delay.judge(fewest, ticks);
                match in_time {
                    Verdict::Pass => {
                        let until = Tick(next.0.saturating_sub(delay.reach).max(most.0));
                        match wanted.leaves(capture, most..until, expected) {
                            Some(at) => outcome(found(at), took, Some(DeviationKind::TooMuch), Verdict::Fail),
                            None => outcome(kept(most), took, None, Verdict::Pass),
                        }
                    }
                    verdict => outcome(kept(most), took, Some(DeviationKind::Pause), verdict),
                }
            }
            // The next value was asked for first, or the record ends.
            Stays::Not(_) | Stays::Open(_) if !whole => outcome(None, None, None, Verdict::NotSeen),
            Stays::Not(at) => outcome(found(at), None, Some(DeviationKind::Differs), Verdict::Fail),
            Stays::Open(at) => outcome(found(at), None, Some(DeviationKind::Differs), Verdict::Inconclusive),
        });
    }
    following.finish()
}

impl Wanted<'_> {
    /// What shows at a tick.
    fn value_at(self, capture: &Capture, at: Tick) -> Option<Rational> {
        match self {
            Wanted::Lines(bus) => {
                let value = capture.bus_value(bus, at).known()?;
                Rational::new(i128::from(value), 1)
            }
            Wanted::Voltage(line, _) => capture.analog(line).voltage_at(at).map(Voltage::to_rational),
        }
    }

    /// Where it certainly has another value, after it had this one: the last such tick of a stretch.
    fn leaves(self, capture: &Capture, stretch: Range<Tick>, expected: Rational) -> Option<Tick> {
        match self {
            Wanted::Lines(bus) => {
                let changes = |line| capture.trace(line).edges(Tick(stretch.start.0 + 1)..stretch.end);
                bus.lines.iter().filter_map(|line| changes(*line).next()).map(|edge| edge.tick).min()
            }
            Wanted::Voltage(line, tolerance) => {
                let trace = capture.analog(line);
                let off = tolerance.to_rational().checked_add(trace.scale().error().to_rational());
                let outer = band(trace, expected, off)?;
                last_outside(trace, trace.samples_in(stretch), outer).map(|sample| trace.tick_of(sample))
            }
        }
    }

    /// From where to the end of a stretch it has a value.
    fn stays(self, capture: &Capture, stretch: Range<Tick>, expected: Rational) -> Stays {
        match self {
            Wanted::Lines(bus) => lines_stay(capture, bus, stretch, expected),
            Wanted::Voltage(line, tolerance) => {
                voltage_stays(capture.analog(line), stretch, expected, tolerance.to_rational())
            }
        }
    }
}

/// Codes that are within so much of a voltage.
fn band(trace: &AnalogTrace, expected: Rational, off: Option<Rational>) -> Option<(i32, i32)> {
    let off = off?;
    let volts = |value: Option<Rational>| value.map(Voltage::from_rational);
    let (low, high) = (volts(expected.checked_sub(off))?, volts(expected.checked_add(off))?);
    Some((trace.scale().first_at_least(low), trace.scale().last_at_most(high)))
}

fn lines_stay(capture: &Capture, bus: &Bus, stretch: Range<Tick>, expected: Rational) -> Stays {
    let last = Tick(stretch.end.0.saturating_sub(1).max(stretch.start.0));
    let edges = || bus.lines.iter().map(|line| capture.trace(*line));
    let value = capture.bus_value(bus, last);
    let is = value.known().and_then(|value| Rational::new(i128::from(value), 1)) == Some(expected);
    if !is {
        return if value.unknown == 0 { Stays::Not(last) } else { Stays::Open(last) };
    }
    let before = edges().filter_map(|trace| trace.prev_edge(Tick(last.0 + 1))).map(|edge| edge.tick).max();
    let since = before.filter(|since| *since > stretch.start).unwrap_or(stretch.start);
    Stays::From { fewest: since, most: since }
}

/// A voltage is sampled: between two samples, it is not known when it came near enough.
fn voltage_stays(
    trace: &AnalogTrace,
    stretch: Range<Tick>,
    expected: Rational,
    tolerance: Rational,
) -> Stays {
    let error = trace.scale().error().to_rational();
    let samples = trace.samples_in(stretch.clone());
    let last = Tick(stretch.end.0.saturating_sub(1).max(stretch.start.0));
    let band = |off| band(trace, expected, off);
    let (Some(inner), Some(outer)) = (band(tolerance.checked_sub(error)), band(tolerance.checked_add(error)))
    else {
        return Stays::Open(last);
    };
    if samples.is_empty() {
        return Stays::Open(last);
    }
    match last_outside(trace, samples.clone(), inner) {
        None => Stays::From { fewest: stretch.start, most: trace.tick_of(samples.start).max(stretch.start) },
        Some(outside) if outside + 1 < samples.end => Stays::From {
            fewest: trace.tick_of(outside).max(stretch.start),
            most: trace.tick_of(outside + 1),
        },
        Some(outside) => match last_outside(trace, outside..outside + 1, outer) {
            Some(_) => Stays::Not(trace.tick_of(outside).max(stretch.start)),
            None => Stays::Open(last),
        },
    }
}

/// The last of some samples whose code is not in a band.
fn last_outside(trace: &AnalogTrace, samples: Range<u64>, band: (i32, i32)) -> Option<u64> {
    if samples.is_empty() {
        return None;
    }
    let inside = trace
        .extremes_of(samples.clone())
        .is_some_and(|extremes| i32::from(extremes.least) >= band.0 && i32::from(extremes.most) <= band.1);
    if inside {
        return None;
    }
    if samples.end - samples.start == 1 {
        return Some(samples.start);
    }
    let middle = samples.start + (samples.end - samples.start) / 2;
    let right = last_outside(trace, middle..samples.end, band);
    right.or_else(|| last_outside(trace, samples.start..middle, band))
}
