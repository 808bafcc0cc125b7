//! State machines: a longer sequence, written as named states.

use std::fmt;

use super::compile::Checker;
use super::names::Scope;
use super::program::{MachineArm, Program};
use crate::error::{Error, ErrorKind, suggest};
use crate::event::ast::Event;
use crate::time::Time;

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

/// What is wrong with a state machine, and where.
#[derive(Debug)]
pub struct StateProblem {
    /// The state, counted from 0.
    pub state: usize,
    /// Its arm, counted from 0; `None` when the state as a whole is meant.
    pub arm: Option<usize>,
    /// What is wrong; about an event, with a place in its text.
    pub error: Error,
}

impl Program {
    /// Checks a state machine and makes it ready to be searched for.
    ///
    /// # Errors
    /// All problems at once: expressions that are wrong, unknown or repeated states, states that
    /// cannot be reached, that have no way out, or no state that fires.
    pub fn from_states(machine: &StateMachine, scope: &Scope) -> Result<Self, Vec<StateProblem>> {
        let mut problems = Vec::new();
        let mut problem = |state: usize, arm: Option<usize>, message: String, help: String| {
            let error = Error::new(ErrorKind::Event, message).with_help(help);
            problems.push(StateProblem { state, arm, error });
        };
        let names: Vec<&str> = machine.states.iter().map(|s| s.name.as_str()).collect();
        let find = |name: &str| names.iter().position(|n| *n == name);
        let mut compiled = Vec::new();
        let mut wrong = Vec::new();
        for (number, state) in machine.states.iter().enumerate() {
            if find(&state.name) != Some(number) {
                problem(number, None, format!("two states are called '{}'", state.name), "rename one".into());
            }
            if state.arms.is_empty() {
                let message = format!("the state '{}' has no way out", state.name);
                problem(number, None, message, "give it an arm: an event or a time, and where to go".into());
            }
            let mut arms = Vec::new();
            for (place, arm) in state.arms.iter().enumerate() {
                let (fire, target) = match &arm.action {
                    Action::Go(name) => (false, Some(name)),
                    Action::Fire(name) => (true, name.as_ref()),
                };
                let go = target.map(|name| (name, find(name)));
                if let Some((name, None)) = go {
                    let help = suggest(name, names.iter().copied(), "state");
                    problem(number, Some(place), format!("there is no state '{name}'"), help);
                }
                let (event, after, times) = match &arm.wait {
                    Wait::After(time) => (None, Some(*time), 1),
                    Wait::Event { text, times } => {
                        let tree = Event::parse(text);
                        let checked = tree.and_then(|t| Checker { text, scope }.event(&t, &mut Vec::new()));
                        match checked {
                            Ok(event) => (Some(event), None, (*times).max(1)),
                            Err(error) => {
                                wrong.push(StateProblem { state: number, arm: Some(place), error });
                                continue;
                            }
                        }
                    }
                };
                let go = go.and_then(|(_, found)| found).unwrap_or(0);
                arms.push(MachineArm { event, after, times, fire, go });
            }
            compiled.push(arms);
        }
        let fires = |arms: &Vec<MachineArm>| arms.iter().any(|a| a.fire);
        if machine.states.is_empty() {
            problem(
                0,
                None,
                "a state machine has at least one state".into(),
                "add a state with an arm that fires".into(),
            );
        } else if wrong.is_empty() && !compiled.iter().any(fires) {
            problem(0, None, "no state ever fires".into(), "let an arm fire: fire = true".into());
        }
        let mut reached = vec![false; compiled.len()];
        let mut open: Vec<usize> = if compiled.is_empty() { Vec::new() } else { vec![0] };
        while let Some(state) = open.pop() {
            if !std::mem::replace(&mut reached[state], true) {
                open.extend(compiled[state].iter().map(|a| a.go).filter(|s| *s < compiled.len()));
            }
        }
        for (number, _) in reached.iter().enumerate().filter(|(_, r)| !**r && wrong.is_empty()) {
            let message = format!("the state '{}' cannot be reached", names[number]);
            problem(number, None, message, "let an arm of another state go to it, or take it out".into());
        }
        problems.extend(wrong);
        if !problems.is_empty() {
            return Err(problems);
        }
        Ok(Program::machine(machine, compiled))
    }
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
