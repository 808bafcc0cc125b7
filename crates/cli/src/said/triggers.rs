//! What a trigger waits for.

use deep_tap::event::StateTable;
use serde::{Serialize, Serializer};

#[derive(Serialize)]
struct SaidStates<'a> {
    states: Vec<SaidState<'a>>,
}

#[derive(Serialize)]
struct SaidState<'a> {
    name: &'a str,
    arms: Vec<SaidArm<'a>>,
}

/// One thing that a state waits for, and the state that comes next, counted from 0.
#[derive(Serialize)]
struct SaidArm<'a> {
    when: &'a str,
    fires: bool,
    next: usize,
}

/// The states that an event makes.
pub(crate) fn states<S: Serializer>(of: &StateTable, serializer: S) -> Result<S::Ok, S::Error> {
    let states = of.states.iter().map(|state| {
        let arms = state.arms.iter().map(|arm| SaidArm { when: &arm.when, fires: arm.fires, next: arm.next });
        SaidState { name: &state.name, arms: arms.collect() }
    });
    SaidStates { states: states.collect() }.serialize(serializer)
}
