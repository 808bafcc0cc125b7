//! One occurrence, and how sure it is.

use crate::time::Tick;

/// How sure it is that an occurrence really happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Certainty {
    /// It happened.
    Certain,
    /// The record shows it, but within the uncertainty of the record it may not have happened.
    Doubtful,
    /// The record does not show it, but within its uncertainty it may have happened.
    Possible,
}

/// One occurrence of an event.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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

/// Where an event happens among 64 ticks; no tick has two marks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct MarkWord {
    /// The tick of bit 0, a multiple of 64.
    pub start: Tick,
    /// A one for each tick at which it certainly happens.
    pub certain: u64,
    /// A one for each tick at which the record shows it, though it may not have happened.
    pub doubtful: u64,
    /// A one for each tick at which it may have happened, though the record does not show it.
    pub possible: u64,
}

impl MarkWord {
    /// A one for each mark.
    #[inline]
    pub fn all(&self) -> u64 {
        self.certain | self.doubtful | self.possible
    }

    pub(crate) fn mark(&mut self, hit: Hit) {
        let bit = 1 << (hit.tick.0 % 64);
        match hit.certainty {
            Certainty::Certain => self.certain |= bit,
            Certainty::Doubtful => self.doubtful |= bit,
            Certainty::Possible => self.possible |= bit,
        }
    }
}
