//! Evaluation in windows of up to 2048 ticks.
//!
//! A window holds, per line, its levels as words of 64: the bit plane. Each part of an event turns
//! it into words with a one for each tick at which it happens: an edge is a few operations, a
//! pattern a handful; durations, counts and sequences go from one bit to the next. The same engine
//! runs over stored traces, where stretches without edges are skipped, and over arriving samples.
//!
//! To the next editor: a part may only carry state from one window to the next that stays right
//! when windows without any edge are left out, and must name in `wake` the tick at which it could
//! happen in such a window. `tests/it/events_oracle.rs` is what notices when it does not.

mod census;
mod framing;
mod lasting;
mod machine;
mod marks;
mod mask;
mod sequence;
mod source;
mod window;

pub use census::BusSeen;
pub(super) use marks::Marks;
pub use source::{Hits, StreamSearch};

use framing::FramePart;
use lasting::LastingPart;
use machine::Machine;
use mask::MaskTest;
use sequence::Sequence;
use window::{NONE, Window};

use super::ast::Direction;
use super::program::{Form, Guarded, Tree};
use crate::line::Signal;
use crate::scan::Plane;
use crate::time::TimeBase;

/// One part of a running event.
#[derive(Debug)]
enum Part {
    Edge(usize, Direction),
    Changes(Vec<usize>),
    /// A condition, and whether it was false at the last tick looked at.
    When(MaskTest, bool),
    Lasting(LastingPart),
    Frame(Box<FramePart>),
    Any(Vec<Part>),
    Guard(Box<Part>, MaskTest),
    Sequence(Box<Sequence>),
    Machine(Box<Machine>),
}

impl Part {
    fn new(event: &Guarded, slots: &[Signal], base: TimeBase) -> Part {
        let slot = |line: &Signal| slots.binary_search(line).unwrap_or(0);
        let part = match &event.tree {
            Tree::Simple(Form::Edge(line, direction)) => Part::Edge(slot(line), *direction),
            Tree::Simple(Form::Changes(lines)) => Part::Changes(lines.iter().map(slot).collect()),
            Tree::Simple(Form::When(test)) => Part::When(MaskTest::new(test, slots), false),
            Tree::Simple(Form::Lasting(test, lasting)) => {
                Part::Lasting(LastingPart::new(MaskTest::new(test, slots), *lasting, base))
            }
            Tree::Simple(Form::Frame(form)) => Part::Frame(Box::new(FramePart::new(form, slots, base))),
            Tree::Any(any) => Part::Any(any.iter().map(|e| Part::new(e, slots, base)).collect()),
            Tree::Sequence(stages) => Part::Sequence(Box::new(Sequence::new(stages, slots, base))),
            Tree::Machine(states) => Part::Machine(Box::new(Machine::new(states, slots, base))),
        };
        match &event.guard {
            Some(guard) => Part::Guard(Box::new(part), MaskTest::new(guard, slots)),
            None => part,
        }
    }

    /// The ticks of the window at which it happens; words beyond the window are zero.
    fn advance(&mut self, window: &Window<'_>) -> Plane {
        match self {
            Part::Edge(slot, direction) => {
                let mut edges = match direction {
                    Direction::Rises => window.rises(*slot),
                    Direction::Falls => window.falls(*slot),
                    Direction::Changes => window.changes(*slot),
                };
                window.trim_to_past(&mut edges);
                edges
            }
            Part::Changes(slots) => {
                let mut changes = NONE;
                for slot in slots {
                    window.or_into(&mut changes, &window.changes(*slot));
                }
                window.trim_to_past(&mut changes);
                changes
            }
            Part::When(test, was_false) => {
                let (mut happens, no) = test.masks(window);
                let mut before = u64::from(*was_false);
                for (happens, no) in happens.iter_mut().zip(no).take(window.words()) {
                    *happens &= no << 1 | before;
                    before = no >> 63;
                }
                *was_false = window.last_bit(&no);
                window.trim_to_past(&mut happens);
                happens
            }
            Part::Lasting(lasting) => lasting.advance(window),
            Part::Frame(frames) => frames.advance(window),
            Part::Any(any) => {
                let mut happens = NONE;
                any.iter_mut().for_each(|part| window.or_into(&mut happens, &part.advance(window)));
                happens
            }
            Part::Guard(part, guard) => {
                let mut happens = part.advance(window);
                if happens != NONE {
                    guard.and_into(window, &mut happens);
                }
                happens
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
            Part::Frame(frames) => frames.wake(),
            Part::Any(any) => any.iter().filter_map(Part::wake).min(),
            Part::Guard(part, _) => part.wake(),
            Part::Sequence(sequence) => sequence.wake(),
            Part::Machine(machine) => machine.wake(),
        }
    }
}
