//! Checked events and conditions.

use super::ast::{Condition, Direction, Event, Lasting, StepLimit};
use super::compile::Checker;
use super::condition::{Test3, both};
use super::frames::FrameForm;
use super::names::Scope;
use super::states::StateMachine;
use super::table::StateTable;
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Bus, Crossing, Level, LineId};
use crate::time::{Rate, Time, TimeBase};

/// What a program waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    Edge(LineId, Direction),
    Changes(Vec<LineId>),
    When(Test3),
    Lasting(Test3, Lasting),
    Frame(FrameForm),
}

/// An event with what must hold at its instant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Guarded {
    pub(crate) tree: Tree,
    pub(crate) guard: Option<Test3>,
}

/// What an event is made of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Tree {
    Simple(Form),
    /// Whichever comes.
    Any(Vec<Guarded>),
    /// One after the other.
    Sequence(Vec<Stage>),
    /// The arms of each state; it starts in the first.
    Machine(Vec<Vec<MachineArm>>),
}

/// An arm of a state.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct MachineArm {
    pub(crate) event: Option<Guarded>,
    pub(crate) after: Option<Time>,
    pub(crate) times: u64,
    pub(crate) fire: bool,
    pub(crate) go: usize,
}

/// One stage of a sequence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Stage {
    pub(crate) event: Guarded,
    /// Whether the stage is passed when the event has not come within the limit.
    pub(crate) absent: bool,
    /// Events that end the attempt when they come first.
    pub(crate) unless: Vec<Guarded>,
    pub(crate) times: u64,
    pub(crate) limit: Option<StepLimit>,
}

impl Guarded {
    fn collect(&self, lines: &mut Vec<LineId>) {
        match &self.tree {
            Tree::Simple(Form::Edge(line, _)) => lines.push(*line),
            Tree::Simple(Form::Changes(changing)) => lines.extend(changing),
            Tree::Simple(Form::When(test) | Form::Lasting(test, _)) => lines.extend(test.lines()),
            Tree::Simple(Form::Frame(frame)) => lines.extend(frame.bus.0.lines()),
            Tree::Any(any) => any.iter().for_each(|g| g.collect(lines)),
            Tree::Sequence(stages) => {
                stages.iter().flat_map(|s| s.unless.iter().chain([&s.event])).for_each(|g| g.collect(lines));
            }
            Tree::Machine(states) => {
                states.iter().flatten().filter_map(|a| a.event.as_ref()).for_each(|g| g.collect(lines));
            }
        }
        lines.extend(self.guard.iter().flat_map(Test3::lines));
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

    /// The frames that it asks for.
    fn frames<'a>(&'a self, frames: &mut Vec<&'a FrameForm>) {
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

    fn check_at(&self, base: TimeBase) -> Result<()> {
        let tick = base.tick();
        let too_short = |time: Time, what: &str| {
            let needed = time.to_rational().recip().map(Rate::from_rational);
            let rate = needed.map_or("a faster rate".to_string(), |r| format!("more than {r}"));
            Error::new(ErrorKind::Event, format!("'{what} {time}' can never happen: a tick is {tick}"))
                .with_help(format!("record at {rate}, or give a longer time"))
        };
        match &self.tree {
            Tree::Simple(Form::Lasting(_, Lasting::Under(time))) if *time <= tick => {
                Err(too_short(*time, "for <"))
            }
            Tree::Simple(Form::Lasting(_, Lasting::Between(_, time))) if *time < tick => {
                Err(too_short(*time, "for … .."))
            }
            Tree::Simple(_) => Ok(()),
            Tree::Any(any) => any.iter().try_for_each(|e| e.check_at(base)),
            Tree::Sequence(stages) => stages.iter().try_for_each(|stage| {
                if let (Some(StepLimit::Within(time)), false) = (stage.limit, stage.absent)
                    && time < tick
                {
                    return Err(too_short(time, "within"));
                }
                stage.unless.iter().chain([&stage.event]).try_for_each(|e| e.check_at(base))
            }),
            Tree::Machine(states) => {
                states.iter().flatten().filter_map(|a| a.event.as_ref()).try_for_each(|e| e.check_at(base))
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

/// A condition checked against the lines and buses it names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ConditionProgram {
    pub(crate) test: Test3,
    pub(crate) lines: Vec<LineId>,
    text: String,
}

impl ConditionProgram {
    /// Reads and checks a condition.
    ///
    /// # Errors
    /// [`ErrorKind::Event`] with the column, for what does not parse, an
    /// unknown name, or a value that the bus cannot have.
    pub fn compile(text: &str, scope: &Scope) -> Result<Self> {
        let test = Checker { text, scope }.condition(&Condition::parse(text)?)?;
        Ok(ConditionProgram { lines: test.lines(), test, text: text.to_string() })
    }

    /// Whether it holds, given a way to ask for levels; `None` when unknown levels leave that open.
    pub fn holds(&self, mut level: impl FnMut(LineId) -> Level) -> Option<bool> {
        self.test.eval(&mut level)
    }

    /// The lines it looks at.
    pub fn lines(&self) -> &[LineId] {
        &self.lines
    }

    /// The text it was made from.
    pub fn text(&self) -> &str {
        &self.text
    }
}

/// An event checked against the lines and buses it names, ready to be searched for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Program {
    pub(crate) root: Guarded,
    text: String,
    table: StateTable,
}

impl Program {
    /// Reads and checks an event.
    ///
    /// # Errors
    /// [`ErrorKind::Event`] with the column, for what does not parse, an
    /// unknown name, a value that the bus cannot have, or a form that is not evaluated yet.
    pub fn compile(text: &str, scope: &Scope) -> Result<Self> {
        let event = Event::parse(text)?;
        let root = Checker { text, scope }.event(&event, &mut Vec::new())?;
        Ok(Program { root, text: text.to_string(), table: StateTable::of_event(&event, text) })
    }

    pub(super) fn machine(machine: &StateMachine, states: Vec<Vec<MachineArm>>) -> Self {
        Program {
            root: Guarded { tree: Tree::Machine(states), guard: None },
            text: machine.to_string(),
            table: StateTable::of_machine(machine),
        }
    }

    /// The same event, only where a condition holds too.
    #[must_use]
    pub fn guarded(mut self, condition: &ConditionProgram) -> Self {
        self.root.guard = both(self.root.guard, Some(condition.test.clone()));
        self
    }

    /// The text it was made from.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// What it waits for, state by state.
    pub fn state_table(&self) -> &StateTable {
        &self.table
    }

    /// Checks that the buses that it asks for frames can be decoded at this clock.
    ///
    /// # Errors
    /// When one cannot; the help names the rate that would do.
    pub fn check_frames(&self, base: TimeBase) -> Result<()> {
        let mut frames = Vec::new();
        self.root.frames(&mut frames);
        frames.into_iter().try_for_each(|frame| frame.reader(base).map(drop))
    }

    /// Checks that the times in it can be told apart at this clock, and its buses be decoded.
    ///
    /// # Errors
    /// [`ErrorKind::Event`], when a part of it can never happen because its time is below a tick, or
    /// a bus has too few samples per bit; the help names the rate that would do.
    pub fn check_at(&self, base: TimeBase) -> Result<()> {
        self.check_frames(base)?;
        self.root.check_at(base)
    }

    /// Whether it is one edge, change, `when` or `for`, with or without a `while`.
    pub fn is_simple(&self) -> bool {
        matches!(&self.root.tree, Tree::Simple(form) if !matches!(form, Form::Frame(_)))
    }

    /// The lines whose edges make it happen, sorted.
    pub fn event_lines(&self) -> Vec<LineId> {
        let without_guard = Guarded { guard: None, ..self.root.clone() };
        sorted_lines(&without_guard)
    }

    /// The crossings of analog lines among [`lines`](Self::lines).
    pub fn crossings(&self) -> Vec<Crossing> {
        self.lines().into_iter().filter_map(Crossing::of_line).collect()
    }

    /// All lines it looks at, those of its `while` and crossings of analog lines included, sorted.
    pub fn lines(&self) -> Vec<LineId> {
        sorted_lines(&self.root)
    }

    /// A line that would have to be high and low at once for this to happen, if there is one.
    pub fn contradiction(&self) -> Option<LineId> {
        let edge = self.as_qualified_edge()?;
        let after = match edge.direction {
            Direction::Rises => Some((edge.line, true)),
            Direction::Falls => Some((edge.line, false)),
            Direction::Changes => None,
        };
        let wanted: Vec<(LineId, bool)> = edge.levels.iter().copied().chain(after).collect();
        let opposite = |(line, high): &(LineId, bool)| wanted.contains(&(*line, !high));
        wanted.iter().find(|level| opposite(level)).map(|(line, _)| *line)
    }

    /// The edge it is, if it is the edge of one line, and the levels its `while` asks for, if those
    /// are plain levels that must all hold: what a simple hardware trigger can do.
    pub fn as_qualified_edge(&self) -> Option<LineEdge> {
        let (line, direction) = match &self.root.tree {
            Tree::Simple(Form::Edge(line, direction)) => (*line, *direction),
            Tree::Simple(Form::Changes(lines)) if lines.len() == 1 => (lines[0], Direction::Changes),
            _ => return None,
        };
        let mut levels = Vec::new();
        if let Some(guard) = &self.root.guard {
            plain_levels(guard, &mut levels)?;
        }
        if !self.crossings().is_empty() {
            return None;
        }
        Some(LineEdge { line, direction, levels })
    }
}

/// An edge of one line while others have given levels.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LineEdge {
    /// The line with the edge.
    pub line: LineId,
    /// Which way it changes.
    pub direction: Direction,
    /// Lines and whether they must be high.
    pub levels: Vec<(LineId, bool)>,
}

/// Collects a conjunction of levels, bus patterns included; `None` when it is anything else.
pub(super) fn plain_levels(test: &Test3, levels: &mut Vec<(LineId, bool)>) -> Option<()> {
    match test {
        Test3::And(all) => all.iter().try_for_each(|t| plain_levels(t, levels)),
        Test3::Level(line, high) => {
            levels.push((*line, *high));
            Some(())
        }
        Test3::Match(bus, bits, open) => {
            for (place, line) in bus.lines.iter().rev().enumerate() {
                if open >> place & 1 == 0 {
                    levels.push((*line, bits >> place & 1 == 1));
                }
            }
            Some(())
        }
        _ => None,
    }
}

fn sorted_lines(event: &Guarded) -> Vec<LineId> {
    let mut lines = Vec::new();
    event.collect(&mut lines);
    lines.sort_unstable();
    lines.dedup();
    lines
}
