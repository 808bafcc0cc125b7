//! Any event as a small table of states: what is waited for in each, and what happens then.

use std::fmt::Write;

use super::states::{Action, State, StateMachine, Wait};
use crate::event::syntax::{Event, Step, StepLimit};

/// What an event waits for, state by state; it begins in the first.
///
/// For a sequence this shows the way of one attempt. Each occurrence of its first step begins an
/// attempt of its own, so that several can be under way at once.
///
/// ```
/// use deep_tap_core::event::{Meaning, Program, Scope};
/// use deep_tap_core::line::LineId;
///
/// let mut scope = Scope::new();
/// scope.define("REQ", Meaning::Line(LineId(0)));
/// scope.define("ACK", Meaning::Line(LineId(1)));
/// let program = Program::compile("REQ rises then no ACK rises within 350 us", &scope)?;
/// let table = program.state_table();
/// assert_eq!(table.states.len(), 2);
/// assert_eq!(table.states[1].arms[0].when, "on 'ACK rises'");
/// assert_eq!(table.states[1].arms[1].when, "after 350 us");
/// assert!(table.states[1].arms[1].fires);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StateTable {
    /// The states.
    pub states: Vec<StateRow>,
}

/// One state.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StateRow {
    /// Its name.
    pub name: String,
    /// What it waits for; of several at once the first wins.
    pub arms: Vec<ArmRow>,
}

/// One thing that a state waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ArmRow {
    /// What, in words.
    pub when: String,
    /// Whether the event has happened then.
    pub fires: bool,
    /// The state that comes next, counted from 0.
    pub next: usize,
}

impl ArmRow {
    fn go(when: String, next: usize) -> ArmRow {
        ArmRow { when, fires: false, next }
    }
}

impl StateTable {
    pub(super) fn of_event(event: &Event, text: &str) -> StateTable {
        let words = |step: &Step| {
            let first = step.any.first().map_or(0, |simple| simple.span.start);
            let last = step.any.last().map_or(0, |simple| simple.span.end);
            format!("on '{}'", text.get(first..last).unwrap_or("?"))
        };
        let mut states: Vec<StateRow> = Vec::new();
        let mut unless = Vec::new();
        for step in &event.steps {
            if step.absent && step.limit.is_none() {
                // It ends the attempt when it comes before the next step.
                unless.push(ArmRow::go(words(step), 0));
                continue;
            }
            let next = states.len() + 1;
            let mut arms = std::mem::take(&mut unless);
            let mut when = words(step);
            if let Some(times) = step.times {
                let _ = write!(when, " {times} times");
            }
            match step.limit {
                Some(StepLimit::Within(time)) if step.absent => {
                    arms.push(ArmRow::go(when, 0));
                    arms.push(ArmRow::go(format!("after {time}"), next));
                }
                Some(StepLimit::Within(time)) => {
                    arms.push(ArmRow::go(when, next));
                    arms.push(ArmRow::go(format!("after {time}"), 0));
                }
                Some(StepLimit::After(time)) => {
                    arms.push(ArmRow::go(format!("{when}, {time} or more later"), next));
                }
                None => arms.push(ArmRow::go(when, next)),
            }
            states.push(StateRow { name: format!("step {next}"), arms });
        }
        if let [only] = &mut states[..] {
            only.name = "waiting".to_string();
        }
        let end = states.len();
        for arm in states.iter_mut().flat_map(|state| &mut state.arms).filter(|arm| arm.next == end) {
            (arm.fires, arm.next) = (true, 0);
        }
        StateTable { states }
    }

    pub(super) fn of_machine(machine: &StateMachine) -> StateTable {
        let find = |name: &String| machine.states.iter().position(|s| s.name == *name).unwrap_or(0);
        let arm = |wait: &Wait, action: &Action| match action {
            Action::Go(name) => ArmRow::go(wait.to_string(), find(name)),
            Action::Fire(name) => {
                ArmRow { when: wait.to_string(), fires: true, next: name.as_ref().map_or(0, find) }
            }
        };
        let row = |state: &State| StateRow {
            name: state.name.clone(),
            arms: state.arms.iter().map(|a| arm(&a.wait, &a.action)).collect(),
        };
        StateTable { states: machine.states.iter().map(row).collect() }
    }

    /// What an arm does, in words.
    pub fn does(&self, arm: &ArmRow) -> String {
        let next = self.states.get(arm.next).map_or("?", |state| state.name.as_str());
        match (arm.fires, arm.next) {
            (true, 0) => "fires".to_string(),
            (true, _) => format!("fires, then {next}"),
            (false, _) => format!("goes to {next}"),
        }
    }

    /// The table as a graph in the DOT language, for a program that draws such graphs.
    pub fn to_dot(&self) -> String {
        let quoted = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
        let mut dot = "digraph trigger {\n  rankdir=LR;\n  node [shape=box, style=rounded];\n".to_string();
        let fires = self.states.iter().flat_map(|state| &state.arms).any(|arm| arm.fires);
        if fires {
            dot.push_str("  fire [label=\"trigger\", shape=doublecircle];\n");
        }
        for (number, state) in self.states.iter().enumerate() {
            let _ = writeln!(dot, "  s{number} [label={}];", quoted(&state.name));
        }
        for (number, state) in self.states.iter().enumerate() {
            for arm in &state.arms {
                let target = if arm.fires { "fire".to_string() } else { format!("s{}", arm.next) };
                let _ = writeln!(dot, "  s{number} -> {target} [label={}];", quoted(&arm.when));
                if arm.fires && arm.next != 0 {
                    let _ = writeln!(dot, "  fire -> s{} [style=dashed];", arm.next);
                }
            }
        }
        dot.push_str("}\n");
        dot
    }
}
