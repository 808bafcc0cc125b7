//! Events and conditions checked against the names they use.

use super::checker::Checker;
use super::condition::{Test3, both};
use super::form::{Form, Guarded, MachineArm, Tree, plain_levels};
use super::frames::FrameForm;
use super::names::Scope;
use super::states::StateMachine;
use super::table::StateTable;
use crate::decode::SerialBus;
use crate::error::Result;
use crate::event::syntax::{Condition, Direction, Event, Lasting};
use crate::known::Instants;
use crate::line::{Crossing, Level, LineId, Signal};
use crate::quantity::{Time, Voltage};

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
    /// [`ErrorKind::Event`](crate::ErrorKind::Event) with the column, for what does not parse, an
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

    /// The line whose level it asks for, and which, if that is all it asks.
    pub(crate) fn level(&self) -> Option<(Signal, Level)> {
        match &self.test {
            Test3::Level(line, high) => Some((*line, Level::from(*high))),
            _ => None,
        }
    }

    /// Where it asks for the level of a line alone: the edges that lead to it, and away.
    pub(crate) fn edges(&self) -> Option<[Program; 2]> {
        let (line, level) = self.level()?;
        let edge = |direction| Program {
            root: Guarded { tree: Tree::Simple(Form::Edge(line, direction)), guard: None },
            text: self.text.clone(),
            table: StateTable::default(),
            level_error: Voltage::ZERO,
        };
        let edges = [Direction::Rises, Direction::Falls].map(edge);
        let [rises, falls] = edges;
        Some(if level == Level::High { [rises, falls] } else { [falls, rises] })
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

/// An event checked against the lines and buses it names. [`at`](Program::at) a clock it can be searched
/// for.
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
    /// [`ErrorKind::Event`](crate::ErrorKind::Event) with the column, for what does not parse, an
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

    /// A part of it as an event of its own.
    pub(in crate::event) fn part(&self, part: &Guarded) -> Program {
        let (text, table) = (self.text.clone(), StateTable::default());
        Program { root: part.clone(), text, table, level_error: self.level_error }
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
            Tree::Simple(form) => match form {
                Form::Frame(frame) => frame.is_between_ticks(),
                form => matches!(form, Form::Lasting(_, Lasting::Over(_))),
            },
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

    /// The buses that it asks for frames.
    pub(in crate::event) fn frames(&self) -> Vec<&FrameForm> {
        let mut frames = Vec::new();
        self.root.frames(&mut frames);
        frames
    }

    /// The serial buses that it asks.
    pub fn serial_buses(&self) -> Vec<&SerialBus> {
        let mut buses: Vec<&SerialBus> = Vec::new();
        for form in self.frames() {
            if !buses.contains(&&form.bus) {
                buses.push(&form.bus);
            }
        }
        buses
    }

    /// The shortest duration in it that must be told from nothing: no tick may be longer.
    pub(crate) fn shortest_duration(&self) -> Option<Time> {
        self.root.shortest_duration()
    }

    /// How long what it ends takes at least: a condition that must last, a frame whose bits have a known rate, steps
    /// that come after a time; nothing for an edge.
    pub(crate) fn about(&self) -> Time {
        self.root.about()
    }

    /// How long its condition must last, if that is what it is.
    pub(in crate::event) fn lasting(&self) -> Option<Lasting> {
        match &self.root.tree {
            Tree::Simple(Form::Lasting(_, lasting)) => Some(*lasting),
            _ => None,
        }
    }

    /// Whether it is one edge, change, `when` or `for`, with or without a `while`.
    pub fn is_simple(&self) -> bool {
        matches!(&self.root.tree, Tree::Simple(form) if !matches!(form, Form::Frame(_)))
    }

    /// Whether it is of several parts: alternatives, counts, sequences, states.
    pub fn is_composite(&self) -> bool {
        !matches!(&self.root.tree, Tree::Simple(_))
    }

    /// Whether it is a state machine, or made of one: what a sampled record does not show of it may still have
    /// happened.
    pub fn has_states(&self) -> bool {
        self.root.has_states()
    }

    /// Whether it asks a serial bus.
    pub fn is_of_frames(&self) -> bool {
        matches!(&self.root.tree, Tree::Simple(Form::Frame(_)))
    }

    /// The lines and crossings whose edges make it happen, sorted.
    pub fn event_signals(&self) -> Vec<Signal> {
        self.root.event_signals()
    }

    /// The crossings of analog lines among [`signals`](Self::signals).
    pub fn crossings(&self) -> Vec<Crossing> {
        self.signals().into_iter().filter_map(Signal::crossing).collect()
    }

    /// All lines and crossings it looks at, those of its `while` included, sorted.
    pub fn signals(&self) -> Vec<Signal> {
        self.root.signals()
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
