//! What arrives piece by piece, shared by all who read it.

use std::collections::VecDeque;
use std::sync::Arc;

use super::party::{Feed, Pulled};
use crate::event::MarkWord;
use crate::time::Tick;

/// A queue of pieces, each of which several readers may hold.
#[derive(Debug)]
pub struct Supply<T> {
    pieces: VecDeque<Arc<Vec<T>>>,
    /// Items of the first piece that have been read.
    read: usize,
    known: Tick,
    ended: bool,
}

impl<T> Default for Supply<T> {
    fn default() -> Self {
        Supply { pieces: VecDeque::new(), read: 0, known: Tick(0), ended: false }
    }
}

impl<T: Copy> Supply<T> {
    /// Adds a piece. Nothing that is added later lies before `known`.
    pub fn add(&mut self, piece: &Arc<Vec<T>>, known: Tick) {
        if !piece.is_empty() {
            self.pieces.push_back(Arc::clone(piece));
        }
        self.known = known;
    }

    /// Nothing comes any more.
    pub fn end(&mut self) {
        (self.ended, self.known) = (true, Tick(u64::MAX));
    }

    /// Nothing that is added later lies before this tick.
    pub fn known(&self) -> Tick {
        self.known
    }

    /// The next item.
    #[inline]
    pub fn pull(&mut self) -> Pulled<T> {
        loop {
            let Some(piece) = self.pieces.front() else {
                return if self.ended { Pulled::End } else { Pulled::NotYet };
            };
            if let Some(item) = piece.get(self.read) {
                self.read += 1;
                return Pulled::Some(*item);
            }
            self.pieces.pop_front();
            self.read = 0;
        }
    }
}

impl Feed for Supply<MarkWord> {
    #[inline]
    fn next_word(&mut self) -> Pulled<MarkWord> {
        self.pull()
    }

    fn known(&self) -> Tick {
        self.known
    }
}
