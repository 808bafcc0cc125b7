//! Packed samples, in and out: every sample takes 1, 2, 4 or 8 bytes, and each bit of it is a line.
//!
//! Such a file says nothing about itself: its width, the order of its bytes, what stands before the first
//! sample and the rate are stated.

mod read;
mod write;

pub(crate) use read::{Samples, period, read_source, skip};
pub use write::{PackedBits, write};
