//! What is expected of a record besides timing: messages, transfers and exchanges on buses, and the order of
//! states.

mod begins;
mod exchanges;
mod follow;
mod judged;
mod messages;
mod order;
mod turns;

pub use begins::Beginning;
pub use exchanges::Exchanges;
pub use follow::{Follow, FollowResult, FollowSource, FollowTarget, FollowedValue, ValueOn};
pub use judged::{Deviation, DeviationKind, Judged, Pause};
pub use messages::Messages;
pub use order::{Broken, Order, OrderResult, StateChange, States, Stay};

use crate::capture::Capture;
use crate::error::Result;
use crate::limit::Verdict;

/// What is expected, by its name.
#[derive(Clone, Debug)]
pub struct Expectation {
    /// Its name.
    pub name: String,
    /// What it is.
    pub what: Expected,
}

/// What is expected.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Expected {
    /// Messages on a serial bus.
    Messages(Box<Messages>),
    /// Transfers on a serial bus, one after the other.
    Transfers(Box<Exchanges>),
    /// An exchange that has a name.
    Exchange(Box<Exchanges>),
    /// A value and what it causes.
    Follow(Box<Follow>),
    /// The order of states.
    Order(Order),
}

/// The result of an expectation.
#[derive(Clone, Debug, PartialEq)]
pub struct Met {
    /// Its name.
    pub name: String,
    /// Whether it was met, as the record shows it.
    pub verdict: Verdict,
    /// In which way.
    pub found: Detail,
}

/// In which way an expectation was met, or was not.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Detail {
    /// Of messages.
    Messages(Judged),
    /// Of transfers.
    Transfers(Judged),
    /// Of an exchange.
    Exchange(Judged),
    /// Of values and what they cause.
    Follow(Box<FollowResult>),
    /// Of an order of states.
    Order(OrderResult),
}

impl Expectation {
    /// Compares it with a record.
    ///
    /// # Errors
    /// When the bus cannot be decoded at the record's clock, or an event cannot happen there.
    pub fn check(&self, capture: &Capture) -> Result<Met> {
        let (verdict, found) = match &self.what {
            Expected::Messages(messages) => {
                let judged = messages.compare(capture)?;
                (judged.verdict, Detail::Messages(judged))
            }
            Expected::Transfers(transfers) => {
                let judged = transfers.compare(capture)?;
                (judged.verdict, Detail::Transfers(judged))
            }
            Expected::Exchange(exchanges) => {
                let judged = exchanges.compare(capture)?;
                (judged.verdict, Detail::Exchange(judged))
            }
            Expected::Follow(follow) => {
                let result = follow.follow(capture)?;
                (result.judged.verdict, Detail::Follow(Box::new(result)))
            }
            Expected::Order(order) => {
                let result = order.follow(capture);
                (result.verdict, Detail::Order(result))
            }
        };
        Ok(Met { name: self.name.clone(), verdict, found })
    }
}
