//! The levels of several lines at once.

use super::Level;

/// The levels of up to 64 lines at an instant, in the order of whoever asks for them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Levels {
    /// A one for each line that is high.
    pub high: u64,
    /// A one for each line whose level is not known, or floating.
    pub unknown: u64,
}

impl Levels {
    /// The level of a line, counted from 0.
    pub fn level(self, line: usize) -> Level {
        let bit = |word: u64| word.checked_shr(line as u32).unwrap_or(0) & 1 == 1;
        if bit(self.unknown) { Level::Unknown } else { Level::from(bit(self.high)) }
    }

    /// The same with another level for one line.
    #[must_use]
    pub fn with(self, line: usize, level: Level) -> Levels {
        let bit = 1u64.checked_shl(line as u32).unwrap_or(0);
        Levels {
            high: if level == Level::High { self.high | bit } else { self.high & !bit },
            unknown: if level.bit().is_none() { self.unknown | bit } else { self.unknown & !bit },
        }
    }
}
