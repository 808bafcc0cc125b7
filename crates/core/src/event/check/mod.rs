//! From syntax tree to a program over lines: names are looked up, values fit, nothing is impossible.

mod checker;
mod condition;
mod form;
mod frames;
mod machine;
mod names;
mod program;
mod states;
mod table;
mod values;

pub(in crate::event) use condition::Test3;
pub(in crate::event) use form::{Form, Guarded, MachineArm, Stage, Tree};
pub(in crate::event) use frames::{Asked, FrameForm};
pub use frames::{FrameMatcher, FrameTests};
pub use machine::StateProblem;
pub use names::{Meaning, Scope};
pub use program::{ConditionProgram, LineEdge, Program};
pub use states::{Action, Arm, State, StateMachine, StateReport, Wait};
pub use table::{ArmRow, StateRow, StateTable};
