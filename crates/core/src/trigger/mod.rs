//! What an event means for an acquisition.
//!
//! An instrument's own trigger is usually less able than the event language. [`QualifiedEdge`] is
//! what every logic instrument has: an edge of one input while others have given levels. What more
//! is asked is looked for in the samples as they arrive; a ring keeps what came before. When a
//! trigger never comes, a report says what was seen instead.

mod edge;
mod report;
mod ring;

pub use edge::{QualifiedEdge, Seen};
pub(crate) use report::{edge_report, search_report};
pub(crate) use ring::{Ring, cut};
