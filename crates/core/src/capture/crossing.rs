//! What levels were made of when they were asked for: crossings of analog lines, lines with a pull, and
//! which lines are driven.

use std::ops::Range;
use std::sync::OnceLock;

use super::analog::AnalogTrace;
use super::trace::Trace;
use crate::line::{Crossing, Level, Side, Signal};
use crate::quantity::Voltage;
use crate::time::Tick;

/// The signals that were asked for so far. Each, once there, stays where it is.
#[derive(Debug, Default)]
pub(super) struct MadeSignals {
    first: Link,
}

type Link = OnceLock<Box<Node>>;

#[derive(Debug)]
struct Node {
    signal: Signal,
    trace: Trace,
    next: Link,
}

impl MadeSignals {
    /// The trace of a signal; made when it is asked for the first time.
    pub(super) fn trace(&self, signal: Signal, make: impl FnOnce() -> Trace) -> &Trace {
        let mut make = Some(make);
        let mut link = &self.first;
        loop {
            // Another thread may be first with another one: then this one goes behind it.
            let node = link.get_or_init(|| {
                let trace = make.take().map_or_else(|| Trace::constant(Level::Unknown, 0), |make| make());
                Box::new(Node { signal, trace, next: OnceLock::new() })
            });
            if node.signal == signal {
                return &node.trace;
            }
            link = &node.next;
        }
    }
}

/// How far the true crossings may lie from where the levels change, in ticks, at the most: a sample
/// may be off by the scale's error, the level by `off`, and the voltage moves on between samples. `None` where a
/// crossing has no certain sample on one of its sides.
pub(super) fn spread(analog: &AnalogTrace, crossing: Crossing, off: Voltage, edges: &Trace) -> Option<u64> {
    let (low_to, high_from) = crossing.certain(analog.scale(), off);
    let mut most = 0;
    let all: Vec<_> = edges.edges(Tick(0)..Tick(u64::MAX)).collect();
    for (number, edge) in all.iter().enumerate() {
        let from = number.checked_sub(1).map_or_else(|| edges.level_at(Tick(0)), |before| all[before].to);
        if crossing.side() == Side::Both && [from, edge.to].contains(&Level::Unknown) {
            // Where it becomes known is no change of the line.
            continue;
        }
        let rises = match crossing.side() {
            Side::Below if edge.to == Level::High => true,
            Side::Above if edge.to == Level::Low => false,
            Side::Both => edge.to == Level::High,
            // Where it comes back by the hysteresis is not what was asked for.
            Side::Below | Side::Above => continue,
        };
        let at = analog.sample_at(edge.tick)?;
        let before = number.checked_sub(1).map_or(0, |n| analog.sample_at(all[n].tick).unwrap_or(0));
        let after =
            all.get(number + 1).map_or(analog.len(), |next| analog.sample_at(next.tick).unwrap_or(at));
        let certain = |sample: u64, high: bool| {
            analog.code(sample).is_some_and(|code| {
                let code = i32::from(code);
                if high { code >= high_from } else { code <= low_to }
            })
        };
        let early = nearest(before..at, true, |sample| certain(sample, !rises))?;
        let late = nearest(at..after, false, |sample| certain(sample, rises))?;
        // A voltage that holds is what it was until the next one begins.
        let ticks = |from: u64, to: u64| match analog.holds() {
            true => analog.tick_of(to).0.saturating_sub(analog.tick_of(from).0),
            false => (to - from).saturating_mul(analog.every()),
        };
        most = most.max(ticks(early + u64::from(analog.holds()), at)).max(ticks(at, late));
    }
    Some(most)
}

fn nearest(range: Range<u64>, from_end: bool, is: impl Fn(u64) -> bool) -> Option<u64> {
    let mut range = range;
    if from_end { range.rev().find(|s| is(*s)) } else { range.find(|s| is(*s)) }
}
