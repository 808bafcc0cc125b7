//! A part's timing table.

use super::row::Limit;

/// A part with its timing limits, as printed in its datasheet.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Part {
    /// The part number.
    pub name: String,
    /// Where the figures come from: document, revision, table.
    pub source: String,
    /// The operating conditions under which they hold.
    pub conditions: Option<String>,
    /// Whether the part was made up, for demonstration.
    pub made_up: bool,
    /// Its pins, in the order of the file.
    pub pins: Vec<Pin>,
    /// Its limits, in the order of the file.
    pub limits: Vec<Limit>,
}

/// A pin of a part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pin {
    /// Its name in the datasheet.
    pub name: String,
    /// What it is, in one line.
    pub what: String,
}
