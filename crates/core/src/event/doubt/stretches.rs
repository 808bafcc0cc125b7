//! Stretches in which a condition holds, with how sure their ends are.

use std::collections::VecDeque;
use std::ops::Range;

use super::levels::Levels;
use super::marks::Marks;
use super::steps::Steps;
use super::stretch::Stretch;
use crate::capture::Capture;
use crate::event::check::{ConditionProgram, Test3};
use crate::event::hit::{Certainty, Hit};
use crate::known::{Precedence, Precision, Rule};
use crate::line::{Level, Signal};
use crate::quantity::Voltage;
use crate::time::Tick;

impl ConditionProgram {
    /// The stretches of `range` in which the condition holds, in order of time.
    pub fn stretches<'a>(&'a self, capture: &'a Capture, range: Range<Tick>) -> Stretches<'a> {
        Stretches::new(capture, &self.test, range, false)
    }

    /// The same with those that the record does not show, but may have happened: where the order of edges
    /// that are close to each other is open, a condition over several lines may hold for a moment, or may
    /// not hold for one. Each comes at the latest after the one it may be a part of.
    pub fn stretches_with_doubt<'a>(&'a self, capture: &'a Capture, range: Range<Tick>) -> Stretches<'a> {
        Stretches::new(capture, &self.test, range, true)
    }

    /// Whether it certainly holds at a tick, or certainly does not, whatever the order of edges which are
    /// that close to it; `None` where that is open, or a level is unknown.
    pub fn holds_around(&self, capture: &Capture, tick: Tick, order: Precedence) -> Option<bool> {
        settled(&self.test, capture, tick, order)
    }
}

/// Whether a condition certainly holds at a tick, or certainly does not, in any order of the edges that are
/// close to it: a line with such an edge may be at either level.
pub(super) fn settled(test: &Test3, capture: &Capture, tick: Tick, order: Precedence) -> Option<bool> {
    let unsettled = |signal: Signal| {
        let window = order.around(tick);
        order.reaches_outside(tick, capture.len())
            || window.is_some_and(|window| capture.trace(signal).edges(window).next().is_some())
    };
    // Floating is neither of the two that an unknown level may be.
    let mut floats = false;
    let level = |signal| {
        let trace = capture.trace(signal);
        if !unsettled(signal) {
            return trace.level_at(tick);
        }
        let mut around = trace.edges(order.around(tick).unwrap_or(tick..tick));
        floats |= around.any(|edge| edge.from == Level::Floating || edge.to == Level::Floating);
        Level::Unknown
    };
    test.eval(&mut { level }).filter(|_| !floats)
}

/// The stretches in which a condition holds, in order of time.
#[derive(Clone, Debug)]
pub struct Stretches<'a>(Held<'a>);

#[derive(Clone, Debug)]
enum Held<'a> {
    Line(Levels<'a>),
    Any(Box<Merging<'a>>),
}

/// Where the search for stretches stands between two parts of a record.
#[derive(Clone, Debug, Default)]
pub(in crate::event) struct Standing {
    open: Option<Stretch>,
    /// Where the open one may have been broken off for a moment, at last.
    broken: Option<Tick>,
}

impl Standing {
    /// The stretch that goes on.
    pub(in crate::event) fn open(&self) -> Option<Stretch> {
        self.open
    }
}

/// Any condition, asked wherever one of its lines changes.
#[derive(Clone, Debug)]
struct Merging<'a> {
    capture: &'a Capture,
    test: &'a Test3,
    signals: Vec<Signal>,
    order: Precedence,
    steps: Steps<'a>,
    open: Option<Stretch>,
    before: Option<bool>,
    /// The end of the record; `None` where it goes on.
    end: Option<Tick>,
    /// Whether those are told, too, that the record does not show, and those that are still to be told.
    doubt: bool,
    told: VecDeque<Stretch>,
    /// Where the open one may have been broken off for a moment, at last.
    broken: Option<Tick>,
}

impl<'a> Stretches<'a> {
    pub(super) fn new(capture: &'a Capture, test: &'a Test3, range: Range<Tick>, doubt: bool) -> Self {
        let end = range.end.min(Tick(capture.len()));
        Stretches::of(capture, test, range.start..end, doubt, (None, true))
    }

    /// The same where the search goes on from where it [stood](Self::standing) before the range; `ended` says
    /// whether the record ends with it.
    pub(in crate::event) fn resume(
        capture: &'a Capture,
        test: &'a Test3,
        range: Range<Tick>,
        doubt: bool,
        (standing, ended): (Standing, bool),
    ) -> Self {
        let standing = (range.start > Tick(0)).then_some(standing);
        Stretches::of(capture, test, range, doubt, (standing, ended))
    }

    fn of(
        capture: &'a Capture,
        test: &'a Test3,
        range: Range<Tick>,
        doubt: bool,
        (standing, ended): (Option<Standing>, bool),
    ) -> Self {
        let end = range.end;
        // At tick 0 there is no "before": a stretch that holds there has an unseen beginning.
        let open = |holds: bool| match &standing {
            Some(standing) => standing.open,
            None => (holds && range.start < end).then_some(Stretch {
                start: range.start,
                end,
                begins: false,
                ends: false,
                doubtful: false,
                recorded: true,
            }),
        };
        let broken = standing.as_ref().and_then(|standing| standing.broken);
        let record_end = ended.then_some(end);
        let later = Tick(range.start.0.max(1))..end;
        if let Test3::Level(line, wanted) = test
            && let Some(edges) = Marks::of_line(*line, capture, later.clone())
        {
            let high = capture.trace(*line).level_at(Tick(later.start.0 - 1)) == Level::High;
            let open = open(high == *wanted);
            return Stretches(Held::Line(Levels::new(edges, (high, *wanted), open, record_end)));
        }
        let signals = test.signals();
        let order = Precision::of(capture, Rule::Proven).order(&signals, Voltage::ZERO);
        let steps = Steps::new(capture, &signals, later, order);
        let before = test.eval(&mut |l| steps.level(l));
        let open = open(before == Some(true));
        let doubt = doubt && signals.len() > 1;
        let (told, end) = (VecDeque::new(), record_end);
        let all = Merging { capture, test, signals, order, steps, open, before, end, doubt, told, broken };
        Stretches(Held::Any(Box::new(all)))
    }

    /// Reads into a list up to one that is recorded and ends beyond a tick, or that there are no more.
    pub(crate) fn read_beyond(&mut self, border: Tick, into: &mut Vec<Stretch>) -> bool {
        if let Held::Line(levels) = &mut self.0 {
            return levels.read_beyond(border, into);
        }
        for stretch in self {
            into.push(stretch);
            if stretch.recorded && stretch.end > border {
                return true;
            }
        }
        false
    }

    /// Where the search stands when there are no more of them before the end of the range.
    pub(in crate::event) fn standing(self) -> Standing {
        match self.0 {
            Held::Line(levels) => Standing { open: levels.open(), broken: None },
            Held::Any(merging) => Standing { open: merging.open, broken: merging.broken },
        }
    }
}

impl Merging<'_> {
    /// How often the condition may change its value within the doubt around `tick`, where it was looked at last, at
    /// the most: in any order of the edges there. One more than is worth counting where there are too many.
    fn most_changes(&self, tick: Tick) -> usize {
        let Some(window) = self.order.around(tick) else { return 1 };
        if self.order.reaches_outside(tick, self.capture.len()) {
            return usize::MAX;
        }
        if let Some(changes) = self.steps.most_changes(self.test, &window) {
            return changes;
        }
        let before = Tick(window.start.0.saturating_sub(1));
        let mut ways: Vec<Way> = Vec::new();
        for signal in &self.signals {
            let trace = self.capture.trace(*signal);
            let after = trace.edges(window.clone()).map(|edge| edge.to);
            let levels: Vec<Level> = std::iter::once(trace.level_at(before)).chain(after).collect();
            if levels.len() > 1 {
                ways.push(Way { signal: *signal, levels });
            }
        }
        if ways.len() <= 1 {
            return ways.first().map_or(0, |way| way.levels.len() - 1);
        }
        let states: usize =
            ways.iter().map(|way| way.levels.len()).try_fold(1, usize::checked_mul).unwrap_or(usize::MAX);
        let floats = ways.iter().any(|way| way.levels.contains(&Level::Floating));
        let settled = self.test.eval(&mut |signal| {
            let moves = ways.iter().any(|way| way.signal == signal);
            if moves { Level::Unknown } else { self.capture.trace(signal).level_at(tick) }
        });
        match settled {
            Some(_) if !floats => 0,
            _ if states > MOST_STATES => usize::MAX,
            _ => self.changes_over(&ways, states),
        }
    }

    /// The most changes of value on any way from all levels before to all levels after: a state is how far
    /// each signal has come, and one step moves one signal on.
    fn changes_over(&self, ways: &[Way], states: usize) -> usize {
        let mut found: Vec<(Option<bool>, usize)> = Vec::with_capacity(states);
        for state in 0..states {
            let mut rest = state;
            let places: Vec<usize> = ways
                .iter()
                .map(|way| {
                    let place = rest % way.levels.len();
                    rest /= way.levels.len();
                    place
                })
                .collect();
            let value = self.test.eval(&mut |signal| {
                let way = ways.iter().zip(&places).find(|(way, _)| way.signal == signal);
                way.map_or_else(|| self.steps.level(signal), |(way, place)| way.levels[*place])
            });
            let (mut stride, mut most) = (1, 0);
            for (way, place) in ways.iter().zip(&places) {
                if *place > 0 {
                    let (before, changes) = found[state - stride];
                    most = most.max(changes + usize::from(before != value));
                }
                stride *= way.levels.len();
            }
            found.push((value, most));
        }
        found.last().map_or(0, |(_, most)| *most)
    }

    /// Whether the condition, which shows no change around this tick, may have changed there and back.
    fn may_flicker(&self, tick: Tick) -> bool {
        self.doubt && self.most_changes(tick) > 1
    }

    fn doubtful_at(&self, tick: Tick) -> bool {
        self.signals.len() > 1 && self.most_changes(tick) > 1
    }

    /// Tells the piece of the open stretch since it may have been broken off, if it may.
    fn tell_rest(&mut self, end: Tick) {
        if let Some(broken) = self.broken.take() {
            self.told.push_back(Stretch::possible(broken, end));
        }
    }

    /// A place at which the condition keeps its value, but for a moment perhaps.
    fn flicker(&mut self, tick: Tick) {
        match &mut self.open {
            None => self.told.push_back(Stretch::possible(tick, tick)),
            Some(open) => {
                open.doubtful = true;
                let begin = self.broken.replace(tick).unwrap_or(open.start);
                // The piece up to here; what began before the record is no whole one.
                if open.begins || begin > open.start {
                    self.told.push_back(Stretch::possible(begin, tick));
                }
            }
        }
    }

    fn next(&mut self) -> Option<Stretch> {
        loop {
            if let Some(told) = self.told.pop_front() {
                return Some(told);
            }
            let Some(tick) = self.steps.step() else {
                let end = self.end?;
                return Some(Stretch { end, ..self.open.take()? });
            };
            let steps = &self.steps;
            let now = self.test.eval(&mut |l| steps.level(l));
            let before = std::mem::replace(&mut self.before, now);
            if before == now {
                if now.is_some() && self.may_flicker(tick) {
                    self.flicker(tick);
                }
                continue;
            }
            if now == Some(true) {
                let doubtful = self.doubtful_at(tick);
                if doubtful && self.doubt {
                    self.told.push_back(Stretch::possible(tick, tick));
                }
                let begins = before == Some(false);
                self.broken = None;
                self.open =
                    Some(Stretch { start: tick, end: tick, begins, ends: false, doubtful, recorded: true });
            } else if let Some(open) = self.open.take() {
                let here = self.doubtful_at(tick);
                self.tell_rest(tick);
                if here && self.doubt {
                    self.told.push_back(Stretch::possible(tick, tick));
                }
                let doubtful = open.doubtful || here;
                return Some(Stretch { end: tick, ends: now == Some(false), doubtful, ..open });
            }
        }
    }
}

/// The beginnings of stretches, in order of time: recorded ones, and such as may have happened.
impl Stretches<'_> {
    pub(super) fn next_start(&mut self) -> Option<Hit> {
        match &mut self.0 {
            Held::Any(merging) => merging.next_start(),
            Held::Line(levels) => levels.next_start(),
        }
    }
}

impl Merging<'_> {
    fn next_start(&mut self) -> Option<Hit> {
        loop {
            let tick = self.steps.step()?;
            let steps = &self.steps;
            let now = self.test.eval(&mut |l| steps.level(l));
            let before = std::mem::replace(&mut self.before, now);
            let certainty = match (before, now) {
                (Some(false), Some(true)) if !self.doubtful_at(tick) => Certainty::Certain,
                (Some(false), Some(true)) => Certainty::Doubtful,
                (_, Some(true)) if before != now => Certainty::Possible,
                // There and back, in a moment.
                (Some(_), Some(_)) if self.signals.len() > 1 && self.most_changes(tick) > 1 => {
                    Certainty::Possible
                }
                _ => continue,
            };
            return Some(Hit { tick, certainty });
        }
    }
}

/// A signal that moves within the doubt around a tick: its levels, one after the other.
struct Way {
    signal: Signal,
    levels: Vec<Level>,
}

/// Orders of edges that are looked at: with more, any may have happened.
const MOST_STATES: usize = 256;

impl Iterator for Stretches<'_> {
    type Item = Stretch;

    fn next(&mut self) -> Option<Stretch> {
        match &mut self.0 {
            Held::Any(merging) => merging.next(),
            Held::Line(levels) => levels.next(),
        }
    }
}
