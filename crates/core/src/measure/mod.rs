//! Numbers about a record: which lines are alive, short pulses, voltages.

mod activity;
mod answers;
mod glitch;
mod voltage;

pub use activity::{Activity, LineActivity, Neighbours};
pub use answers::{Answers, answers};
pub use glitch::{Glitches, glitches, remove_glitches};
pub use voltage::{Transition, VoltageLevels, transitions, voltage_levels};
