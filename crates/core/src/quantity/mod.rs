//! Numbers with units: exact, read and written the way engineers write them.
//!
//! Every quantity is an exact [`Rational`]: a verdict never depends on floating point. What is known of
//! a value are its [`Bounds`]; a statistic, which is rounded, is an [`Estimate`]. All texts with digits
//! and prefixes are made here.

mod bounds;
mod estimate;
mod figure;
mod prefix;
mod print;
mod rational;
mod read;
mod text;
mod units;

pub use bounds::Bounds;
pub use estimate::Estimate;
pub use figure::{Quantity, Unit};
pub use rational::Rational;
pub(crate) use rational::gcd;
pub(crate) use read::exponent_len;
pub use text::{engineering, estimate, outward, resolution, rough, signed, uncertain};
pub use units::{Frequency, Percent, Rate, SampleCount, Time, Voltage};
