//! From planes to changes, one after the other.

use std::ops::ControlFlow;

use super::planes::{GROUP, Plane};
use crate::line::Levels;

/// The levels of lines at consecutive ticks.
#[derive(Clone, Copy)]
pub(crate) struct Stretch<'a> {
    /// Per line, its levels.
    pub(crate) planes: &'a [Plane],
    /// Per line, a one for each tick whose level is unknown; `None` where all are known.
    pub(crate) unknown: Option<&'a [Plane]>,
    /// Number of ticks.
    pub(crate) len: usize,
}

/// Gives what reads lines, as decoders do, their levels at each tick that changes one: from windows of
/// a stored record and from samples as they arrive alike.
pub(crate) struct Feeder {
    /// Which of the planes are the lines, in the order in which they are asked for.
    lines: Vec<usize>,
    last: Option<Levels>,
}

impl Feeder {
    pub(crate) fn new(lines: Vec<usize>) -> Self {
        Feeder { lines, last: None }
    }

    fn levels(&self, stretch: Stretch<'_>, tick: usize) -> Levels {
        let at = |planes: &[Plane]| {
            let bit = |line: &usize| planes[*line][tick / GROUP] >> (tick % GROUP) & 1;
            self.lines.iter().enumerate().fold(0, |word, (place, line)| word | bit(line) << place)
        };
        let unknown = stretch.unknown.map_or(0, at);
        Levels { high: at(stretch.planes) & !unknown, unknown }
    }

    /// The levels that everything begins with, the first time.
    pub(crate) fn begin(&mut self, stretch: Stretch<'_>) -> Option<Levels> {
        if self.last.is_some() {
            return None;
        }
        self.last = Some(self.levels(stretch, 0));
        self.last
    }

    /// A one for each tick of a word that changes a level, given the levels before it. Nothing is said
    /// about ticks beyond the stretch.
    fn changes(&self, stretch: Stretch<'_>, word: usize, before: Levels) -> u64 {
        let changed = |now: u64, before: u64| now ^ (now << 1 | before & 1);
        self.lines.iter().enumerate().fold(0, |all, (place, line)| {
            let unknown = stretch.unknown.map_or(0, |planes| planes[*line][word]);
            let level = stretch.planes[*line][word] & !unknown;
            all | changed(level, before.high >> place) | changed(unknown, before.unknown >> place)
        })
    }

    /// Passes each change on: the number of the tick in this stretch, and the levels from there on.
    pub(crate) fn feed(
        &mut self,
        stretch: Stretch<'_>,
        mut change: impl FnMut(usize, Levels) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let mut last = self.last.unwrap_or_default();
        for word in 0..stretch.len.div_ceil(GROUP) {
            let (first, left) = (word * GROUP, stretch.len - word * GROUP);
            let mut changes = self.changes(stretch, word, last);
            if left < GROUP {
                changes &= (1 << left) - 1;
            }
            while changes != 0 {
                let tick = first + changes.trailing_zeros() as usize;
                changes &= changes - 1;
                last = self.levels(stretch, tick);
                change(tick, last)?;
            }
        }
        self.last = Some(last);
        ControlFlow::Continue(())
    }
}
