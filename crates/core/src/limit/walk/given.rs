//! What limits want to know of a record, and where it comes from.

use std::sync::Arc;

use rayon::prelude::*;

use super::Events;
use crate::capture::{CHUNK, Capture};
use crate::event::{ConditionProgram, MarkWord, MarkWords, Stretch, Stretches, TimedProgram};
use crate::known::Rule;
use crate::pair::{Party, Pulled, Supply};
use crate::time::Tick;

/// The events and conditions that some limits look at, each once.
#[derive(Debug, Default)]
pub(in crate::limit) struct Wanted {
    pub(in crate::limit) events: Vec<TimedProgram>,
    /// With those stretches that may have happened, or without.
    pub(in crate::limit) conditions: Vec<(ConditionProgram, bool)>,
}

impl Wanted {
    /// Where the marks of an event will be given.
    pub(super) fn marks(&mut self, event: &TimedProgram) -> usize {
        place(&mut self.events, event, TimedProgram::is_same)
    }

    pub(super) fn events<const N: usize>(&mut self, events: [TimedProgram; N]) -> [Events; N] {
        events.map(|event| Events { place: self.marks(&event), party: Party::new(Supply::default()) })
    }

    /// Where the stretches of a condition will be given.
    pub(super) fn stretches(&mut self, condition: &ConditionProgram, with_doubt: bool) -> Held {
        let place = place(&mut self.conditions, &(condition.clone(), with_doubt), PartialEq::eq);
        Held { place, supply: Supply::default(), next: None, open: None }
    }
}

fn place<T: Clone>(all: &mut Vec<T>, one: &T, is_same: impl Fn(&T, &T) -> bool) -> usize {
    all.iter().position(|known| is_same(known, one)).unwrap_or_else(|| {
        all.push(one.clone());
        all.len() - 1
    })
}

/// What was found of an event or a condition.
#[derive(Clone, Debug)]
pub(in crate::limit) struct Piece<T> {
    pub(in crate::limit) items: Arc<Vec<T>>,
    /// What comes later does not lie before this tick; of stretches, it does not begin before.
    pub(in crate::limit) known: Tick,
    /// A stretch that goes on beyond that, whatever comes.
    pub(in crate::limit) open: Option<T>,
}

/// What comes next of a record: of each event and condition that is [wanted](Wanted).
#[derive(Debug, Default)]
pub(in crate::limit) struct Given {
    pub(in crate::limit) marks: Vec<Piece<MarkWord>>,
    pub(in crate::limit) stretches: Vec<Piece<Stretch>>,
    /// How far the record is known.
    pub(in crate::limit) to: Tick,
    /// Whether this is the last of it.
    pub(in crate::limit) ended: bool,
}

/// The stretches of a condition as they come.
#[derive(Debug)]
pub(in crate::limit) struct Held {
    place: usize,
    supply: Supply<Stretch>,
    /// The next one, if it was looked at.
    next: Option<Stretch>,
    /// One that goes on beyond what is known, whatever comes.
    open: Option<Stretch>,
}

/// A stretch that comes next, or what is known instead.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NextStretch {
    Is(Stretch),
    /// None, up to this tick.
    NoneBefore(Tick),
    /// None any more.
    None,
}

impl Held {
    pub(super) fn take(&mut self, given: &Given) {
        if let Some(piece) = given.stretches.get(self.place) {
            self.supply.add(&piece.items, piece.known);
            self.open = piece.open;
        }
        if given.ended {
            self.supply.end();
        }
    }

    /// One that goes on beyond what is known: its end is beyond all ticks.
    pub(super) fn open(&self) -> Option<Stretch> {
        self.open.map(|open| Stretch { end: Tick(u64::MAX), ..open })
    }

    /// What comes later does not begin before this tick.
    pub(super) fn known(&self) -> Tick {
        self.supply.known()
    }

    /// The next stretch, which stays.
    #[inline]
    pub(super) fn peek(&mut self) -> NextStretch {
        if self.next.is_none() {
            match self.supply.pull() {
                Pulled::Some(stretch) => self.next = Some(stretch),
                Pulled::NotYet => return NextStretch::NoneBefore(self.supply.known()),
                Pulled::End => return NextStretch::None,
            }
        }
        self.next.map_or(NextStretch::None, NextStretch::Is)
    }

    /// Where its stretches are given.
    pub(super) fn place(&self) -> usize {
        self.place
    }

    /// The next one, if it was looked at.
    pub(super) fn looked_at(&self) -> Option<Stretch> {
        self.next
    }

    /// Passes it.
    pub(super) fn pass(&mut self) {
        self.next = None;
    }

    /// The next stretch, which is passed; `None` where there is none yet or any more.
    #[inline]
    pub(super) fn next(&mut self) -> Option<Stretch> {
        self.next.take().or_else(|| match self.supply.pull() {
            Pulled::Some(stretch) => Some(stretch),
            Pulled::End | Pulled::NotYet => None,
        })
    }
}

/// Gives what is wanted of a stored record, piece by piece.
pub(in crate::limit) struct Stored<'a> {
    marks: Vec<StoredMarks<'a>>,
    stretches: Vec<StoredStretches<'a>>,
    from: u64,
    step: u64,
    len: u64,
}

/// Fewest ticks of a piece, and how many items one should have: enough for several threads, few enough to stay in
/// the processor's own memory.
const STEP: u64 = 4 * CHUNK;
const ITEMS: std::ops::Range<usize> = 1 << 13..1 << 16;

impl<'a> Stored<'a> {
    pub(in crate::limit) fn new(wanted: &'a Wanted, capture: &'a Capture, rule: Rule) -> Self {
        let range = capture.range();
        let marks =
            |event: &'a TimedProgram| StoredMarks { words: event.marks(capture, range.clone(), rule) };
        let stretches = |(condition, with_doubt): &'a (ConditionProgram, bool)| StoredStretches {
            stretches: match with_doubt {
                true => condition.stretches_with_doubt(capture, range.clone()),
                false => condition.stretches(capture, range.clone()),
            },
            reached: Tick(0),
        };
        Stored {
            marks: wanted.events.iter().map(marks).collect(),
            stretches: wanted.conditions.iter().map(stretches).collect(),
            from: 0,
            step: STEP,
            len: capture.len(),
        }
    }

    /// The next piece; `parallel` says whether on all cores.
    pub(in crate::limit) fn next(&mut self, parallel: bool) -> Given {
        let to = self.from.saturating_add(self.step).min(self.len);
        let ended = to == self.len;
        // At the end, all that is left.
        let border = if ended { Tick(u64::MAX) } else { Tick(to) };
        let (marks, stretches) = match parallel {
            true => rayon::join(
                || self.marks.par_iter_mut().with_max_len(1).map(|marks| marks.until(border)).collect(),
                || self.stretches.par_iter_mut().with_max_len(1).map(|held| held.until(border)).collect(),
            ),
            false => (
                self.marks.iter_mut().map(|marks| marks.until(border)).collect(),
                self.stretches.iter_mut().map(|held| held.until(border)).collect(),
            ),
        };
        self.from = to;
        let given = Given { marks, stretches, to: Tick(to), ended };
        let items = given.marks.iter().map(|piece| piece.items.len()).sum::<usize>()
            + given.stretches.iter().map(|piece| piece.items.len()).sum::<usize>();
        if items < ITEMS.start {
            self.step = self.step.saturating_mul(2);
        } else if items > ITEMS.end {
            self.step = (self.step / 2).max(STEP);
        }
        given
    }
}

struct StoredMarks<'a> {
    words: MarkWords<'a>,
}

impl StoredMarks<'_> {
    fn until(&mut self, border: Tick) -> Piece<MarkWord> {
        let mut items = Vec::new();
        self.words.read_before(border, &mut items);
        Piece { items: Arc::new(items), known: border, open: None }
    }
}

struct StoredStretches<'a> {
    stretches: Stretches<'a>,
    /// A tick that the last one reaches beyond.
    reached: Tick,
}

impl StoredStretches<'_> {
    /// Those that may be a part of another one come before it: all are read up to one that reaches beyond.
    fn until(&mut self, border: Tick) -> Piece<Stretch> {
        let mut items = Vec::new();
        if self.reached <= border {
            let reaches = self.stretches.read_beyond(border, &mut items);
            let last = items.last().filter(|_| reaches);
            self.reached = last.map_or(self.reached, |stretch| stretch.end);
        }
        Piece { items: Arc::new(items), known: border, open: None }
    }
}
