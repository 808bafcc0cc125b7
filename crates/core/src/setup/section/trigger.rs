//! The section of the trigger.

use crate::error::{Error, ErrorKind, TextPlace};
use crate::event::{Action, Arm, Program, Scope, State, StateMachine, Wait};
use crate::limit::BoundLimit;
use crate::quantity::{SampleCount, Time};
use crate::reader::{Placed, Section, moved};
use crate::setup::Trigger;

/// A trigger as written.
#[derive(Clone, Debug)]
pub(in crate::setup) enum DraftTrigger {
    Event(Placed<String>),
    States(Vec<DraftState>),
    Violation(Vec<Placed<String>>),
}

#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftState {
    pub(in crate::setup) name: Placed<String>,
    /// Each with the place of its event, or of itself.
    pub(in crate::setup) arms: Vec<(Arm, TextPlace)>,
    pub(in crate::setup) place: TextPlace,
}

/// In place of the names of limits: all of them.
const ALL: &str = "all";

impl DraftTrigger {
    /// Tells what is wrong with the names of limits.
    pub(in crate::setup) fn check_limits<'l>(
        &self,
        limits: impl Iterator<Item = &'l BoundLimit> + Clone,
        problems: &mut Vec<Error>,
    ) {
        let DraftTrigger::Violation(names) = self else { return };
        let known: Vec<String> = limits.clone().map(BoundLimit::name).collect();
        for name in names.iter().filter(|name| name.value != ALL || known.is_empty()) {
            if !limits.clone().any(|limit| limit.is_meant_by(&name.value)) {
                let message = format!(
                    "the trigger waits for a violation of '{}', and there is no such limit",
                    name.value
                );
                let help = match known.is_empty() {
                    true => "the setup binds no limits: add a [[part]] section".to_string(),
                    false => format!("there are: {}", known.join(", ")),
                };
                let error = Error::new(ErrorKind::Setup, message).with_help(help);
                problems.push(moved(error, ErrorKind::Setup, &name.place));
            }
        }
    }

    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let event = section.text("event");
        let states = section.sections("state", "name");
        let violation = section.list("violation");
        if event.is_none() && states.is_empty() && violation.is_none() {
            let example = "event = \"RESET_N rises\" (or [[trigger.state]] for a state machine, or violation = [\"U5.tDH\"])";
            section.missing("event", example);
        }
        let mut drafts = Vec::new();
        for state in &states {
            let name = state.required("name", "name = \"waiting\"");
            let mut arms = Vec::new();
            for arm in state.sections("arm", "on") {
                arms.extend(read_arm(&arm));
                arm.finish();
            }
            state.finish();
            if let Some(name) = name {
                drafts.push(DraftState { name, arms, place: state.place() });
            }
        }
        match (event, states.is_empty()) {
            (event, no_states) if let Some(violation) = violation => {
                if event.is_some() || !no_states {
                    let message = "the trigger is a violation and something else";
                    section.refuse(&violation.place, message, "keep one of them");
                    return None;
                }
                Some(DraftTrigger::Violation(violation.value))
            }
            (Some(event), false) => {
                let message = "the trigger is both an event and a state machine";
                section.refuse(&event.place, message, "keep one of them");
                None
            }
            (Some(event), true) => Some(DraftTrigger::Event(event)),
            (None, _) => Some(DraftTrigger::States(drafts)),
        }
    }

    pub(in crate::setup) fn resolve(&self, scope: &Scope, problems: &mut Vec<Error>) -> Trigger {
        let states = match self {
            DraftTrigger::Event(event) => {
                check_event(event, scope, problems);
                return Trigger::Event(event.value.clone());
            }
            DraftTrigger::States(states) => states,
            // Which limits there are is known later.
            DraftTrigger::Violation(names) => {
                let names = names.iter().map(|name| name.value.clone()).filter(|name| name != ALL);
                return Trigger::Violation(names.collect());
            }
        };
        let state = |s: &DraftState| State {
            name: s.name.value.clone(),
            arms: s.arms.iter().map(|(arm, _)| arm.clone()).collect(),
        };
        let machine = StateMachine { states: states.iter().map(state).collect() };
        // What could not even be read has been complained about already.
        if !states.is_empty() {
            for problem in Program::from_states(&machine, scope).err().into_iter().flatten() {
                let state = &states[problem.state];
                let place = problem.arm.map_or(&state.place, |arm| &state.arms[arm].1);
                problems.push(moved(problem.error, ErrorKind::Setup, place));
            }
        }
        Trigger::States(machine)
    }
}

fn read_arm(section: &Section<'_>) -> Option<(Arm, TextPlace)> {
    let on = section.text("on");
    let after = section.parsed::<Time>("after");
    let times = section.parsed::<SampleCount>("times").map_or(1, |t| t.value.0);
    let go = section.text("go").map(|g| g.value);
    let fire = section.flag("fire").unwrap_or(false);
    let (wait, place) = match (on, after) {
        (Some(on), None) if times > 0 => (Wait::Event { text: on.value, times }, on.place),
        (Some(_), None) => {
            section.complain("an event cannot be waited for 0 times", "give a count from 1 on");
            return None;
        }
        (None, Some(after)) => (Wait::After(after.value), section.place()),
        _ => {
            section.complain("an arm waits for an event or for a time", "give it either 'on' or 'after'");
            return None;
        }
    };
    let action = match (go, fire) {
        (go, true) => Action::Fire(go),
        (Some(go), false) => Action::Go(go),
        (None, false) => {
            section.complain("this arm does nothing", "add go = \"STATE\" or fire = true");
            return None;
        }
    };
    Some((Arm { wait, action }, place))
}

/// Tells what is wrong with an event.
pub(in crate::setup) fn check_event(event: &Placed<String>, scope: &Scope, problems: &mut Vec<Error>) {
    if let Err(error) = Program::compile(&event.value, scope) {
        problems.push(moved(error, ErrorKind::Setup, &event.place));
    }
}
