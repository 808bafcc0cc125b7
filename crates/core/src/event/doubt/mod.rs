//! What a record's uncertainty makes of occurrences.
//!
//! An occurrence is found where the *recorded* levels say so. Because a sampled record does not
//! know the order of edges that are closer than a sample (plus skew), some occurrences are
//! doubtful: they may not have happened, or one may have happened that the record does not show.
//! Verdicts ask for these too
//! ([`TimedProgram::hits_with_doubt`](crate::event::TimedProgram::hits_with_doubt)); searches do not.

mod ahead;
mod arriving;
mod frames;
mod hits;
mod lengths;
mod levels;
mod marks;
mod sequence;
mod steps;
mod stretch;
mod stretches;
mod words;

pub(crate) use arriving::{MarkReader, StretchReader, reach_of};
pub use hits::DoubtfulHits;
pub use stretch::Stretch;
pub use stretches::Stretches;
pub use words::MarkWords;
