//! Finding the occurrences of an event in a capture.
//!
//! An occurrence is found where the *recorded* levels say so. Because a sampled record does not
//! know the order of edges that are closer than a sample (plus skew), some occurrences are
//! doubtful: they may not have happened, or one may have happened that the record does not show.
//! Verdicts ask for these too ([`Program::hits_with_doubt`]); searches do not.

use std::ops::Range;

use serde::Serialize;

use super::ast::{Direction, Lasting};
use super::condition::Test3;
use super::engine::{Hits, Marks};
use super::program::{Form, Program, Tree};
use crate::capture::{Capture, Merged};
use crate::known::{Instants, Order, Precision, Rule, Span};
use crate::line::{Level, Signal};
use crate::time::{Tick, Voltage};

/// How sure it is that an occurrence really happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Certainty {
    /// It happened.
    Certain,
    /// The record shows it, but within the uncertainty of the record it may not have happened.
    Doubtful,
    /// The record does not show it, but within its uncertainty it may have happened.
    Possible,
}

/// One occurrence of an event.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Hit {
    /// The tick at which it is seen.
    pub tick: Tick,
    /// How sure it is.
    pub certainty: Certainty,
}

impl Hit {
    /// Whether it certainly happened.
    #[inline]
    pub fn is_certain(&self) -> bool {
        self.certainty == Certainty::Certain
    }

    /// Whether the record shows it.
    pub fn is_recorded(&self) -> bool {
        self.certainty != Certainty::Possible
    }
}

impl Program {
    /// The occurrences that the record shows, with ticks in `range`, in order of time.
    ///
    /// What happens at the end of the range does not depend on what comes after it. The instants
    /// are those of `docs/events.md`.
    pub fn hits<'a>(&self, capture: &'a Capture, range: Range<Tick>) -> Hits<'a> {
        Hits::new(self, capture, range)
    }

    /// All occurrences, also those that may only have happened; see [`Certainty`]. Of an event that is
    /// not [simple](Program::is_simple), those that the record shows: certain in an exact record whose
    /// levels are all known, doubtful in any other, which may hide more of them.
    pub fn hits_with_doubt<'a>(&'a self, capture: &'a Capture, range: Range<Tick>) -> DoubtfulHits<'a> {
        DoubtfulHits::new(self, capture, range)
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
    order: Order,
    merged: Merged<'a>,
    open: Option<Stretch>,
    before: Option<bool>,
    end: Tick,
}

impl<'a> Stretches<'a> {
    pub(crate) fn new(capture: &'a Capture, test: &'a Test3, range: Range<Tick>) -> Self {
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

/// How sure occurrences of several parts are: in an exact record without unknown levels there is no
/// other order that edges could have had.
fn recorded_certainty(program: &Program, capture: &Capture) -> Certainty {
    let known = || program.signals().iter().all(|line| !capture.trace(*line).is_ever_unknown());
    match Precision::of(capture, Rule::Proven).is_exact() && known() {
        true => Certainty::Certain,
        false => Certainty::Doubtful,
    }
}

/// What must hold at the instant of an event, and how sure that is.
#[derive(Debug)]
struct Guard<'a> {
    capture: &'a Capture,
    test: &'a Test3,
    signals: Vec<Signal>,
    order: Order,
}

impl Guard<'_> {
    /// Whether it holds at `tick`, and whether that is certain.
    fn at(&self, tick: Tick) -> (Option<bool>, bool) {
        let value = |t: Tick| self.test.eval(&mut |signal| self.capture.trace(signal).level_at(t));
        let now = value(tick);
        let Some(window) = self.order.around(tick) else { return (now, true) };
        let edges = |signal: &Signal| self.capture.trace(*signal).edges(window.clone());
        let mut changes = self.signals.iter().flat_map(edges).map(|edge| edge.tick).peekable();
        if changes.peek().is_none() {
            return (now, true);
        }
        let before = value(Tick(window.start.0.saturating_sub(1)));
        (now, before == now && changes.all(|t| value(t) == now))
    }
}

/// The occurrences of an event, with how sure they are. Made by [`Program::hits_with_doubt`].
#[derive(Debug)]
pub struct DoubtfulHits<'a> {
    capture: &'a Capture,
    source: Source<'a>,
    guard: Option<Guard<'a>>,
    from: Tick,
}

#[derive(Debug)]
enum Source<'a> {
    /// Edges of lines that are never unknown: the `while` is dealt with already.
    Marks(Marks<'a>),
    Edges(Merged<'a>, &'a Form),
    Starts(Stretches<'a>),
    Lasting(Stretches<'a>, Lengths),
    /// Anything that is not simple: the recorded occurrences, each of them as sure as this.
    Recorded(Hits<'a>, Certainty),
}

impl<'a> DoubtfulHits<'a> {
    fn new(program: &'a Program, capture: &'a Capture, range: Range<Tick>) -> Self {
        let from = range.start;
        let plain = |source| DoubtfulHits { capture, source, guard: None, from };
        if let Some(marks) = Marks::new(program, capture, range.clone()) {
            return plain(Source::Marks(marks));
        }
        let recorded = |range| {
            let certainty = recorded_certainty(program, capture);
            plain(Source::Recorded(program.hits(capture, range), certainty))
        };
        let Tree::Simple(form) = &program.root.tree else { return recorded(range) };
        let source = match form {
            Form::Edge(signal, _) => Source::Edges(Merged::new(capture, &[*signal], range), form),
            Form::Changes(signals) => Source::Edges(Merged::new(capture, signals, range), form),
            // A stretch may have begun before the range.
            Form::When(test) => Source::Starts(Stretches::new(capture, test, Tick(0)..range.end)),
            Form::Lasting(test, lasting) => {
                let stretches = Stretches::new(capture, test, Tick(0)..range.end);
                Source::Lasting(stretches, Lengths::new(*lasting, test, capture))
            }
            Form::Frame(_) => return recorded(range),
        };
        let guard = program.root.guard.as_ref().map(|test| {
            let precision = Precision::of(capture, Rule::Proven);
            let order = precision.order(&program.signals(), program.level_error());
            Guard { capture, test, signals: test.signals(), order }
        });
        DoubtfulHits { capture, source, guard, from }
    }

    /// The next occurrence of the event itself, before its `while` is asked.
    fn candidate(&mut self) -> Option<Hit> {
        match &mut self.source {
            Source::Marks(marks) => marks.next(),
            Source::Recorded(hits, certainty) => {
                let certainty = *certainty;
                hits.next().map(|hit| Hit { certainty, ..hit })
            }
            Source::Edges(merged, form) => loop {
                let before = merged.levels().first().copied();
                let tick = merged.step()?;
                let certainty = match form {
                    Form::Edge(_, direction) => {
                        edge_certainty(*direction, before, merged.levels().first().copied())
                    }
                    _ if merged.levels().contains(&Level::Unknown) => Some(Certainty::Doubtful),
                    _ => Some(Certainty::Certain),
                };
                if let Some(certainty) = certainty {
                    return Some(Hit { tick, certainty });
                }
            },
            Source::Lasting(stretches, lengths) => loop {
                let stretch = stretches.next()?;
                if let Some(hit) = lengths.hit(&stretch) {
                    return Some(hit);
                }
            },
            Source::Starts(stretches) => loop {
                let stretch = stretches.next()?;
                let certainty = match (stretch.begins, stretch.doubtful) {
                    (true, false) => Certainty::Certain,
                    (true, true) => Certainty::Doubtful,
                    (false, _) if stretch.start.0 == 0 => continue,
                    (false, _) => Certainty::Possible,
                };
                return Some(Hit { tick: stretch.start, certainty });
            },
        }
    }
}

/// Whether a change of one line is the edge asked for; `None` when certainly not.
fn edge_certainty(direction: Direction, from: Option<Level>, to: Option<Level>) -> Option<Certainty> {
    let (from, to) = (from?, to?);
    let (start, end) = match direction {
        Direction::Rises => (Level::Low, Level::High),
        Direction::Falls => (Level::High, Level::Low),
        Direction::Changes => return Some(Certainty::Certain),
    };
    match (from, to) {
        _ if from == start && to == end => Some(Certainty::Certain),
        (Level::Unknown, _) if to == end => Some(Certainty::Possible),
        (_, Level::Unknown) if from == start => Some(Certainty::Possible),
        _ => None,
    }
}

/// Which lengths of a stretch, in counted ticks, make an occurrence of `for`.
#[derive(Clone, Copy, Debug)]
enum Lengths {
    /// Longer than a time; happens so many ticks after the start.
    Over {
        /// The first whole number of ticks that is longer.
        ticks: i64,
        /// Certainly longer from here on, if it ends.
        certain_from: i64,
        /// Possibly longer from here on.
        possible_from: i64,
    },
    /// In a range; happens at the end.
    Within {
        /// As counted, both included.
        counted: (i64, i64),
        /// Certainly in it.
        certain: (i64, i64),
        /// Possibly in it.
        possible: (i64, i64),
    },
    /// No record is long enough to tell.
    Never,
}

impl Lengths {
    fn new(lasting: Lasting, test: &Test3, capture: &Capture) -> Self {
        let ends = Instants::edges(test.signals());
        let span = Precision::of(capture, Rule::Proven).among(&ends);
        Lengths::of(lasting, &Span::exact(capture.base()), &span).unwrap_or(Lengths::Never)
    }

    /// `counted` sees the ticks as they are, `known` what they say.
    fn of(lasting: Lasting, counted: &Span, known: &Span) -> Option<Self> {
        Some(match lasting {
            Lasting::Over(time) => Lengths::Over {
                ticks: counted.first_certainly_above(time)?,
                certain_from: known.first_certainly_above(time)?,
                possible_from: known.last_certainly_at_most(time)?.saturating_add(1),
            },
            Lasting::Under(time) => Lengths::Within {
                counted: (0, counted.last_certainly_below(time)?),
                certain: (0, known.last_certainly_below(time)?),
                possible: (0, known.first_certainly_at_least(time)?.saturating_sub(1)),
            },
            Lasting::Between(least, most) => Lengths::Within {
                counted: (counted.first_certainly_at_least(least)?, counted.last_certainly_at_most(most)?),
                certain: (known.first_certainly_at_least(least)?, known.last_certainly_at_most(most)?),
                possible: (
                    known.last_certainly_below(least)?.saturating_add(1),
                    known.first_certainly_above(most)?.saturating_sub(1),
                ),
            },
        })
    }

    /// The occurrence that a stretch makes, if it makes one.
    fn hit(self, stretch: &Stretch) -> Option<Hit> {
        let length = stretch.end.since(stretch.start);
        let sure = |surely: bool| match surely && !stretch.doubtful {
            true => Certainty::Certain,
            false => Certainty::Doubtful,
        };
        let within = |(least, most): (i64, i64)| (least..=most).contains(&length);
        match self {
            Lengths::Over { ticks, certain_from, possible_from } => {
                // Where its end is not recorded, it must still be seen to hold at that tick.
                let reached = if stretch.ends { ticks <= length } else { ticks < length };
                if reached {
                    let certainty = sure(length >= certain_from || !stretch.ends);
                    return Some(Hit { tick: stretch.start.offset(ticks), certainty });
                }
                let may = length >= possible_from || !stretch.begins || stretch.doubtful;
                may.then_some(Hit { tick: stretch.end, certainty: Certainty::Possible })
            }
            Lengths::Within { counted, certain, possible } if stretch.ends => {
                let certainty = match within(counted) && stretch.begins {
                    true => sure(within(certain)),
                    false if within(counted) || within(possible) => Certainty::Possible,
                    false => return None,
                };
                Some(Hit { tick: stretch.end, certainty })
            }
            Lengths::Within { .. } | Lengths::Never => None,
        }
    }
}

impl Iterator for DoubtfulHits<'_> {
    type Item = Hit;

    #[inline]
    fn next(&mut self) -> Option<Hit> {
        match &mut self.source {
            Source::Marks(marks) => marks.next(),
            _ => self.next_asked(),
        }
    }
}

impl DoubtfulHits<'_> {
    /// The next occurrence, its `while` being asked here.
    fn next_asked(&mut self) -> Option<Hit> {
        loop {
            let mut hit = self.candidate()?;
            if hit.tick < self.from || hit.tick.0 >= self.capture.len() {
                continue;
            }
            if let Some(guard) = &self.guard {
                let (holds, sure) = guard.at(hit.tick);
                hit.certainty = match (hit.certainty, holds) {
                    (Certainty::Certain, Some(true)) if sure => Certainty::Certain,
                    (Certainty::Certain | Certainty::Doubtful, Some(true)) => Certainty::Doubtful,
                    (_, Some(false)) if sure => continue,
                    _ => Certainty::Possible,
                };
            }
            return Some(hit);
        }
    }
}
