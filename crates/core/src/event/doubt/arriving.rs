//! Marks and stretches of a record that goes on.
//!
//! What is given out up to a tick is what a search of the whole record gives there: so much of the record must be
//! known behind that tick as the order of edges may be open, and so much must be kept before it as is
//! [asked for](MarkReader::needs_from).

use std::collections::VecDeque;
use std::fmt;
use std::iter::Peekable;

use super::ahead::Arrived;
use super::frames::Found;
use super::hits::{guard_of, next_of_any, sorted_out};
use super::lengths::Lengths;
use super::sequence::Sequenced;
use super::stretch::Stretch;
use super::stretches::{Standing, Stretches};
use super::words::gathered;
use crate::capture::Capture;
use crate::decode::Onward;
use crate::error::Result;
use crate::event::check::{ConditionProgram, Form, Test3, Tree};
use crate::event::hit::{Certainty, Hit, MarkWord};
use crate::event::run::HitReader;
use crate::event::timed::TimedProgram;
use crate::known::{Precision, Rule};
use crate::line::Signal;
use crate::quantity::Voltage;
use crate::time::Tick;

/// Reads the marks of an event in a record that goes on.
#[derive(Debug)]
pub(crate) struct MarkReader {
    program: TimedProgram,
    source: Source,
    read: Tick,
}

enum Source {
    /// What has no past: edges, and where a condition becomes true.
    Instants,
    Lasting(Test3, Standing, Lengths),
    Framed(Box<(Onward, Found)>),
    /// Several alternatives, with what was read of each beyond what is known of all.
    Any(Vec<(MarkReader, VecDeque<Hit>)>),
    Sequence(Box<SequenceReader>),
    /// A state machine: what the record shows.
    Recorded(Box<HitReader>),
}

/// One event after another.
struct SequenceReader {
    parts: Vec<MarkReader>,
    recorded: HitReader,
    attempts: Sequenced<Arrived, Arrived>,
    known: Tick,
}

impl SequenceReader {
    /// `None` where a time in it cannot be compared.
    fn new(program: &TimedProgram, capture: &Capture) -> Result<Option<Self>> {
        let parts = program.parts().iter().map(|part| MarkReader::new(part, capture));
        let parts = parts.collect::<Result<Vec<MarkReader>>>()?;
        let arrived = parts.iter().map(|_| Arrived::default()).collect();
        let attempts = Sequenced::new(program, capture, Tick(u64::MAX), arrived, Arrived::default());
        let (recorded, known) = (HitReader::new(program), Tick(0));
        Ok(attempts.map(|attempts| SequenceReader { parts, recorded, attempts, known }))
    }

    fn read(&mut self, program: &TimedProgram, capture: &Capture, to: Tick, ended: bool) -> (Vec<Hit>, Tick) {
        let parts: Vec<(Vec<Hit>, Tick)> =
            self.parts.iter_mut().map(|part| part.hits(capture, to, ended)).collect();
        let known = parts.iter().map(|(_, known)| *known).min().unwrap_or(to);
        let recorded = self.recorded.read(program, capture, to);
        let parts = parts.into_iter().map(|(hits, _)| hits).collect();
        let (hits, known) = self.attempts.read(parts, recorded, known, ended.then_some(to));
        self.known = known;
        (hits, known)
    }
}

impl fmt::Debug for Source {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Source::Instants => "Instants",
            Source::Lasting(..) => "Lasting",
            Source::Framed(_) => "Framed",
            Source::Any(_) => "Any",
            Source::Sequence(_) => "Sequence",
            Source::Recorded(_) => "Recorded",
        })
    }
}

impl MarkReader {
    /// Reads a record like this, which is sampled, from its first tick on.
    ///
    /// # Errors
    /// When a bus cannot be decoded.
    pub(crate) fn new(program: &TimedProgram, capture: &Capture) -> Result<Self> {
        let source = match &program.root().tree {
            _ if program.program().has_states() => Source::Recorded(Box::new(HitReader::new(program))),
            Tree::Simple(Form::Edge(..) | Form::Changes(_) | Form::When(_)) => Source::Instants,
            Tree::Simple(Form::Lasting(test, _)) => {
                let lengths = program.program().lasting().map(|lasting| Lengths::new(lasting, test, capture));
                Source::Lasting(test.clone(), Standing::default(), lengths.unwrap_or(Lengths::Never))
            }
            Tree::Simple(Form::Frame(form)) => {
                Source::Framed(Box::new((form.onward(capture)?, Found::new(form, Tick(0)..Tick(u64::MAX)))))
            }
            Tree::Any(_) => {
                let parts = program.parts().iter().map(|part| MarkReader::new(part, capture));
                let parts = parts.map(|part| Ok((part?, VecDeque::new())));
                Source::Any(parts.collect::<Result<_>>()?)
            }
            Tree::Sequence(_) => match SequenceReader::new(program, capture)? {
                Some(sequence) => Source::Sequence(Box::new(sequence)),
                None => Source::Recorded(Box::new(HitReader::new(program))),
            },
            Tree::Machine(_) => Source::Recorded(Box::new(HitReader::new(program))),
        };
        Ok(MarkReader { program: program.clone(), source, read: Tick(0) })
    }

    /// The marks up to a tick that have not been given yet, and the tick before which no further one lies;
    /// `ended` says whether the record ends there.
    pub(crate) fn read(&mut self, capture: &Capture, to: Tick, ended: bool) -> (Vec<MarkWord>, Tick) {
        if let Source::Instants = self.source {
            let from = std::mem::replace(&mut self.read, to);
            let mut words = Vec::new();
            self.program.marks(capture, from..to, Rule::Proven).read_before(Tick(u64::MAX), &mut words);
            return (words, to);
        }
        let (mut hits, known) = self.hits(capture, to, ended);
        // What these leave open is for their user to say.
        if self.program.program().has_states() {
            hits.iter_mut().for_each(|hit| hit.certainty = Certainty::Certain);
        }
        let mut hits = hits.into_iter().peekable();
        (std::iter::from_fn(|| gathered(&mut hits)).collect(), known)
    }

    fn hits(&mut self, capture: &Capture, to: Tick, ended: bool) -> (Vec<Hit>, Tick) {
        let from = std::mem::replace(&mut self.read, to);
        let (hits, known) = match &mut self.source {
            Source::Instants => {
                return (self.program.hits_with_doubt(capture, from..to).collect(), to);
            }
            Source::Lasting(test, standing, lengths) => {
                let before = (std::mem::take(standing), ended);
                let mut stretches = Stretches::resume(capture, test, from..to, false, before);
                let hits = stretches.by_ref().filter_map(|stretch| lengths.hit(&stretch)).collect();
                *standing = stretches.standing();
                (hits, standing.open().map_or(to, |open| open.start))
            }
            Source::Framed(framed) => {
                let (onward, found) = &mut **framed;
                // The sink never says stop.
                let _ = onward.read(capture, to, ended, found);
                (found.taken(), found.known())
            }
            Source::Any(parts) => {
                let mut known = to;
                for (part, ready) in parts.iter_mut() {
                    let (hits, until) = part.hits(capture, to, ended);
                    ready.extend(hits);
                    known = known.min(until);
                }
                (alternatives(parts, if ended { Tick(u64::MAX) } else { known }), known)
            }
            Source::Sequence(sequence) => sequence.read(&self.program, capture, to, ended),
            Source::Recorded(hits) => {
                let hits = hits.read(&self.program, capture, to);
                // What must hold is part of it.
                let hits =
                    hits.into_iter().map(|hit| Hit { certainty: Certainty::Doubtful, ..hit }).collect();
                return (hits, to);
            }
        };
        let hits = match guard_of(&self.program, capture) {
            Some(guard) => hits.into_iter().filter_map(|hit| sorted_out(&guard, hit)).collect(),
            None => hits,
        };
        (hits.into_iter().filter(|hit| hit.tick.0 < capture.len()).collect(), known)
    }

    /// From which tick on its lines are needed to read on.
    pub(crate) fn needs_from(&self) -> Tick {
        match &self.source {
            Source::Instants | Source::Recorded(_) => self.read,
            // What must hold at the end of a frame is asked when that is found, later.
            Source::Framed(framed) if self.program.root().guard.is_some() => framed.1.known().min(self.read),
            Source::Framed(_) => self.read,
            Source::Sequence(sequence) => {
                let parts = sequence.parts.iter().map(MarkReader::needs_from);
                parts.min().unwrap_or(self.read).min(sequence.known)
            }
            // What must hold at an instant of a stretch is asked when that ends.
            Source::Lasting(_, standing, _) if self.program.root().guard.is_some() => {
                standing.open().map_or(self.read, |open| open.start)
            }
            Source::Lasting(..) => self.read,
            Source::Any(parts) => {
                let ready = parts.iter().filter_map(|(_, ready)| ready.front()).map(|hit| hit.tick);
                let parts = parts.iter().map(|(part, _)| part.needs_from());
                parts.chain(ready).min().unwrap_or(self.read)
            }
        }
    }
}

/// What comes before a tick of several alternatives.
fn alternatives(parts: &mut [(MarkReader, VecDeque<Hit>)], known: Tick) -> Vec<Hit> {
    let before = |(_, ready): &mut (MarkReader, VecDeque<Hit>)| {
        let count = ready.iter().take_while(|hit| hit.tick < known).count();
        ready.drain(..count).collect::<Vec<Hit>>().into_iter().peekable()
    };
    let mut all: Vec<Peekable<_>> = parts.iter_mut().map(before).collect();
    std::iter::from_fn(|| next_of_any(&mut all)).collect()
}

/// Reads the stretches of a condition in a record that goes on.
#[derive(Debug)]
pub(crate) struct StretchReader {
    condition: ConditionProgram,
    doubt: bool,
    standing: Standing,
    read: Tick,
    /// Whether it is about one line, so that no stretch of it can turn out to be doubtful.
    single: bool,
}

/// Stretches that have ended, and what is known of those that have not.
#[derive(Debug)]
pub(crate) struct ReadStretches {
    pub(crate) ended: Vec<Stretch>,
    /// One that goes on and will not turn out to be doubtful.
    pub(crate) open: Option<Stretch>,
    /// No other one that has not been given begins before this tick.
    pub(crate) known: Tick,
}

impl StretchReader {
    /// With those that may have happened, or without.
    pub(crate) fn new(condition: &ConditionProgram, doubt: bool) -> Self {
        let single = condition.signals().len() == 1;
        let (condition, standing) = (condition.clone(), Standing::default());
        StretchReader { condition, doubt, standing, read: Tick(0), single }
    }

    /// The stretches that end before a tick and have not been given yet; `ended` says whether the record ends there.
    pub(crate) fn read(&mut self, capture: &Capture, to: Tick, ended: bool) -> ReadStretches {
        let from = std::mem::replace(&mut self.read, to);
        let before = (std::mem::take(&mut self.standing), ended);
        let mut stretches = Stretches::resume(capture, &self.condition.test, from..to, self.doubt, before);
        let mut found = Vec::new();
        stretches.read_beyond(Tick(u64::MAX), &mut found);
        self.standing = stretches.standing();
        let open = self.standing.open().filter(|_| self.single);
        let known = self.standing.open().filter(|_| !self.single).map_or(to, |open| open.start);
        ReadStretches { ended: found, open, known }
    }

    /// From which tick on its lines are needed to read on.
    pub(crate) fn needs_from(&self) -> Tick {
        self.read
    }

    /// The beginning of a stretch that has not ended.
    pub(crate) fn open_since(&self) -> Option<Tick> {
        self.standing.open().map(|open| open.start)
    }
}

/// How many ticks around an edge of these lines its order may be open.
pub(crate) fn reach_of(capture: &Capture, signals: &[Signal]) -> u64 {
    let order = Precision::of(capture, Rule::Proven).order(signals, Voltage::ZERO);
    order.reach().unwrap_or(0)
}
