//! Stretches in which a condition holds, with how sure their ends are.

use std::ops::Range;

use super::marks::Marks;
use crate::capture::{Capture, Merged};
use crate::event::check::{ConditionProgram, Test3};
use crate::event::hit::Hit;
use crate::known::{Precedence, Precision, Rule};
use crate::line::{Level, Signal};
use crate::quantity::Voltage;
use crate::time::Tick;

impl ConditionProgram {
    /// The stretches of `range` in which the condition holds, in order of time.
    pub fn stretches<'a>(&'a self, capture: &'a Capture, range: Range<Tick>) -> Stretches<'a> {
        Stretches::new(capture, &self.test, range)
    }
}

/// A stretch in which a condition holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// First tick at which it holds.
    pub start: Tick,
    /// First tick at which it does not hold any more, or the end of the record.
    pub end: Tick,
    /// Whether the record shows it beginning: a tick before at which it did not hold.
    pub begins: bool,
    /// Whether the record shows it ending.
    pub ends: bool,
    /// Whether the order of edges within the record's uncertainty could make it false.
    pub doubtful: bool,
}

/// The stretches in which a condition holds, in order of time.
#[derive(Clone, Debug)]
pub struct Stretches<'a>(Held<'a>);

#[derive(Clone, Debug)]
enum Held<'a> {
    /// Between the edges of one line that is never unknown: the level, and the stretch it began.
    Line {
        edges: Marks<'a>,
        high: bool,
        wanted: bool,
        open: Option<Stretch>,
        end: Tick,
    },
    Any(Merging<'a>),
}

/// Any condition, asked wherever one of its lines changes.
#[derive(Clone, Debug)]
struct Merging<'a> {
    capture: &'a Capture,
    test: &'a Test3,
    signals: Vec<Signal>,
    order: Precedence,
    merged: Merged<'a>,
    open: Option<Stretch>,
    before: Option<bool>,
    end: Tick,
}

impl<'a> Stretches<'a> {
    pub(super) fn new(capture: &'a Capture, test: &'a Test3, range: Range<Tick>) -> Self {
        let end = range.end.min(Tick(capture.len()));
        // At tick 0 there is no "before": a stretch that holds there has an unseen beginning.
        let open = |holds: bool| {
            (holds && range.start < end).then_some(Stretch {
                start: range.start,
                end,
                begins: false,
                ends: false,
                doubtful: false,
            })
        };
        let later = Tick(range.start.0.max(1))..end;
        if let Test3::Level(line, wanted) = test
            && let Some(edges) = Marks::of_line(*line, capture, later.clone())
        {
            let high = capture.trace(*line).level_at(Tick(later.start.0 - 1)) == Level::High;
            let open = open(high == *wanted);
            return Stretches(Held::Line { edges, high, wanted: *wanted, open, end });
        }
        let signals = test.signals();
        let order = Precision::of(capture, Rule::Proven).order(&signals, Voltage::ZERO);
        let merged = Merged::new(capture, &signals, later);
        let before = test.eval(&mut |l| merged.level(l));
        let open = open(before == Some(true));
        Stretches(Held::Any(Merging { capture, test, signals, order, merged, open, before, end }))
    }
}

impl Merging<'_> {
    /// Whether the condition changes its value exactly once within the doubt around `tick`: then it is
    /// certain that it changed, whatever the true order of the edges there.
    fn is_clean_step(&self, tick: Tick) -> bool {
        let Some(window) = self.order.around(tick) else { return true };
        let edges = |signal: &Signal| self.capture.trace(*signal).edges(window.clone());
        let mut ticks: Vec<Tick> = self.signals.iter().flat_map(edges).map(|edge| edge.tick).collect();
        if ticks.len() <= 1 {
            return true;
        }
        ticks.push(Tick(window.start.0.saturating_sub(1)));
        ticks.sort_unstable();
        ticks.dedup();
        let value = |t: &Tick| self.test.eval(&mut |signal| self.capture.trace(signal).level_at(*t));
        let values: Vec<_> = ticks.iter().map(value).collect();
        values.windows(2).filter(|pair| pair[0] != pair[1]).count() <= 1
    }

    fn doubtful_at(&self, tick: Tick) -> bool {
        self.signals.len() > 1 && !self.is_clean_step(tick)
    }

    fn next(&mut self) -> Option<Stretch> {
        loop {
            let Some(tick) = self.merged.step() else {
                let mut last = self.open.take()?;
                last.end = self.end;
                return Some(last);
            };
            let merged = &self.merged;
            let now = self.test.eval(&mut |l| merged.level(l));
            let before = std::mem::replace(&mut self.before, now);
            if before == now {
                continue;
            }
            if now == Some(true) {
                self.open = Some(Stretch {
                    start: tick,
                    end: tick,
                    begins: before == Some(false),
                    ends: false,
                    doubtful: self.doubtful_at(tick),
                });
            } else if let Some(open) = self.open.take() {
                let doubtful = open.doubtful || self.doubtful_at(tick);
                return Some(Stretch { end: tick, ends: now == Some(false), doubtful, ..open });
            }
        }
    }
}

impl Iterator for Stretches<'_> {
    type Item = Stretch;

    fn next(&mut self) -> Option<Stretch> {
        match &mut self.0 {
            Held::Any(merging) => merging.next(),
            Held::Line { edges, high, wanted, open, end } => loop {
                let Some(Hit { tick, .. }) = edges.next() else {
                    return open.take().map(|open| Stretch { end: *end, ..open });
                };
                *high = !*high;
                if *high == *wanted {
                    let doubtful = false;
                    *open = Some(Stretch { start: tick, end: tick, begins: true, ends: false, doubtful });
                } else if let Some(open) = open.take() {
                    return Some(Stretch { end: tick, ends: true, ..open });
                }
            },
        }
    }
}
