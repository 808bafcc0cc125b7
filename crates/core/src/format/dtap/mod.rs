//! The capture container `*.dtap`.
//!
//! A file is a magic number, then blocks, each with its kind, length, tick range and checksums:
//! a header with everything but the edges, the edges in ranges of time, an index, and a trailer
//! that says where the index is. The edges are compressed per line and range, so that one line of
//! one range is read without the others. Analog lines have blocks of their own. `docs/capture-file.md` has every byte.
//!
//! Nothing in a file is believed: lengths are checked against the file before anything is
//! allocated, and every byte is under a checksum.

mod block;
mod codes;
mod edges;
mod meta;
mod read;
mod recorder;
mod write;

pub use read::{Opened, open};

/// What every file begins with, the version left out.
pub(super) const MAGIC_WORD: [u8; 7] = *b"DEEPTAP";

pub use recorder::Recorder;
pub use write::{SaveOptions, Writer, part_path, save};
