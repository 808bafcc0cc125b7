//! One occurrence, and how sure it is.

use serde::Serialize;

use crate::time::Tick;

/// How sure it is that an occurrence really happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Certainty {
    /// It happened.
    Certain,
    /// The record shows it, but within the uncertainty of the record it may not have happened.
    Doubtful,
    /// The record does not show it, but within its uncertainty it may have happened.
    Possible,
}

/// One occurrence of an event.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Hit {
    /// The tick at which it is seen.
    pub tick: Tick,
    /// How sure it is.
    pub certainty: Certainty,
}

impl Hit {
    /// Whether it certainly happened.
    #[inline]
    pub fn is_certain(&self) -> bool {
        self.certainty == Certainty::Certain
    }

    /// Whether the record shows it.
    pub fn is_recorded(&self) -> bool {
        self.certainty != Certainty::Possible
    }
}
