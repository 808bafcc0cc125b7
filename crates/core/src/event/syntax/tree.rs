//! The syntax tree of the event language.

use std::ops::Range;

use crate::quantity::{Time, Voltage};

/// A stretch of the expression's text, in bytes from 0.
pub type TextSpan = Range<usize>;

/// A name as it was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Name {
    /// The name, without quotes.
    pub text: String,
    /// Where it stands.
    pub span: TextSpan,
}

/// `step { "then" step [ limit ] }`: one step, or several that follow each other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// The steps, at least one.
    pub steps: Vec<Step>,
    /// The whole expression.
    pub span: TextSpan,
}

/// One step of a sequence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// `no`: the step is that this does not happen in time.
    pub absent: bool,
    /// The alternatives, joined by `or`; at least one.
    pub any: Vec<Simple>,
    /// `N times`.
    pub times: Option<u64>,
    /// `within` or `after`, counted from the step before.
    pub limit: Option<StepLimit>,
    /// Where it stands.
    pub span: TextSpan,
}

/// When a step may happen, counted from the step before; in time, or in whole ticks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepLimit<T = Time> {
    /// Not later than this.
    Within(T),
    /// Not before this.
    After(T),
}

/// One event without `or`, with its `while`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Simple {
    /// What happens.
    pub kind: SimpleKind,
    /// What must hold at that instant.
    pub guard: Option<Condition>,
    /// Where it stands.
    pub span: TextSpan,
}

/// What a simple event is.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum SimpleKind {
    /// `LINE rises`, `LINE falls`, `LINE changes`, `BUS changes`.
    Edge(Name, Direction),
    /// `ANALOG rises through 1.2 V`.
    Crossing(Name, Direction, Voltage),
    /// `when CONDITION`.
    When(Condition),
    /// `CONDITION for > 20 ns`.
    Lasting(Condition, Lasting),
    /// `BUS has FIELD == VALUE, …`, `BUS transfer has …`.
    Frame(Name, BusUnit, Vec<FieldTest>),
    /// `BUS at MARK`.
    Mark(Name, Name),
    /// `LINE floats` (`false`), `LINE driven` (`true`): that it begins, of a bus with all its lines.
    Driven(Name, bool),
    /// A whole event in parentheses.
    Group(Box<Event>),
    /// An event named in the setup.
    Named(Name),
}

/// Which way a level changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Direction {
    /// Low to high.
    Rises,
    /// High to low.
    Falls,
    /// Either.
    Changes,
}

/// How long a condition must last; in time, or in whole ticks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lasting<T = Time> {
    /// `> T`: longer; happens when the time is over.
    Over(T),
    /// `< T`: shorter; happens when the condition ends.
    Under(T),
    /// `T1 .. T2`, both included; happens when the condition ends.
    Between(T, T),
}

/// What is asked for on a serial bus.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum BusUnit {
    /// One frame.
    Frame,
    /// Frames that belong together, as one.
    Transfer,
}

/// A test of one field of a frame.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldTest {
    /// The field; `text` or `bytes` for data of any name.
    pub field: Name,
    /// `data[1]`: which of several of that name, from 0.
    pub place: Option<u64>,
    /// What its value must be; `None` when it only must be there.
    pub test: Option<Test>,
}

/// What a value must be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Test {
    /// A comparison.
    Compare(Comparison, ValuePattern),
    /// `in A .. B`, both included.
    In(ValuePattern, ValuePattern),
    /// `text "…"`, `bytes "…"`: these values in a row, at least one.
    Row(Vec<ValuePattern>),
}

/// A comparison operator.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Comparison {
    /// `==`
    Equal,
    /// `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    LessOrEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterOrEqual,
}

/// A value in which bits may be left open.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ValuePattern {
    /// The bits that are given; zero elsewhere.
    pub bits: u64,
    /// A one for each bit that may be anything.
    pub open: u64,
    /// The name of a value, where it is written as one: what it means is known with the bus.
    pub name: Option<String>,
    /// Where it stands.
    pub span: TextSpan,
}

/// What holds over time.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Condition {
    /// All hold.
    And(Vec<Condition>),
    /// At least one holds.
    Or(Vec<Condition>),
    /// It does not hold.
    Not(Box<Condition>),
    /// `LINE high` (`true`) or `LINE low`.
    Level(Name, bool),
    /// `BUS == VALUE` and its like.
    Bus(Name, Test),
    /// `LINE driven` (`true`), `LINE floating`, of a bus: all its lines.
    Driven(Name, bool),
    /// `ANALOG > 1.2 V` (`true`) or `ANALOG < 1.2 V`.
    Voltage(Name, bool, Voltage),
}
