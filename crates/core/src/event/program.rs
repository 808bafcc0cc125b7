//! Checked events and conditions.

use super::ast::{Condition, Direction, Event, Lasting, StepLimit};
use super::compile::Checker;
use super::condition::{Test3, both};
use super::frames::FrameForm;
use super::names::Scope;
use super::states::StateMachine;
use super::table::StateTable;
use crate::error::{Error, ErrorKind, Result};
use crate::known::Instants;
use crate::line::{Bus, Crossing, Level, LineId, Signal};
use crate::time::{Rate, Time, TimeBase, Voltage};

/// What a program waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    Edge(Signal, Direction),
    Changes(Vec<Signal>),
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
    fn collect(&self, signals: &mut Vec<Signal>) {
        match &self.tree {
            Tree::Simple(Form::Edge(line, _)) => signals.push(*line),
            Tree::Simple(Form::Changes(changing)) => signals.extend(changing),
            Tree::Simple(Form::When(test) | Form::Lasting(test, _)) => signals.extend(test.signals()),
            Tree::Simple(Form::Frame(frame)) => signals.extend(frame.bus.0.lines().iter().map(Signal::from)),
            Tree::Any(any) => any.iter().for_each(|g| g.collect(signals)),
            Tree::Sequence(stages) => {
                stages
                    .iter()
                    .flat_map(|s| s.unless.iter().chain([&s.event]))
                    .for_each(|g| g.collect(signals));
            }
            Tree::Machine(states) => {
                states.iter().flatten().filter_map(|a| a.event.as_ref()).for_each(|g| g.collect(signals));
            }
        }
        signals.extend(self.guard.iter().flat_map(Test3::signals));
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
        Ok(ConditionProgram { test, text: text.to_string() })
    }

    /// Whether it holds, given a way to ask for levels; `None` when unknown levels leave that open.
    pub fn holds(&self, mut level: impl FnMut(Signal) -> Level) -> Option<bool> {
        self.test.eval(&mut level)
    }

    /// The lines and crossings that it looks at, sorted.
    pub fn signals(&self) -> Vec<Signal> {
        self.test.signals()
    }

    /// What the beginnings and ends of its stretches are read from.
    pub fn instants(&self) -> Instants {
        Instants::edges(self.signals())
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
    /// How far its voltages may be off.
    level_error: Voltage,
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
        let (text, table) = (text.to_string(), StateTable::of_event(&event, text));
        Ok(Program { root, text, table, level_error: Voltage::ZERO })
    }

    pub(super) fn machine(machine: &StateMachine, states: Vec<Vec<MachineArm>>) -> Self {
        Program {
            root: Guarded { tree: Tree::Machine(states), guard: None },
            text: machine.to_string(),
            table: StateTable::of_machine(machine),
            level_error: Voltage::ZERO,
        }
    }

    /// The same event, only where a condition holds too.
    #[must_use]
    pub fn guarded(mut self, condition: &ConditionProgram) -> Self {
        self.root.guard = both(self.root.guard, Some(condition.test.clone()));
        self
    }

    /// The same event where its voltages may be off by this much, since they were taken from the record.
    #[must_use]
    pub(crate) fn with_level_error(self, level_error: Voltage) -> Self {
        Program { level_error, ..self }
    }

    /// How far its voltages may be off.
    pub(in crate::event) fn level_error(&self) -> Voltage {
        self.level_error
    }

    /// What its instants are read from.
    pub fn instants(&self) -> Instants {
        let ends_between = match &self.root.tree {
            Tree::Simple(form) => matches!(form, Form::Lasting(_, Lasting::Over(_)) | Form::Frame(_)),
            Tree::Any(_) | Tree::Sequence(_) | Tree::Machine(_) => true,
        };
        let edges = Instants::edges(self.event_signals()).between_ticks(ends_between);
        edges.with_level_error(self.level_error)
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

    /// The lines and crossings whose edges make it happen, sorted.
    pub fn event_signals(&self) -> Vec<Signal> {
        let without_guard = Guarded { guard: None, ..self.root.clone() };
        sorted_signals(&without_guard)
    }

    /// The crossings of analog lines among [`signals`](Self::signals).
    pub fn crossings(&self) -> Vec<Crossing> {
        self.signals().into_iter().filter_map(Signal::crossing).collect()
    }

    /// All lines and crossings it looks at, those of its `while` included, sorted.
    pub fn signals(&self) -> Vec<Signal> {
        sorted_signals(&self.root)
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
        let levels = levels.into_iter().map(|(signal, high)| Some((signal.line()?, high)));
        Some(LineEdge { line: line.line()?, direction, levels: levels.collect::<Option<_>>()? })
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
pub(super) fn plain_levels(test: &Test3, levels: &mut Vec<(Signal, bool)>) -> Option<()> {
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

fn sorted_signals(event: &Guarded) -> Vec<Signal> {
    let mut signals = Vec::new();
    event.collect(&mut signals);
    signals.sort_unstable();
    signals.dedup();
    signals
}
