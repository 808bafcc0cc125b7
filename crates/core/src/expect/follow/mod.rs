//! A value on one bus, and what it should cause elsewhere.
//!
//! Each value that is asked for should show on another bus, or as a voltage, within a time. Every one of them is
//! judged: whether it came, whether it was the right one, and how long that took, with bounds.

mod asked;
mod caused;
mod delay;
mod given;
mod outcome;
mod settled;
mod walk;

pub use given::{Follow, FollowResult, FollowSource, FollowTarget, FollowedValue, ValueOn};
