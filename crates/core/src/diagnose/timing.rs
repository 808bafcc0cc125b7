//! How long bits last, and on which side of the clock data changes.

use std::ops::Range;

use crate::capture::Capture;
use crate::known::{Precision, Rule};
use crate::line::{Level, LineId, Signal};
use crate::quantity::{Frequency, Rational, Voltage};
use crate::time::Tick;

/// Intervals that are looked at.
pub(super) const MOST_INTERVALS: usize = 20_000;
/// Intervals, and ticks of a bit, from which on a bit can be measured.
const FEWEST_INTERVALS: usize = 8;
const FEWEST_TICKS: f64 = 2.8;

/// How long a bit lasts, in ticks, if the intervals between edges are whole numbers of bits.
pub(super) fn bit_length(capture: &Capture, line: LineId, range: Range<Tick>) -> Option<f64> {
    let ticks: Vec<u64> =
        capture.trace(line).edges(range).take(MOST_INTERVALS).map(|edge| edge.tick.0).collect();
    let intervals: Vec<u64> = ticks.windows(2).map(|pair| pair[1] - pair[0]).collect();
    regular(&intervals, capture.base().is_exact())
}

/// The length that all intervals are whole numbers of, but for rests. Of samples, a length of a few ticks
/// says nothing: everything is a whole number of ticks.
pub(super) fn regular(intervals: &[u64], exact: bool) -> Option<f64> {
    if intervals.len() < FEWEST_INTERVALS {
        return None;
    }
    let intervals: Vec<f64> = intervals.iter().map(|length| *length as f64).collect();
    let mut sorted = intervals.clone();
    sorted.sort_by(f64::total_cmp);
    // A few may be glitches. The shortest stretch need not be a single bit.
    let shortest = sorted[sorted.len() / 50].max(1.0);
    let bit = [1.0, 2.0, 3.0].into_iter().find_map(|bits| refined(&intervals, shortest / bits));
    bit.filter(|bit| *bit >= if exact { 1.0 } else { FEWEST_TICKS })
}

/// The mean of all values but those far above the one in the middle.
pub(super) fn usual(values: &[u64]) -> Option<f64> {
    let most = 2 * median(values)?;
    let near: Vec<u64> = values.iter().copied().filter(|value| *value <= most).collect();
    Some(near.iter().sum::<u64>() as f64 / near.len().max(1) as f64)
}

/// The value in the middle.
pub(super) fn median(values: &[u64]) -> Option<u64> {
    let mut sorted = values.to_vec();
    sorted.sort_unstable();
    sorted.get(sorted.len() / 2).copied()
}

/// A bit length near a first guess, if the intervals are whole numbers of it.
fn refined(intervals: &[f64], guess: f64) -> Option<f64> {
    let mut bit = guess;
    for reach in [3.5, 10.5] {
        let near = intervals.iter().filter(|length| **length < reach * bit);
        let (length, count) = near
            .fold((0.0, 0.0), |(sum, count), length| (sum + length, count + (length / bit).round().max(1.0)));
        if count == 0.0 {
            return None;
        }
        bit = length / count;
    }
    let near: Vec<f64> = intervals.iter().copied().filter(|length| *length < 10.5 * bit).collect();
    let off: f64 = near.iter().map(|length| (length / bit - (length / bit).round()).abs()).sum();
    // Edges are off by a tick each even when bits are perfect.
    let allowed = 0.1 + 0.4 / bit;
    (off / near.len() as f64 <= allowed).then_some(bit)
}

/// A bit length as a rate: one of the usual ones if it is close.
pub(super) fn bit_rate(capture: &Capture, bit: f64, usual: &[i64]) -> Frequency {
    let measured = capture.base().rate().to_f64() / bit;
    let near = usual.iter().find(|rate| (measured / **rate as f64 - 1.0).abs() < 0.02);
    // Three digits are what is known otherwise.
    let scale = 10f64.powf(measured.max(1.0).log10().floor() - 2.0).max(1.0);
    let rate = near.copied().unwrap_or(((measured / scale).round() * scale) as i64);
    Frequency::from_rational(Rational::from(rate.max(1)))
}

/// How often data changed after a rising edge of the clock, and after a falling one.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Sides {
    pub(super) rising: u64,
    pub(super) falling: u64,
}

impl Sides {
    /// Whether nearly all changes follow the rising edge, or the falling one.
    pub(super) fn after_rising(self) -> Option<bool> {
        let all = self.rising + self.falling;
        match () {
            () if all < 8 => None,
            () if self.rising * 10 >= all * 9 => Some(true),
            () if self.falling * 10 >= all * 9 => Some(false),
            () => None,
        }
    }
}

/// On which side of the clock the data changes, while `counts` says that the bus is in use. A change
/// within the uncertainty of a clock edge is taken to follow it.
pub(super) fn sides(
    capture: &Capture,
    clock: LineId,
    data: LineId,
    range: Range<Tick>,
    counts: impl Fn(Tick) -> bool,
) -> Sides {
    let mut sides = Sides::default();
    let pair = [Signal::from(data), Signal::from(clock)];
    let clock = capture.trace(clock);
    let order = Precision::of(capture, Rule::Proven).order(&pair, Voltage::ZERO);
    let slack = order.reach().map_or(0, |reach| reach + 1);
    for change in capture.trace(data).edges(range).take(MOST_INTERVALS).filter(|change| counts(change.tick)) {
        let Some(before) = clock.prev_edge(Tick(change.tick.0.saturating_add(slack).saturating_add(1)))
        else {
            continue;
        };
        // After a rest, it is set up for the next edge, and follows none.
        let next = clock.next_edge(before.tick);
        let period = next.map_or(u64::MAX, |next| next.tick.0 - before.tick.0);
        if !counts(before.tick)
            || change.tick.0.saturating_sub(before.tick.0).saturating_mul(4) > period.saturating_mul(3)
        {
            continue;
        }
        match before.to {
            Level::High => sides.rising += 1,
            Level::Low => sides.falling += 1,
            Level::Floating | Level::Unknown => {}
        }
    }
    sides
}

/// The shortest stretch between two edges of a line, in ticks, but for the shortest fiftieth.
pub(super) fn shortest(capture: &Capture, line: LineId, range: Range<Tick>) -> Option<u64> {
    let ticks: Vec<u64> =
        capture.trace(line).edges(range).take(MOST_INTERVALS).map(|edge| edge.tick.0).collect();
    let mut lengths: Vec<u64> = ticks.windows(2).map(|pair| pair[1] - pair[0]).collect();
    lengths.sort_unstable();
    lengths.get(lengths.len() / 50).copied()
}

/// Whether a line is at a level for most of a stretch.
pub(super) fn rests_at(capture: &Capture, line: LineId, range: Range<Tick>, level: Level) -> bool {
    let trace = capture.trace(line);
    let (mut at, mut now, mut sum) = (range.start, trace.level_at(range.start), 0);
    for edge in trace.edges(range.clone()) {
        sum += if now == level { edge.tick.0 - at.0 } else { 0 };
        (at, now) = (edge.tick, edge.to);
    }
    sum += if now == level { range.end.0.saturating_sub(at.0) } else { 0 };
    sum > range.end.0.saturating_sub(range.start.0) / 2
}

/// The level of the longest stretch of a line: it rests there.
pub(super) fn longest_rest(capture: &Capture, line: LineId, range: Range<Tick>) -> Level {
    let trace = capture.trace(line);
    let (mut at, mut now) = (range.start, trace.level_at(range.start));
    let mut longest = (0, now);
    let mut stretch = |length: u64, level| {
        if length > longest.0 {
            longest = (length, level);
        }
    };
    for edge in trace.edges(range.clone()) {
        stretch(edge.tick.0 - at.0, now);
        (at, now) = (edge.tick, edge.to);
    }
    stretch(range.end.0.saturating_sub(at.0), now);
    longest.1
}

/// The most usual distance between two edges of the same direction, in ticks.
pub(super) fn period(capture: &Capture, line: LineId, range: Range<Tick>) -> Option<f64> {
    let ticks: Vec<u64> =
        capture.trace(line).edges(range).take(MOST_INTERVALS).map(|edge| edge.tick.0).collect();
    let mut lengths: Vec<u64> = ticks.windows(3).step_by(2).map(|three| three[2] - three[0]).collect();
    lengths.sort_unstable();
    // Rests between words make some of them long: the mean of those near the median.
    let median = *lengths.get(lengths.len() / 2).filter(|_| lengths.len() >= 4)?;
    let near: Vec<u64> = lengths.into_iter().filter(|length| length.abs_diff(median) * 4 <= median).collect();
    Some(near.iter().sum::<u64>() as f64 / near.len().max(1) as f64)
}
