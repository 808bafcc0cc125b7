//! What the outputs for programs say: types of their own, so that the library's may change and a
//! program that reads them need not.
//!
//! Times are in seconds, voltages in volts, shares in percent, rates in samples per second.

pub(crate) mod expectations;
pub(crate) mod frames;
pub(crate) mod histograms;
pub(crate) mod limits;
pub(crate) mod lines;
pub(crate) mod measures;
pub(crate) mod triggers;
