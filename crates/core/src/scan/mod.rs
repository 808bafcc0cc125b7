//! From samples to traces: blocks of packed samples become bit planes, and those become edges.
//!
//! Samples are looked at 64 at a time. Where none of them differs from the one before, nothing is
//! done; otherwise the lines that change, and only those, are turned into one word of levels each.

#[cfg(target_arch = "x86_64")]
mod avx2;
mod feeder;
mod filler;
mod memory;
mod own;
mod planes;
mod portable;
mod samples;
mod slicer;

pub(crate) use feeder::{Feeder, Stretch};
pub use filler::{Filler, fill};
pub use memory::Memory;
pub(crate) use planes::{GROUP, Plane, SPAN};
pub use samples::{SampleBlock, SampleWidth, Samples};
pub(crate) use slicer::Slicer;
