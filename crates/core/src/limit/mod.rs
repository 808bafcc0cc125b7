//! Datasheet limits: parts, occurrences, and the verdict on each.
//!
//! For each limit and each occurrence the bounds of the measured interval are compared with the
//! required range, exactly:
//!
//! | verdict | when |
//! |---|---|
//! | pass | everything the interval may be is inside the required range |
//! | fail | everything it may be is outside |
//! | inconclusive | neither: at this sample rate the question has no answer |
//! | not seen | the limit's events never occurred: this is not a pass |

mod check;
mod judge;
mod lookahead;
mod occurrence;
mod outlook;
mod part;
mod runs;

pub use check::{Counts, Deciding, LimitResult, Reason, Statistics, check, check_all, overall};
pub use judge::{Rule, Verdict};
pub use occurrence::{Doubt, Found, Occurrence};
pub use outlook::Outlook;
pub use part::{BoundLimit, Events, Kind, Limit, Part, Pin, Required};
pub use runs::{OverRuns, Runs};
