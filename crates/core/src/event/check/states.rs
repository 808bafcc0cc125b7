//! State machines: a longer sequence, written as named states.

use std::fmt;

use crate::quantity::Time;

/// A state machine as it is written in a setup.
///
/// It is in one state at a time. Of the arms of that state the first to happen wins, on the same
/// tick the one written first; counts and times begin when the state is entered, and what happens
/// on the tick of entering it is not looked at. Firing is a hit; afterwards the machine begins anew
/// unless the arm says where to go.
///
/// ```
/// use deep_tap_core::event::{Action, Arm, Meaning, Program, Scope, State, StateMachine, Wait};
/// use deep_tap_core::line::LineId;
///
/// let arm = |wait, action| Arm { wait, action };
/// let on = |text: &str| Wait::Event { text: text.into(), times: 1 };
/// let machine = StateMachine {
///     states: vec![
///         State { name: "idle".into(), arms: vec![arm(on("REQ rises"), Action::Go("asked".into()))] },
///         State {
///             name: "asked".into(),
///             arms: vec![
///                 arm(on("ACK rises"), Action::Go("idle".into())),
///                 arm(Wait::After("350 us".parse()?), Action::Fire(None)),
///             ],
///         },
///     ],
/// };
/// let mut scope = Scope::new();
/// scope.define("REQ", Meaning::Line(LineId(0)));
/// scope.define("ACK", Meaning::Line(LineId(1)));
/// assert!(Program::from_states(&machine, &scope).is_ok());
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StateMachine {
    /// The states; it starts in the first.
    pub states: Vec<State>,
}

/// A state.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct State {
    /// Its name.
    pub name: String,
    /// Its arms, in the order in which they win on the same tick.
    pub arms: Vec<Arm>,
}

/// What a state waits for, and what it does then.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Arm {
    /// What it waits for.
    pub wait: Wait,
    /// What it does.
    pub action: Action,
}

/// What an arm waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wait {
    /// An event, this many times.
    Event {
        /// The event.
        text: String,
        /// How often, from 1 on.
        times: u64,
    },
    /// A time since the state was entered.
    After(Time),
}

impl fmt::Display for Wait {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Wait::Event { text, times: 1 } => write!(f, "on '{text}'"),
            Wait::Event { text, times } => write!(f, "on '{text}' {times} times"),
            Wait::After(time) => write!(f, "after {time}"),
        }
    }
}

/// How far a state machine has come: one state of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StateReport {
    /// The state.
    pub name: String,
    /// Whether the machine is in it.
    pub present: bool,
    /// How often it was entered.
    pub entered: u64,
    /// What each arm waits for, and how often that event came, in whatever state; `None` for times.
    pub arms: Vec<(String, Option<u64>)>,
}

/// What an arm does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// Goes to a state.
    Go(String),
    /// Fires, and then goes to a state, or begins anew.
    Fire(Option<String>),
}

impl fmt::Display for StateMachine {
    /// What it does, in words: one sentence per state.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, state) in self.states.iter().enumerate() {
            let lead = if i == 0 { "starts" } else { "; then" };
            write!(f, "{lead} in {}: ", state.name)?;
            for (i, arm) in state.arms.iter().enumerate() {
                if i > 0 {
                    f.write_str(", or ")?;
                }
                write!(f, "{} ", arm.wait)?;
                match &arm.action {
                    Action::Go(name) => write!(f, "goes to {name}")?,
                    Action::Fire(None) => f.write_str("fires")?,
                    Action::Fire(Some(name)) => write!(f, "fires and goes to {name}")?,
                }
            }
        }
        Ok(())
    }
}
