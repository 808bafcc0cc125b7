//! Numbers about a record: which lines are alive, short pulses.

mod activity;
mod glitch;

pub use activity::{Activity, LineActivity};
pub use glitch::{Glitches, glitches, remove_glitches};
