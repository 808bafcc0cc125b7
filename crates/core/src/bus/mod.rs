//! What a decoder is, and what it finds.
//!
//! A [`Decoder`] is a state machine that is told of every change of its lines, in order of time, and
//! of time that passes without one. What it finds are [`Frame`]s: stretches with named
//! [fields](Field), and [faults](Fault) where the bus does not do what its standard says. A fault on
//! the wire is data, never an error.
//!
//! Beside frames, a decoder tells of [instants](BusMark) that have a name, and of the places where it
//! [looks](Look) at levels: from these follows which frames are certain.
//!
//! The decoders themselves are in [`decode`](crate::decode); one of your own implements the trait.

mod ahead;
mod decoder;
mod frame;
mod mark;
mod word;

pub use ahead::Ahead;
pub(crate) use ahead::Upcoming;
pub use decoder::{Decoder, FrameSink};
pub use frame::{Fault, Field, FieldKind, Frame};
pub use mark::{BusMark, Look};
pub use word::word;
