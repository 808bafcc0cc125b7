//! All occurrences of an event, also those that may only have happened.

use std::iter::Peekable;
use std::ops::Range;

use super::frames::Framed;
use super::lengths::Lengths;
use super::marks::Marks;
use super::sequence::Sequenced;
use super::stretches::{Stretches, settled};
use crate::capture::{Capture, Merged};
use crate::event::check::{Form, Test3, Tree};
use crate::event::hit::{Certainty, Hit};
use crate::event::run::Hits;
use crate::event::syntax::Direction;
use crate::event::timed::TimedProgram;
use crate::known::{Precedence, Precision, Rule};
use crate::line::Level;
use crate::time::Tick;

impl TimedProgram {
    /// All occurrences, also those that may only have happened; see [`Certainty`]. Of an
    /// event with [states](crate::event::Program::has_states), those that the record shows: certain in an exact
    /// record whose levels are all known, doubtful in any other, which may hide more of them.
    pub fn hits_with_doubt<'a>(&'a self, capture: &'a Capture, range: Range<Tick>) -> DoubtfulHits<'a> {
        DoubtfulHits::new(self, capture, range)
    }
}

/// How sure occurrences of several parts are: in an exact record without unknown levels there is no
/// other order that edges could have had.
fn recorded_certainty(program: &TimedProgram, capture: &Capture) -> Certainty {
    let known = || program.signals().iter().all(|line| !capture.trace(*line).is_ever_unknown());
    match Precision::of(capture, Rule::Proven).is_exact() && known() {
        true => Certainty::Certain,
        false => Certainty::Doubtful,
    }
}

/// What must hold at the instant of an event, and how sure that is.
#[derive(Debug)]
pub(super) struct Guard<'a> {
    capture: &'a Capture,
    test: &'a Test3,
    order: Precedence,
}

impl Guard<'_> {
    /// Whether it holds at `tick`, and whether that is certain.
    fn at(&self, tick: Tick) -> (Option<bool>, bool) {
        match settled(self.test, self.capture, tick, self.order) {
            Some(holds) => (Some(holds), true),
            None => (self.test.eval(&mut |signal| self.capture.trace(signal).level_at(tick)), false),
        }
    }
}

/// The occurrences of an event, with how sure they are. Made by [`TimedProgram::hits_with_doubt`](crate::event::TimedProgram::hits_with_doubt).
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
    Edges(Merged<'a>, &'a Form<u64>),
    Starts(Stretches<'a>),
    Lasting(Stretches<'a>, Lengths),
    /// Frames and instants of a bus.
    Framed(Box<Framed<'a>>),
    /// Several alternatives.
    Any(Vec<Peekable<DoubtfulHits<'a>>>),
    /// One event after another.
    Sequenced(Box<Sequenced<DoubtfulHits<'a>, Hits<'a>>>),
    /// A state machine: the recorded occurrences, each of them as sure as this.
    Recorded(Hits<'a>, Certainty),
}

impl<'a> DoubtfulHits<'a> {
    pub(in crate::event) fn new(program: &'a TimedProgram, capture: &'a Capture, range: Range<Tick>) -> Self {
        let from = range.start;
        let plain = |source| DoubtfulHits { capture, source, guard: None, from };
        if let Some(marks) = Marks::new(program, capture, range.clone()) {
            return plain(Source::Marks(marks));
        }
        let recorded = |range| {
            let certainty = recorded_certainty(program, capture);
            plain(Source::Recorded(program.hits(capture, range), certainty))
        };
        let certain = recorded_certainty(program, capture) == Certainty::Certain;
        let form = match &program.root().tree {
            Tree::Simple(form) => Some(form),
            _ if certain || program.program().has_states() => return recorded(range),
            Tree::Any(_) | Tree::Sequence(_) | Tree::Machine(_) => None,
        };
        let parts = |range: Range<Tick>| -> Vec<DoubtfulHits<'a>> {
            program.parts().iter().map(|part| part.hits_with_doubt(capture, range.clone())).collect()
        };
        let Some(form) = form else {
            let source = match &program.root().tree {
                Tree::Any(_) => Source::Any(parts(range).into_iter().map(Iterator::peekable).collect()),
                // A sequence has a past.
                _ => {
                    let (end, all) = (range.end.min(capture.end()), Tick(0)..range.end);
                    let shown = program.hits(capture, all.clone());
                    match Sequenced::new(program, capture, end, parts(all), shown) {
                        Some(sequenced) => Source::Sequenced(Box::new(sequenced)),
                        None => return recorded(range),
                    }
                }
            };
            return DoubtfulHits { capture, source, guard: guard_of(program, capture), from };
        };
        let source = match form {
            Form::Edge(signal, _) => Source::Edges(Merged::new(capture, &[*signal], range), form),
            Form::Changes(signals) => Source::Edges(Merged::new(capture, signals, range), form),
            Form::When(test) => Source::Starts(Stretches::new(capture, test, range, true)),
            // A stretch may have begun before the range.
            Form::Lasting(test, _) => {
                let stretches = Stretches::new(capture, test, Tick(0)..range.end, false);
                let lengths = program.program().lasting().map(|lasting| Lengths::new(lasting, test, capture));
                Source::Lasting(stretches, lengths.unwrap_or(Lengths::Never))
            }
            Form::Frame(form) => match Framed::new(form, capture, range.clone()) {
                Some(framed) => Source::Framed(Box::new(framed)),
                None => return recorded(range),
            },
        };
        DoubtfulHits { capture, source, guard: guard_of(program, capture), from }
    }

    /// The next occurrence of the event itself, before its `while` is asked.
    fn candidate(&mut self) -> Option<Hit> {
        match &mut self.source {
            Source::Marks(marks) => marks.next(),
            Source::Recorded(hits, certainty) => {
                let certainty = *certainty;
                hits.next().map(|hit| Hit { certainty, ..hit })
            }
            Source::Framed(framed) => framed.next(),
            Source::Any(any) => next_of_any(any),
            Source::Sequenced(sequenced) => sequenced.next(),
            Source::Edges(merged, form) => loop {
                let before = merged.levels().first().copied();
                let tick = merged.step()?;
                let certainty = match form {
                    // What was never known before is only found out.
                    Form::Edge(signal, Direction::Rises | Direction::Falls)
                        if before == Some(Level::Unknown)
                            && self.capture.trace(*signal).count(Tick(0)..tick) == 0 =>
                    {
                        None
                    }
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
                let hit = stretches.next_start()?;
                if hit.tick.0 > 0 {
                    return Some(hit);
                }
            },
        }
    }
}

/// What must hold at the instants of a program.
pub(super) fn guard_of<'a>(program: &'a TimedProgram, capture: &'a Capture) -> Option<Guard<'a>> {
    let test = program.root().guard.as_ref()?;
    let precision = Precision::of(capture, Rule::Proven);
    let order = precision.order(&program.signals(), program.program().level_error());
    Some(Guard { capture, test, order })
}

/// The next occurrence of several alternatives: as sure as the surest of those at its tick.
pub(super) fn next_of_any(any: &mut [Peekable<impl Iterator<Item = Hit>>]) -> Option<Hit> {
    let tick = any.iter_mut().filter_map(|hits| hits.peek()).map(|hit| hit.tick).min()?;
    let rank = |certainty: &Certainty| match certainty {
        Certainty::Certain => 2,
        Certainty::Doubtful => 1,
        Certainty::Possible => 0,
    };
    let here = any.iter_mut().filter_map(|hits| hits.next_if(|hit| hit.tick == tick));
    let certainty = here.map(|hit| hit.certainty).max_by_key(rank)?;
    Some(Hit { tick, certainty })
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
            let hit = self.candidate()?;
            if hit.tick < self.from || hit.tick.0 >= self.capture.len() {
                continue;
            }
            match &self.guard {
                None => return Some(hit),
                Some(guard) => {
                    if let Some(hit) = sorted_out(guard, hit) {
                        return Some(hit);
                    }
                }
            }
        }
    }
}

/// An occurrence with how sure its `while` makes it; `None` where that certainly does not hold.
pub(super) fn sorted_out(guard: &Guard<'_>, hit: Hit) -> Option<Hit> {
    let (holds, sure) = guard.at(hit.tick);
    let certainty = match (hit.certainty, holds) {
        (Certainty::Certain, Some(true)) if sure => Certainty::Certain,
        (Certainty::Certain | Certainty::Doubtful, Some(true)) => Certainty::Doubtful,
        (_, Some(false)) if sure => return None,
        _ => Certainty::Possible,
    };
    Some(Hit { certainty, ..hit })
}
