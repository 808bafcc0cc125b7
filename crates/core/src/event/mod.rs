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
//! lines and buses of a [`Scope`]; [`Program::hits`] finds its occurrences in a capture.

mod ast;
mod compile;
mod condition;
mod engine;
mod frames;
mod lexer;
mod names;
mod parser;
mod program;
mod search;
mod states;
mod table;

pub use ast::{
    Comparison, Condition, Direction, Event, FieldTest, Lasting, Name, Simple, SimpleKind, Span, Step,
    StepLimit, Test, ValuePattern,
};
pub use engine::{BusSeen, Hits, StreamSearch};
pub use frames::{FrameBus, FrameReader, FrameSource, FrameTests};
pub use names::{Meaning, Scope};
pub use parser::KEYWORDS;
pub use program::{ConditionProgram, LineEdge, Program};
pub use search::{Certainty, DoubtfulHits, Hit, Stretch, Stretches};
pub use states::{Action, Arm, State, StateMachine, StateProblem, StateReport, Wait};
pub use table::{ArmRow, StateRow, StateTable};

use crate::capture::Capture;
use crate::time::Tick;
use std::ops::Range;

impl ConditionProgram {
    /// The stretches of `range` in which the condition holds, in order of time.
    pub fn stretches<'a>(&'a self, capture: &'a Capture, range: Range<Tick>) -> Stretches<'a> {
        Stretches::new(capture, &self.test, range)
    }
}

/// Whether an expression uses a name, as a word of its own.
pub(crate) fn mentions(text: &str, name: &str) -> bool {
    lexer::tokens(text).iter().any(|(token, _)| match token {
        lexer::Token::Word(word) | lexer::Token::Quoted(word) => word == name,
        _ => false,
    })
}
