//! The result of a limit over a whole capture, as data.

use std::fmt;

use super::judge::Verdict;
use super::kind::Kind;
use super::occurrence::{Doubt, Occurrence};
use super::required::Required;
use crate::quantity::{Bounds, Quantity, Rate, Time, Unit, uncertain};

/// How many occurrences ended how.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Occurrences in all.
    pub seen: u64,
    /// Of these, passed.
    pub passed: u64,
    /// Of these, failed.
    pub failed: u64,
    /// Of these, inconclusive.
    pub inconclusive: u64,
    /// Those that are not certain to be occurrences; they are not among `seen`.
    pub possible: u64,
    /// Starting events that found no partner, and pulses cut off by an end of the record.
    pub unpaired: u64,
}

/// The measured values of all occurrences.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Statistics {
    /// The smallest.
    pub min: Quantity,
    /// The mean in the unit of the others, rounded.
    pub mean: f64,
    /// The largest.
    pub max: Quantity,
}

/// The sample rate that is worth trying for an inconclusive measurement. The true value may lie anywhere
/// within its bounds, so that none is certain to decide it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Deciding {
    /// This rate, the lowest that the instrument has which would do for the counted value (or, where its
    /// rates are not known, the exact one).
    Rate(Rate),
    /// At this rate, which is above the instrument's fastest.
    Beyond {
        /// The rate that would be needed.
        needed: Rate,
        /// The fastest that the instrument has.
        fastest: Rate,
    },
    /// At no rate: the measured value is on the limit, within the skew and time-base error.
    Never,
}

impl fmt::Display for Deciding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Deciding::Rate(rate) => write!(f, "try {rate}"),
            Deciding::Beyond { needed, fastest } => {
                write!(f, "{needed} would be worth trying, the instrument has {fastest}")
            }
            Deciding::Never => f.write_str("no rate is certain to decide it"),
        }
    }
}

/// Why a limit as a whole is inconclusive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reason {
    /// The worst occurrence is in doubt.
    Occurrence(Doubt),
    /// All that was seen passes, but a line may have had pulses that the record does not show, and with
    /// them occurrences that were missed; or the limit forbids just what is taken not to have happened.
    HiddenPulses,
    /// A tick of the record is longer than a duration in its events.
    TooSlow,
    /// Its events are of several parts, or frames of a bus: a sampled record may hide some of them, and
    /// show some that did not happen.
    Composite,
}

/// The verdict on one limit, with everything needed to believe it.
#[derive(Clone, Debug, PartialEq)]
pub struct LimitResult {
    /// The part's reference on the board.
    pub reference: String,
    /// The part number.
    pub part: String,
    /// The datasheet's symbol.
    pub symbol: String,
    /// The datasheet's words.
    pub what: String,
    /// What one occurrence is.
    pub kind: Kind,
    /// The group of limits that it belongs to.
    pub group: Option<String>,
    /// What its values are in.
    pub unit: Unit,
    /// The required range.
    pub required: Required,
    /// The typical value, for information.
    pub typical: Option<Quantity>,
    /// The verdict: the worst over all occurrences.
    pub verdict: Verdict,
    /// Why it is inconclusive, if it is.
    pub reason: Option<Reason>,
    /// The worst occurrence: of those with the worst verdict, the one with the least margin.
    pub worst: Option<Occurrence>,
    /// The tick of the record that has the worst occurrence.
    pub tick: Time,
    /// What is known of the worst occurrence's true value.
    pub bounds: Option<Bounds<Quantity>>,
    /// When the worst occurrence begins.
    pub at: Option<Time>,
    /// The worst occurrence's value as counted.
    pub measured: Option<Quantity>,
    /// The worst occurrence's distance to the limit, negative when violated.
    pub margin: Option<Quantity>,
    /// How many occurrences ended how.
    pub counts: Counts,
    /// The values of all occurrences.
    pub statistics: Option<Statistics>,
    /// For an inconclusive result, the rate that is worth trying.
    pub decided: Option<Deciding>,
    /// No line that it looks at is taken to have had a pulse as short as this, high or low, that fell
    /// between two samples, though that is not stated of all of them.
    pub granted: Option<Time>,
}

impl LimitResult {
    /// What people call the limit: the part's reference and its symbol, as in `U5.tWP`; the symbol alone
    /// where it is bound to no part.
    pub fn name(&self) -> String {
        match self.reference.as_str() {
            "" => self.symbol.clone(),
            reference => format!("{reference}.{}", self.symbol),
        }
    }
}

impl fmt::Display for LimitResult {
    /// One line: the limit, the verdict, the worst occurrence, and the rate that decides.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}: {}", self.name(), self.required, self.verdict)?;
        if let Some((measured, bounds)) = self.measured.zip(self.bounds) {
            let worst = uncertain(measured, bounds, self.tick);
            write!(f, ", the worst of {} is {worst}", self.counts.seen)?;
        }
        self.decided.map_or(Ok(()), |decided| write!(f, "; {decided}"))
    }
}
