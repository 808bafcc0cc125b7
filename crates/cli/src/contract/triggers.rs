//! What a trigger waits for.

use deep_tap::event::StateTable;
use serde::{Serialize, Serializer};

#[derive(Serialize)]
struct StatesRow<'a> {
    states: Vec<StateRow<'a>>,
}

#[derive(Serialize)]
struct StateRow<'a> {
    name: &'a str,
    arms: Vec<ArmRow<'a>>,
}

/// One thing that a state waits for, and the state that comes next, counted from 0.
#[derive(Serialize)]
struct ArmRow<'a> {
    when: &'a str,
    fires: bool,
    next: usize,
}

/// The states that an event makes.
pub(crate) fn states<S: Serializer>(of: &StateTable, serializer: S) -> Result<S::Ok, S::Error> {
    let states = of.states.iter().map(|state| {
        let arms = state.arms.iter().map(|arm| ArmRow { when: &arm.when, fires: arm.fires, next: arm.next });
        StateRow { name: &state.name, arms: arms.collect() }
    });
    StatesRow { states: states.collect() }.serialize(serializer)
}
