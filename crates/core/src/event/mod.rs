//! The event language: one way to say *when*, for triggers, searches, measurements and limits.
//!
//! ```text
//! ADC_SCLK rises while ADC_CS_N low          an edge qualified by levels
//! when ADDR == 0x4 and WE_N low              the instant a pattern appears
//! (ADDR == 0x4) for > 20 ns                  the same, but it must have lasted
//! WE_N low for < 20 ns                       a pulse that is too short, when it ends
//! rtc has address == 0x51, nack              a frame of a serial bus, when it ends
//! ```
//!
//! [`Event::parse`] gives the [syntax tree](Event); [`Program::compile`] checks it against the
//! lines and buses of a [`Scope`]; [`Program::at`] a clock it can run: [`TimedProgram::hits`] finds its
//! occurrences in a capture, [`StreamSearch`] in samples as they arrive.

mod check;
mod doubt;
mod hit;
mod run;
mod syntax;
mod timed;

pub use check::{
    Action, Arm, ArmRow, ConditionProgram, FrameMatcher, FrameTests, LineEdge, Meaning, Program, Scope,
    State, StateMachine, StateProblem, StateReport, StateRow, StateTable, Wait,
};
pub use doubt::{DoubtfulHits, MarkWords, Stretch, Stretches};
pub(crate) use doubt::{MarkReader, StretchReader, reach_of};
pub use hit::{Certainty, Hit, MarkWord};
pub use run::{BusSeen, FieldSeen, FramesSeen, Hits, StreamSearch};
pub(crate) use syntax::mentions;
pub use syntax::{
    BusUnit, Comparison, Condition, Direction, Event, FieldTest, KEYWORDS, Lasting, Name, Simple, SimpleKind,
    Step, StepLimit, Test, TextSpan, ValuePattern,
};
pub use timed::TimedProgram;
