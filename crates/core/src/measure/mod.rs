//! Numbers about a record.

mod glitch;

pub use glitch::{Glitches, glitches, remove_glitches};
