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

mod bound;
mod check;
mod count;
mod formula;
mod hidden;
mod judge;
mod kind;
mod occurrence;
mod outlook;
mod part;
mod required;
mod result;
mod row;
mod runs;
mod tally;
#[cfg(test)]
mod tests;
mod values;
mod violations;
mod walk;
mod watch;
mod worth_trying;

pub use bound::BoundLimit;
pub use check::{check, check_all, overall};
pub use formula::{Operand, evaluate, evaluate_any};
pub use judge::Verdict;
pub use kind::{Events, Kind, Mark, Which};
pub use occurrence::{Doubt, Measured, Occurrence, Visited};
pub use outlook::Outlook;
pub use part::{Part, Pin};
pub use required::Required;
pub use result::{Chance, Counts, LimitResult, Reason, Statistics, WorthTrying};
pub use row::{Answer, BindError, Limit, LimitBuilder};
pub use runs::{OverRuns, Runs};
pub(crate) use values::step_of;
pub use values::{Values, values};
pub use violations::{Streak, Violations, violations};
pub use watch::{Violation, Watch};
