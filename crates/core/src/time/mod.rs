//! Time: quantities with units, positions, the time base, and bounds.
//!
//! Positions are whole ticks and arithmetic on them is integer arithmetic. A tick is an exact
//! fraction of a second, and so is every quantity: verdicts never depend on floating point.

mod base;
mod quantity;
mod rational;
mod resolution;

pub use base::{MAX_TICKS, Tick, TimeBase};
pub use quantity::{Frequency, Percent, Rate, Samples, Time, Voltage};
pub use rational::Rational;
pub(crate) use rational::gcd;
pub use resolution::{Bounds, Resolution};
