//! Checked events, as trees over lines; their durations in time, or in whole ticks of a clock.

use super::condition::Test3;
use super::frames::FrameForm;
use crate::event::syntax::{Direction, Lasting, StepLimit};
use crate::line::{Bus, Signal};
use crate::quantity::Time;

/// What a program waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Form<T = Time> {
    Edge(Signal, Direction),
    Changes(Vec<Signal>),
    When(Test3),
    Lasting(Test3, Lasting<T>),
    Frame(Box<FrameForm>),
}

/// An event with what must hold at its instant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Guarded<T = Time> {
    pub(crate) tree: Tree<T>,
    pub(crate) guard: Option<Test3>,
}

/// What an event is made of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Tree<T = Time> {
    Simple(Form<T>),
    /// Whichever comes.
    Any(Vec<Guarded<T>>),
    /// One after the other.
    Sequence(Vec<Stage<T>>),
    /// The arms of each state; it starts in the first.
    Machine(Vec<Vec<MachineArm<T>>>),
}

/// An arm of a state.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct MachineArm<T = Time> {
    pub(crate) event: Option<Guarded<T>>,
    pub(crate) after: Option<T>,
    pub(crate) times: u64,
    pub(crate) fire: bool,
    pub(crate) go: usize,
}

/// One stage of a sequence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Stage<T = Time> {
    pub(crate) event: Guarded<T>,
    /// Whether the stage is passed when the event has not come within the limit.
    pub(crate) absent: bool,
    /// Events that end the attempt when they come first.
    pub(crate) unless: Vec<Guarded<T>>,
    pub(crate) times: u64,
    pub(crate) limit: Option<StepLimit<T>>,
}

impl<T> Guarded<T> {
    fn collect_all(&self, signals: &mut Vec<Signal>) {
        self.collect(signals);
        signals.extend(self.guard.iter().flat_map(Test3::signals));
    }

    /// Apart from its own `while`.
    fn collect(&self, signals: &mut Vec<Signal>) {
        match &self.tree {
            Tree::Simple(Form::Edge(line, _)) => signals.push(*line),
            Tree::Simple(Form::Changes(changing)) => signals.extend(changing),
            Tree::Simple(Form::When(test) | Form::Lasting(test, _)) => signals.extend(test.signals()),
            Tree::Simple(Form::Frame(frame)) => signals.extend(frame.bus.lines().iter().map(Signal::from)),
            Tree::Any(any) => any.iter().for_each(|g| g.collect_all(signals)),
            Tree::Sequence(stages) => {
                stages
                    .iter()
                    .flat_map(|s| s.unless.iter().chain([&s.event]))
                    .for_each(|g| g.collect_all(signals));
            }
            Tree::Machine(states) => {
                states.iter().flatten().filter_map(|a| a.event.as_ref()).for_each(|g| g.collect_all(signals));
            }
        }
    }

    /// All lines and crossings it looks at, those of its `while` included, sorted.
    pub(crate) fn signals(&self) -> Vec<Signal> {
        let mut signals = Vec::new();
        self.collect_all(&mut signals);
        sorted(signals)
    }

    /// Those whose edges make it happen, sorted.
    pub(crate) fn event_signals(&self) -> Vec<Signal> {
        let mut signals = Vec::new();
        self.collect(&mut signals);
        sorted(signals)
    }

    /// The buses whose values it looks at.
    pub(crate) fn buses<'a>(&'a self, buses: &mut Vec<&'a Bus>) {
        match &self.tree {
            Tree::Simple(Form::Edge(..) | Form::Changes(_) | Form::Frame(_)) => {}
            Tree::Simple(Form::When(test) | Form::Lasting(test, _)) => test.buses(buses),
            Tree::Any(any) => any.iter().for_each(|event| event.buses(buses)),
            Tree::Sequence(stages) => {
                let events = stages.iter().flat_map(|s| s.unless.iter().chain([&s.event]));
                events.for_each(|event| event.buses(buses));
            }
            Tree::Machine(states) => {
                let events = states.iter().flatten().filter_map(|arm| arm.event.as_ref());
                events.for_each(|event| event.buses(buses));
            }
        }
        self.guard.iter().for_each(|guard| guard.buses(buses));
    }

    /// Whether a state machine is a part of it.
    pub(super) fn has_states(&self) -> bool {
        match &self.tree {
            Tree::Simple(_) => false,
            Tree::Machine(_) => true,
            Tree::Any(any) => any.iter().any(Guarded::has_states),
            Tree::Sequence(stages) => {
                stages.iter().flat_map(|s| s.unless.iter().chain([&s.event])).any(Guarded::has_states)
            }
        }
    }

    /// The frames that it asks for.
    pub(super) fn frames<'a>(&'a self, frames: &mut Vec<&'a FrameForm>) {
        match &self.tree {
            Tree::Simple(Form::Frame(frame)) => frames.push(frame),
            Tree::Simple(_) => {}
            Tree::Any(any) => any.iter().for_each(|event| event.frames(frames)),
            Tree::Sequence(stages) => {
                let events = stages.iter().flat_map(|s| s.unless.iter().chain([&s.event]));
                events.for_each(|event| event.frames(frames));
            }
            Tree::Machine(states) => {
                let events = states.iter().flatten().filter_map(|arm| arm.event.as_ref());
                events.for_each(|event| event.frames(frames));
            }
        }
    }

    /// Whether what happens depends on nothing but the present tick and the one before.
    pub(crate) fn is_instantaneous(&self) -> bool {
        match &self.tree {
            Tree::Simple(form) => !matches!(form, Form::Lasting(..) | Form::Frame(_)),
            Tree::Any(any) => any.iter().all(Guarded::is_instantaneous),
            Tree::Sequence(_) | Tree::Machine(_) => false,
        }
    }
}

/// Collects a conjunction of levels, bus patterns included; `None` when it is anything else.
pub(in crate::event) fn plain_levels(test: &Test3, levels: &mut Vec<(Signal, bool)>) -> Option<()> {
    match test {
        Test3::And(all) => all.iter().try_for_each(|t| plain_levels(t, levels)),
        Test3::Level(line, high) => {
            levels.push((*line, *high));
            Some(())
        }
        Test3::Match(bus, bits, open) => {
            for (place, line) in bus.lines.iter().rev().enumerate() {
                if open >> place & 1 == 0 {
                    levels.push((line.into(), bits >> place & 1 == 1));
                }
            }
            Some(())
        }
        _ => None,
    }
}

impl Guarded {
    /// How long what it ends takes at least.
    pub(super) fn about(&self) -> Time {
        let sum = |a: Time, b: Time| {
            let sum = a.to_rational().checked_add(b.to_rational());
            sum.map_or(a, Time::from_rational)
        };
        match &self.tree {
            Tree::Simple(Form::Lasting(_, Lasting::Over(time) | Lasting::Between(time, _))) => *time,
            Tree::Simple(Form::Frame(frame)) => frame.shortest(),
            Tree::Simple(_) => Time::ZERO,
            Tree::Any(any) => any.iter().map(Guarded::about).min().unwrap_or(Time::ZERO),
            Tree::Sequence(stages) => {
                let waits = stages.iter().map(|stage| match stage.limit {
                    Some(StepLimit::After(time)) => time,
                    Some(StepLimit::Within(time)) if stage.absent => time,
                    _ => Time::ZERO,
                });
                let first = stages.first().map_or(Time::ZERO, |stage| stage.event.about());
                waits.fold(first, sum)
            }
            Tree::Machine(_) => Time::ZERO,
        }
    }

    /// The shortest duration that must be told from nothing.
    pub(super) fn shortest_duration(&self) -> Option<Time> {
        match &self.tree {
            Tree::Simple(Form::Lasting(_, Lasting::Under(time) | Lasting::Between(_, time))) => Some(*time),
            Tree::Simple(_) => None,
            Tree::Any(any) => any.iter().filter_map(Guarded::shortest_duration).min(),
            Tree::Sequence(stages) => {
                let within = stages.iter().filter_map(|stage| match stage.limit {
                    Some(StepLimit::Within(time)) if !stage.absent => Some(time),
                    _ => None,
                });
                let events = stages.iter().flat_map(|stage| stage.unless.iter().chain([&stage.event]));
                within.chain(events.filter_map(Guarded::shortest_duration)).min()
            }
            Tree::Machine(states) => {
                let events = states.iter().flatten().filter_map(|arm| arm.event.as_ref());
                events.filter_map(Guarded::shortest_duration).min()
            }
        }
    }
}

fn sorted(mut signals: Vec<Signal>) -> Vec<Signal> {
    signals.sort_unstable();
    signals.dedup();
    signals
}
