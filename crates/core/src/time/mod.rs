//! Time: quantities with units, positions, the time base, and intervals with their bounds.
//!
//! Positions are whole ticks and arithmetic on them is integer arithmetic. A tick is an exact
//! fraction of a second, and so is every quantity: verdicts never depend on floating point.

mod base;
mod interval;
mod quantity;
mod rational;

pub use base::{MAX_TICKS, Tick, TimeBase};
pub use interval::{Bounds, Interval, Resolution};
pub use quantity::{Frequency, Percent, Rate, Samples, Time, Voltage};
pub use rational::Rational;
pub(crate) use rational::gcd;
