//! From a state machine as written to one that is checked.

use super::checker::Checker;
use super::form::MachineArm;
use super::names::Scope;
use super::program::Program;
use super::states::{Action, StateMachine, Wait};
use crate::error::{Error, ErrorKind, suggest};
use crate::event::syntax::Event;

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
