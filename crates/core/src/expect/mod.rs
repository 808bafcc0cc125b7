//! What is expected of a record besides timing: bytes and transfers on a bus, and the order of states.

mod order;
mod payload;
mod span;
mod transfers;

pub use order::{Broken, Order, OrderResult, States, Stay};
pub use payload::{Difference, Payload, PayloadResult};
pub use transfers::{TransferDifference, Transfers, TransfersResult};

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
    /// A sequence of bytes, or words, on a serial bus.
    Payload(Box<Payload>),
    /// Transfers on a serial bus, one after the other.
    Transfers(Box<Transfers>),
    /// The order of states.
    Order(Order),
}

/// What became of an expectation.
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
    /// Of a sequence.
    Payload(PayloadResult),
    /// Of transfers.
    Transfers(TransfersResult),
    /// Of an order of states.
    Order(OrderResult),
}

impl Expectation {
    /// Compares it with a record.
    ///
    /// # Errors
    /// When the bus cannot be decoded at the record's clock, or the record is too short for the whole of
    /// what is expected.
    pub fn check(&self, capture: &Capture) -> Result<Met> {
        let (verdict, found) = match &self.what {
            Expected::Payload(payload) => {
                let result = payload.compare(capture)?;
                (result.verdict, Detail::Payload(result))
            }
            Expected::Transfers(transfers) => {
                let result = transfers.compare(capture)?;
                (result.verdict, Detail::Transfers(result))
            }
            Expected::Order(order) => {
                let result = order.follow(capture);
                (result.verdict, Detail::Order(result))
            }
        };
        Ok(Met { name: self.name.clone(), verdict, found })
    }
}
