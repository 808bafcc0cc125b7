//! Positions in a record, the clock that they are counted with, and how well they are known.
//!
//! Positions are whole ticks and arithmetic on them is integer arithmetic. A tick is an exact
//! [fraction of a second](crate::quantity::Rational).

mod base;
mod moment;
mod resolution;

pub use base::{MAX_TICKS, Tick, TimeBase};
pub use moment::Moment;
pub use resolution::Resolution;
