//! Arrays of numbers (`.npy`, versions 1 to 3 of its format), in and out.
//!
//! A vector of unsigned integers holds packed samples; a matrix of booleans or of zeros and ones has a column
//! for each line, one of other integers a column for each bus, one of floating-point numbers a column for each
//! analog line; of a structured array, each field is a column.

mod archive;
mod header;
mod read;
mod write;

pub(crate) use read::read_source;
pub use write::write;
