//! Evaluation in windows of up to 64 ticks.
//!
//! A window holds, per line, one word of levels: the bit plane. Each part of an event turns it into
//! a word with a one for each tick at which it happens: an edge is a few operations, a pattern a
//! handful; durations, counts and sequences go from one bit to the next. The same engine runs over
//! stored traces, where stretches without edges are skipped, and over arriving samples.
//!
//! To the next editor: a part may only carry state from one window to the next that stays right
//! when windows without any edge are left out, and must name in `wake` the tick at which it could
//! happen in such a window.

mod lasting;
mod machine;
mod mask;
mod sequence;
mod source;

pub use source::{Hits, StreamSearch};

use lasting::LastingPart;
use machine::Machine;
use mask::MaskTest;
use sequence::Sequence;

use super::ast::Direction;
use super::program::{Form, Guarded, Tree};
use crate::line::LineId;
use crate::time::TimeBase;

/// Up to 64 consecutive ticks of some lines.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Window<'a> {
    /// First tick.
    pub(crate) start: u64,
    /// Number of ticks, 1 to 64.
    pub(crate) len: u32,
    /// Per line, the levels; zero where unknown.
    pub(crate) planes: &'a [u64],
    /// Per line, a one for each tick whose level is unknown.
    pub(crate) unknown: &'a [u64],
    /// Per line, level and unknown bit at the tick before.
    pub(crate) before: &'a [(bool, bool)],
}

impl Window<'_> {
    /// A one for each tick that is in the window.
    fn valid(&self) -> u64 {
        if self.len >= 64 { u64::MAX } else { (1 << self.len) - 1 }
    }

    /// A one for each tick that has one before it in the record.
    fn has_before(&self) -> u64 {
        if self.start == 0 { self.valid() & !1 } else { self.valid() }
    }

    /// Levels and unknown bits of a line, one tick later.
    fn shifted(&self, slot: usize) -> (u64, u64) {
        let (level, unknown) = self.before[slot];
        (self.planes[slot] << 1 | u64::from(level), self.unknown[slot] << 1 | u64::from(unknown))
    }
}

/// One part of a running event.
#[derive(Clone, Debug)]
enum Part {
    Edge(usize, Direction),
    Changes(Vec<usize>),
    /// A condition, and whether it was false at the last tick looked at.
    When(MaskTest, bool),
    Lasting(LastingPart),
    Any(Vec<Part>),
    Guard(Box<Part>, MaskTest),
    Sequence(Box<Sequence>),
    Machine(Box<Machine>),
}

impl Part {
    fn new(event: &Guarded, slots: &[LineId], base: TimeBase) -> Part {
        let slot = |line: &LineId| slots.binary_search(line).unwrap_or(0);
        let part = match &event.tree {
            Tree::Simple(Form::Edge(line, direction)) => Part::Edge(slot(line), *direction),
            Tree::Simple(Form::Changes(lines)) => Part::Changes(lines.iter().map(slot).collect()),
            Tree::Simple(Form::When(test)) => Part::When(MaskTest::new(test, slots), false),
            Tree::Simple(Form::Lasting(test, lasting)) => {
                Part::Lasting(LastingPart::new(MaskTest::new(test, slots), *lasting, base))
            }
            Tree::Any(any) => Part::Any(any.iter().map(|e| Part::new(e, slots, base)).collect()),
            Tree::Sequence(stages) => Part::Sequence(Box::new(Sequence::new(stages, slots, base))),
            Tree::Machine(states) => Part::Machine(Box::new(Machine::new(states, slots, base))),
        };
        match &event.guard {
            Some(guard) => Part::Guard(Box::new(part), MaskTest::new(guard, slots)),
            None => part,
        }
    }

    /// The ticks of the window at which it happens.
    fn advance(&mut self, window: &Window<'_>) -> u64 {
        match self {
            Part::Edge(slot, direction) => {
                let (now, unknown) = (window.planes[*slot], window.unknown[*slot]);
                let (was, was_unknown) = window.shifted(*slot);
                let known = !unknown & !was_unknown;
                let edges = match direction {
                    Direction::Rises => now & !was & known,
                    Direction::Falls => !now & was & known,
                    Direction::Changes => (now ^ was) | (unknown ^ was_unknown),
                };
                edges & window.has_before()
            }
            Part::Changes(slots) => {
                let changes = |slot: &usize| {
                    let (was, was_unknown) = window.shifted(*slot);
                    (window.planes[*slot] ^ was) | (window.unknown[*slot] ^ was_unknown)
                };
                slots.iter().fold(0, |all, slot| all | changes(slot)) & window.has_before()
            }
            Part::When(test, was_false) => {
                let (yes, no) = test.masks(window);
                let happens = yes & (no << 1 | u64::from(*was_false)) & window.has_before();
                *was_false = no >> (window.len - 1) & 1 == 1;
                happens
            }
            Part::Lasting(lasting) => lasting.advance(window),
            Part::Any(any) => any.iter_mut().fold(0, |all, part| all | part.advance(window)),
            Part::Guard(part, guard) => {
                let happens = part.advance(window);
                if happens == 0 { 0 } else { happens & guard.masks(window).0 }
            }
            Part::Sequence(sequence) => sequence.advance(window),
            Part::Machine(machine) => machine.advance(window),
        }
    }

    /// The next tick at which it may happen although no line changes.
    fn wake(&self) -> Option<u64> {
        match self {
            Part::Edge(..) | Part::Changes(_) | Part::When(..) => None,
            Part::Lasting(lasting) => lasting.wake(),
            Part::Any(any) => any.iter().filter_map(Part::wake).min(),
            Part::Guard(part, _) => part.wake(),
            Part::Sequence(sequence) => sequence.wake(),
            Part::Machine(machine) => machine.wake(),
        }
    }
}
