//! Instants on a bus, and places where its levels are looked at.

use crate::time::Tick;

/// An instant on a bus that has a name, such as the `restart` of a two-wire bus.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct BusMark {
    /// What it is called, in the words of its standard.
    pub name: &'static str,
    /// Its tick: that of the edge that it is, where it is one.
    pub at: Tick,
    /// Whether the record shows it for certain; never so before that was proven
    /// ([`SerialBus::decode`](crate::decode::SerialBus::decode)).
    pub certain: bool,
}

impl BusMark {
    /// A mark that is not known to be certain.
    pub fn new(name: &'static str, at: Tick) -> BusMark {
        BusMark { name, at, certain: false }
    }
}

/// A place where a decoder looks at the levels of lines: what it reads is only certain when none of them
/// changes nearby.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Look {
    /// The tick: of the edge that makes it look, or the one at which a level is taken.
    pub at: Tick,
    /// A bit for each line, in the decoder's order, whose level is read: a change nearby leaves open this
    /// frame.
    pub lines: u64,
    /// The same for lines of which a change nearby leaves open what follows, too: whether this edge counts,
    /// or where a frame begins.
    pub shifting: u64,
    /// Ticks on either side within which a change leaves open what was read; what the record's samples
    /// and skew leave open comes on top.
    pub room: u64,
    /// Whether a bit is taken here; otherwise an edge is only told from another.
    pub takes: bool,
}

impl Look {
    /// A bit is taken, from these lines.
    pub fn taking(at: Tick, lines: u64) -> Look {
        Look { at, lines, shifting: 0, room: 0, takes: true }
    }

    /// An edge means what it does because these lines do not change with it.
    pub fn telling(at: Tick, shifting: u64) -> Look {
        Look { at, lines: 0, shifting, room: 0, takes: false }
    }

    /// The same where a change of these lines nearby would shift what follows.
    #[must_use]
    pub fn shifting(self, shifting: u64) -> Look {
        Look { shifting: self.shifting | shifting, ..self }
    }

    /// The same with this much room on either side, in ticks.
    #[must_use]
    pub fn room(self, room: u64) -> Look {
        Look { room, ..self }
    }
}
