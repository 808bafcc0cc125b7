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

/// What is worth trying where a record leaves a limit open. The true value may lie anywhere within its
/// bounds, so that no rate is certain to decide it.
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub enum WorthTrying {
    /// This rate: the lowest of the instrument (or, where its rates are not known, of multiples of the record's
    /// own) at which the worst occurrence is decided with nine chances in ten, or the one with the best chance.
    Rate {
        /// The rate.
        rate: Rate,
        /// The chance that it decides the worst occurrence; `None` where only that can be said below which
        /// rate it does not.
        chance: Option<Chance>,
    },
    /// A rate that the instrument does not have.
    Beyond {
        /// What would be needed.
        needed: Rate,
        /// The fastest that it has.
        fastest: Rate,
    },
    /// The record has the fastest rate of the instrument.
    Fastest,
    /// To say how short the pulses of its lines are: there may be any that the record does not show.
    StateShortest,
    /// Nothing: no rate has a chance, since the skew or the error of the time base is too large.
    Never,
}

/// A chance between nothing and certainty.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Chance(f64);

impl Chance {
    /// `None` for none at all.
    pub fn new(share: f64) -> Option<Self> {
        (share > 0.0 && share <= 1.0).then_some(Chance(share))
    }

    /// As a share of one.
    pub fn share(self) -> f64 {
        self.0
    }
}

impl fmt::Display for Chance {
    /// In tenths, or hundredths where it is small; rounded down.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            share if share >= 0.1 => write!(f, "{} in 10", (share * 10.0).floor()),
            share => write!(f, "{} in 100", (share * 100.0).floor().max(1.0)),
        }
    }
}

impl fmt::Display for WorthTrying {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            WorthTrying::Rate { rate, chance: None } => write!(f, "try {rate}"),
            WorthTrying::Rate { rate, chance: Some(chance) } => write!(f, "try {rate}, {chance}"),
            WorthTrying::Beyond { needed, fastest } => {
                let mega = needed.to_f64() / 1e6;
                write!(f, "{mega:.0} MS/s would be worth trying, but the instrument ends at {fastest}")
            }
            WorthTrying::Fastest => f.write_str("the instrument has no faster rate"),
            WorthTrying::StateShortest => f.write_str("state 'shortest'"),
            WorthTrying::Never => f.write_str("no rate has a chance to decide it"),
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
    /// It asks who is driven, which a sampled record does not show.
    NotShown,
    /// Its events have states, or are of several parts or frames on lines that may hide pulses: a sampled record may
    /// hide some of them, and show some that did not happen.
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
    /// For an inconclusive result, what is worth trying.
    pub worth_trying: Option<WorthTrying>,
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
        self.worth_trying.map_or(Ok(()), |worth| write!(f, "; {worth}"))
    }
}
