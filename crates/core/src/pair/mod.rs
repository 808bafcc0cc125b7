//! Which answer belongs to which event.
//!
//! A delay, a hold time, a skew, `measure --until` and `answers` all ask the same: of two kinds of
//! events, which belong together? This is the only module that says so. It reads *marks*: words with a
//! bit for each tick, three planes for what certainly happened, what the record shows but may not have
//! happened, and what it does not show but may have happened. Words go [in](Feed), pairs come
//! [out](Pairs); what crosses a word is carried over, so that it does not matter whether the words come
//! from a stored record or from samples as they arrive: a feed may say that it has no more
//! [yet](Pulled::NotYet), and the same call goes on later.
//!
//! | rule | pairs |
//! |---|---|
//! | [`Following`] | each start with the first answer after it; before the next start, where that supersedes it |
//! | [`Preceding`] | each event with the last partner before it |
//! | [`Settling`] | each start with the last answer before the next start |
//! | [`Nearest`] | each event with the partner that is nearest, on either side |
//! | [`Nearby`] | each event with all partners near it |
//! | [`Successive`] | each event with the one after it |
//!
//! In an exact record, two events at the same tick are in order: an answer at the tick of its start
//! belongs to it, one at the tick of the next start to that one. Where a record cannot tell the order of
//! two events, or whether one happened at all, an event has several possible [partners](Partner); all of
//! them are given out.

mod batch;
mod cursor;
mod following;
mod nearby;
mod nearest;
mod partner;
mod party;
mod preceding;
mod settling;
mod successive;
mod supply;
#[cfg(test)]
mod tests;
mod words;

pub use batch::{Batch, Paired, Unanswered};
pub use following::Following;
pub use nearby::Nearby;
pub use nearest::Nearest;
pub use partner::{Advance, Pairing, Pairs, Partner, Together, UNENDED};
pub use party::{Feed, Party, Pulled};
pub use preceding::Preceding;
pub use settling::Settling;
pub use successive::Successive;
pub use supply::Supply;
