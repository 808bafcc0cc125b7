//! The decision rule.

use serde::Serialize;

/// What counts as known of a measured interval.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rule {
    /// All that the record leaves possible: conformity and non-conformity each have to be proven
    /// (ISO 14253-1, JCGM 106).
    #[default]
    Proven,
    /// The counted value is taken for the true one, without regard to its uncertainty.
    Measured,
}
