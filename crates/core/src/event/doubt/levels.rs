//! The stretches in which one line that is never unknown is at a level.

use super::marks::Marks;
use super::stretch::Stretch;
use crate::event::hit::{Certainty, Hit};
use crate::time::Tick;

/// Between the edges of a line.
#[derive(Clone, Debug)]
pub(super) struct Levels<'a> {
    edges: Box<Marks<'a>>,
    /// The first tick of the present word of edges, and what is left of it.
    start: u64,
    left: u64,
    high: bool,
    wanted: bool,
    open: Option<Stretch>,
    /// The end of the record; `None` where it goes on.
    end: Option<Tick>,
}

impl<'a> Levels<'a> {
    /// `high` says whether the line is before these edges, and `wanted` whether it must be; `open` is the stretch that
    /// they may end.
    pub(super) fn new(
        edges: Marks<'a>,
        (high, wanted): (bool, bool),
        open: Option<Stretch>,
        end: Option<Tick>,
    ) -> Self {
        Levels { edges: Box::new(edges), start: 0, left: 0, high, wanted, open, end }
    }

    /// The stretch that goes on.
    pub(super) fn open(&self) -> Option<Stretch> {
        self.open
    }

    /// The next edge, after which the line is at another level.
    #[inline]
    fn edge(&mut self) -> Option<Tick> {
        if self.left == 0 {
            let word = self.edges.next_word()?;
            (self.start, self.left) = (word.start.0, word.certain);
        }
        let tick = self.start + u64::from(self.left.trailing_zeros());
        self.left &= self.left.wrapping_sub(1);
        self.high = !self.high;
        Some(Tick(tick))
    }

    pub(super) fn next_start(&mut self) -> Option<Hit> {
        loop {
            let tick = self.edge()?;
            if self.high == self.wanted {
                return Some(Hit { tick, certainty: Certainty::Certain });
            }
        }
    }

    /// Reads up to a stretch that ends beyond a tick, into a list; `false` where there is none any more.
    pub(super) fn read_beyond(&mut self, border: Tick, into: &mut Vec<Stretch>) -> bool {
        for stretch in self.by_ref() {
            into.push(stretch);
            if stretch.end > border {
                return true;
            }
        }
        false
    }
}

impl Iterator for Levels<'_> {
    type Item = Stretch;

    #[inline]
    fn next(&mut self) -> Option<Stretch> {
        loop {
            let Some(tick) = self.edge() else {
                let end = self.end?;
                return self.open.take().map(|open| Stretch { end, ..open });
            };
            if self.high == self.wanted {
                self.open = Some(Stretch {
                    start: tick,
                    end: tick,
                    begins: true,
                    ends: false,
                    doubtful: false,
                    recorded: true,
                });
            } else if let Some(open) = self.open.take() {
                return Some(Stretch { end: tick, ends: true, ..open });
            }
        }
    }
}
