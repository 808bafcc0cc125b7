//! Numbers about a record: intervals, pulses, frequency and jitter, short pulses, voltages, and which
//! lines are alive.

mod activity;
mod answers;
mod around;
mod bursts;
mod distribution;
mod glitch;
mod intervals;
mod jitter;
mod voltage;

pub use activity::{Activity, LineActivity, Neighbours};
pub use answers::{Answers, answers};
pub use around::{Around, Counted, around};
pub use bursts::{Bursts, bursts};
pub use distribution::{Bin, Distribution};
pub use glitch::{Glitches, glitches, remove_glitches};
pub use intervals::{Intervals, Measure, chain, duty, periods, widths};
pub use jitter::{Averages, Jitter, averages, jitter};
pub use voltage::{Transition, VoltageLevels, transitions, voltage_levels};
