//! Value change dumps (IEEE 1364-2005, clause 18), in and out.
//!
//! On the way in, a simulation is an exact record: its resolution is [`Resolution::EXACT`]. A dump that was
//! written here says in a comment of its header what it is a record of, and is read as that: sampled or
//! not, how well its instants are known, time zero, and what is stated of its lines. `x`
//! is kept as unknown and `z` as floating, vectors become a line per bit and a bus, real variables analog lines
//! whose values hold, and string variables are set aside with a remark. Times are divided by their greatest common divisor, so that a time
//! scale of 1 fs costs nothing.
//!
//! [`Resolution::EXACT`]: crate::time::Resolution::EXACT

mod codes;
mod header;
mod note;
mod read;
mod scan;
mod scanned;
mod signals;
mod stream;
mod values;
mod words;
mod write;

pub(crate) use read::read_source;
pub use read::{read, read_file};
pub use write::write;
