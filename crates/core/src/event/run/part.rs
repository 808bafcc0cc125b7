//! The parts of a running event.

use super::census::{FieldSeen, FramesSeen};
use super::framing::FramePart;
use super::lasting::LastingPart;
use super::machine::Machine;
use super::mask::MaskTest;
use super::sequence::Sequence;
use super::window::{NONE, Running, Window};
use crate::event::check::{Form, Guarded, StateReport, StateTable, Tree};
use crate::event::syntax::Direction;
use crate::line::Signal;
use crate::scan::Plane;
use crate::time::TimeBase;

/// One part of a running event.
#[derive(Debug)]
pub(super) enum Part {
    Edge(usize, Direction),
    Changes(Vec<usize>),
    /// A condition, and whether it was false at the last tick looked at.
    When(MaskTest, bool),
    Lasting(LastingPart),
    Frame(Box<FramePart>),
    Any(Vec<Part>),
    Guard(Box<Part>, MaskTest),
    Sequence(Box<Sequence<Part>>),
    Machine(Box<Machine<Part>>),
}

impl Part {
    pub(super) fn new(event: &Guarded<u64>, slots: &[Signal], base: TimeBase) -> Part {
        let slot = |line: &Signal| slots.binary_search(line).unwrap_or(0);
        let part = match &event.tree {
            Tree::Simple(Form::Edge(line, direction)) => Part::Edge(slot(line), *direction),
            Tree::Simple(Form::Changes(lines)) => Part::Changes(lines.iter().map(slot).collect()),
            Tree::Simple(Form::When(test)) => Part::When(MaskTest::new(test, slots), false),
            Tree::Simple(Form::Lasting(test, lasting)) => {
                Part::Lasting(LastingPart::new(MaskTest::new(test, slots), *lasting))
            }
            Tree::Simple(Form::Frame(form)) => Part::Frame(Box::new(FramePart::new(form, slots, base))),
            Tree::Any(any) => Part::Any(any.iter().map(|e| Part::new(e, slots, base)).collect()),
            Tree::Sequence(stages) => {
                Part::Sequence(Box::new(Sequence::new(stages, |e| Part::new(e, slots, base))))
            }
            Tree::Machine(states) => {
                Part::Machine(Box::new(Machine::new(states, |e| Part::new(e, slots, base))))
            }
        };
        match &event.guard {
            Some(guard) => Part::Guard(Box::new(part), MaskTest::new(guard, slots)),
            None => part,
        }
    }
}

impl Part {
    /// What came on each serial bus that it looks at.
    pub(super) fn frames_seen(&self, seen: &mut Vec<FramesSeen>) {
        match self {
            Part::Edge(..) | Part::Changes(_) | Part::When(..) | Part::Lasting(_) => {}
            Part::Frame(frames) => {
                let more = frames.seen();
                match seen.iter_mut().find(|known| known.bus == more.bus) {
                    Some(known) => {
                        let is_new =
                            |field: &FieldSeen| known.fields.iter().all(|other| other.name != field.name);
                        let new: Vec<FieldSeen> = more.fields.into_iter().filter(is_new).collect();
                        known.fields.extend(new);
                    }
                    None => seen.push(more),
                }
            }
            Part::Any(any) => any.iter().for_each(|part| part.frames_seen(seen)),
            Part::Guard(part, _) => part.frames_seen(seen),
            Part::Sequence(sequence) => sequence.parts().for_each(|part| part.frames_seen(seen)),
            Part::Machine(machine) => machine.parts().for_each(|part| part.frames_seen(seen)),
        }
    }

    /// How far a state machine or a sequence has come, with the words that `table` has; nothing for anything else.
    pub(super) fn report(&self, table: &StateTable) -> Vec<StateReport> {
        match self {
            Part::Machine(machine) => machine.report(table),
            Part::Sequence(sequence) => sequence.report(table),
            Part::Guard(part, _) => part.report(table),
            _ => Vec::new(),
        }
    }
}

impl Running for Part {
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

    fn wake(&self) -> Option<u64> {
        match self {
            Part::Edge(..) | Part::Changes(_) | Part::When(..) => None,
            Part::Lasting(lasting) => lasting.wake(),
            Part::Frame(frames) => frames.wake(),
            Part::Any(any) => any.iter().filter_map(Running::wake).min(),
            Part::Guard(part, _) => part.wake(),
            Part::Sequence(sequence) => sequence.wake(),
            Part::Machine(machine) => machine.wake(),
        }
    }

    fn is_instant(&self) -> bool {
        match self {
            Part::Edge(..) | Part::Changes(_) | Part::When(..) => true,
            Part::Any(any) => any.iter().all(Running::is_instant),
            Part::Guard(part, _) => part.is_instant(),
            Part::Lasting(_) | Part::Frame(_) | Part::Sequence(_) | Part::Machine(_) => false,
        }
    }

    fn since(&self) -> Option<u64> {
        match self {
            Part::Edge(..) | Part::Changes(_) | Part::When(..) => None,
            Part::Lasting(lasting) => lasting.since(),
            Part::Frame(frames) => frames.since(),
            Part::Any(any) => any.iter().filter_map(Running::since).min(),
            Part::Guard(part, _) => part.since(),
            Part::Sequence(sequence) => sequence.since(),
            Part::Machine(machine) => machine.since(),
        }
    }
}
