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
use crate::line::{Level, LineId};
use crate::time::{Resolution, Tick, Time, TimeBase};

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

    /// Ticks by which the true instant of an occurrence may precede its tick: one for an edge of
    /// a sampled record, one more where a duration ends between ticks.
    pub fn early(&self, resolution: &Resolution) -> u32 {
        let ends_between = match &self.root.tree {
            Tree::Simple(form) => matches!(form, Form::Lasting(_, Lasting::Over(_)) | Form::Frame(_)),
            Tree::Any(_) | Tree::Sequence(_) | Tree::Machine(_) => true,
        };
        resolution.quantum() + u32::from(ends_between)
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
    lines: Vec<LineId>,
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
        let lines = test.lines();
        let merged = Merged::new(capture, &lines, later);
        let before = test.eval(&mut |l| merged.level(l));
        let open = open(before == Some(true));
        Stretches(Held::Any(Merging { capture, test, lines, merged, open, before, end }))
    }
}

impl Merging<'_> {
    fn doubtful_at(&self, tick: Tick) -> bool {
        self.lines.len() > 1 && !is_clean_step(self.capture, self.test, &self.lines, tick)
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

/// Ticks around `tick` within which the order of edges is not certain; `None` when it always is.
fn doubt_window(capture: &Capture, tick: Tick) -> Option<Range<Tick>> {
    let resolution = capture.resolution();
    let window = resolution.order_window(capture.base()).unwrap_or(u64::MAX / 4);
    if window == 0 && !resolution.sampled {
        return None;
    }
    Some(Tick(tick.0.saturating_sub(window))..Tick(tick.0.saturating_add(window).saturating_add(1)))
}

/// How sure occurrences of several parts are: in an exact record without unknown levels there is no
/// other order that edges could have had.
fn recorded_certainty(program: &Program, capture: &Capture) -> Certainty {
    let known = || program.lines().iter().all(|line| !capture.trace(*line).is_ever_unknown());
    match capture.resolution().is_exact() && known() {
        true => Certainty::Certain,
        false => Certainty::Doubtful,
    }
}

/// Whether a condition changes its value exactly once within the doubt around `tick`: then it is
/// certain that it changed, whatever the true order of the edges there.
fn is_clean_step(capture: &Capture, test: &Test3, lines: &[LineId], tick: Tick) -> bool {
    let Some(window) = doubt_window(capture, tick) else { return true };
    let mut ticks: Vec<Tick> =
        lines.iter().flat_map(|l| capture.trace(*l).edges(window.clone())).map(|e| e.tick).collect();
    if ticks.len() <= 1 {
        return true;
    }
    ticks.push(Tick(window.start.0.saturating_sub(1)));
    ticks.sort_unstable();
    ticks.dedup();
    let value = |t: &Tick| test.eval(&mut |l| capture.trace(l).level_at(*t));
    let values: Vec<_> = ticks.iter().map(value).collect();
    values.windows(2).filter(|pair| pair[0] != pair[1]).count() <= 1
}

/// Whether a `while` holds at `tick`, and whether that is certain.
fn guard_at(capture: &Capture, guard: &Test3, lines: &[LineId], tick: Tick) -> (Option<bool>, bool) {
    let value = |t: Tick| guard.eval(&mut |l| capture.trace(l).level_at(t));
    let now = value(tick);
    let Some(window) = doubt_window(capture, tick) else { return (now, true) };
    let changes = lines.iter().flat_map(|l| capture.trace(*l).edges(window.clone())).map(|e| e.tick);
    let mut changes = changes.peekable();
    if changes.peek().is_none() {
        return (now, true);
    }
    let before = value(Tick(window.start.0.saturating_sub(1)));
    (now, before == now && changes.all(|t| value(t) == now))
}

/// The occurrences of an event, with how sure they are. Made by [`Program::hits_with_doubt`].
#[derive(Debug)]
pub struct DoubtfulHits<'a> {
    capture: &'a Capture,
    source: Source<'a>,
    guard: Option<&'a Test3>,
    guard_lines: Vec<LineId>,
    from: Tick,
}

#[derive(Debug)]
enum Source<'a> {
    /// Edges of lines that are never unknown: the `while` is dealt with already.
    Marks(Marks<'a>),
    Edges(Merged<'a>, &'a Form),
    Stretches(Stretches<'a>, &'a Form),
    /// Anything that is not simple: the recorded occurrences, each of them as sure as this.
    Recorded(Hits<'a>, Certainty),
}

impl<'a> DoubtfulHits<'a> {
    fn new(program: &'a Program, capture: &'a Capture, range: Range<Tick>) -> Self {
        let from = range.start;
        if let Some(marks) = Marks::new(program, capture, range.clone()) {
            let source = Source::Marks(marks);
            return DoubtfulHits { capture, source, guard: None, guard_lines: Vec::new(), from };
        }
        let Tree::Simple(form) = &program.root.tree else {
            let source = Source::Recorded(program.hits(capture, range), recorded_certainty(program, capture));
            return DoubtfulHits { capture, source, guard: None, guard_lines: Vec::new(), from };
        };
        let source = match form {
            Form::Edge(line, _) => Source::Edges(Merged::new(capture, &[*line], range), form),
            Form::Changes(lines) => Source::Edges(Merged::new(capture, lines, range), form),
            // A stretch may have begun before the range.
            Form::When(test) | Form::Lasting(test, _) => {
                Source::Stretches(Stretches::new(capture, test, Tick(0)..range.end), form)
            }
            Form::Frame(_) => {
                Source::Recorded(program.hits(capture, range), recorded_certainty(program, capture))
            }
        };
        let guard = program.root.guard.as_ref();
        let guard_lines = guard.map(Test3::lines).unwrap_or_default();
        DoubtfulHits { capture, source, guard, guard_lines, from }
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
            Source::Stretches(stretches, form) => loop {
                let stretch = stretches.next()?;
                if let Form::Lasting(_, lasting) = form {
                    match lasting_hit(self.capture, *lasting, &stretch) {
                        Some(hit) => return Some(hit),
                        None => continue,
                    }
                }
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

/// The occurrence of `for` that a stretch makes, if it makes one.
fn lasting_hit(capture: &Capture, lasting: Lasting, stretch: &Stretch) -> Option<Hit> {
    let base = capture.base();
    let quantum = u64::from(capture.resolution().quantum());
    let length = stretch.end.0 - stretch.start.0;
    let doubt =
        |surely: bool| if surely && !stretch.doubtful { Certainty::Certain } else { Certainty::Doubtful };
    match lasting {
        Lasting::Over(time) => {
            let over = ticks_over(base, time)?;
            let at = stretch.start.0.checked_add(over)?;
            // Where its end is not recorded, it must still be seen to hold at that tick.
            let reached = if stretch.ends { over <= length } else { over < length };
            if reached {
                return Some(Hit {
                    tick: Tick(at),
                    certainty: doubt(over + quantum <= length || !stretch.ends),
                });
            }
            let may = length + quantum >= over && quantum > 0;
            (may || !stretch.begins || stretch.doubtful)
                .then_some(Hit { tick: stretch.end, certainty: Certainty::Possible })
        }
        Lasting::Under(_) | Lasting::Between(..) => {
            if !stretch.ends {
                return None;
            }
            let inside = |ticks: u64| -> Option<bool> {
                let length = base.length_of(i64::try_from(ticks).ok()?);
                Some(match lasting {
                    Lasting::Under(most) => length < most,
                    Lasting::Between(least, most) => least <= length && length <= most,
                    Lasting::Over(_) => false,
                })
            };
            let neighbours = [inside(length.saturating_sub(quantum))?, inside(length + quantum)?];
            match inside(length)? {
                true if stretch.begins => {
                    Some(Hit { tick: stretch.end, certainty: doubt(neighbours == [true, true]) })
                }
                now if now || neighbours.contains(&true) => {
                    Some(Hit { tick: stretch.end, certainty: Certainty::Possible })
                }
                _ => None,
            }
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
            if let Some(guard) = self.guard {
                let (holds, sure) = guard_at(self.capture, guard, &self.guard_lines, hit.tick);
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

/// Ticks after the start of a stretch at which it has lasted longer than `time`; `None` when that
/// does not fit into a record.
fn ticks_over(base: TimeBase, time: Time) -> Option<u64> {
    let ticks = base.ticks_in(time)?.floor().checked_add(1)?;
    u64::try_from(ticks).ok()
}
