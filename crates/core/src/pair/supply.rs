//! What arrives piece by piece, shared by all who read it.

use std::collections::VecDeque;
use std::sync::Arc;

use super::party::{Feed, Pulled};
use crate::event::MarkWord;
use crate::time::Tick;

/// A queue of pieces, each of which several readers may hold.
#[derive(Debug)]
pub struct Supply<T> {
    /// The piece that is read, and how far it has been.
    present: Arc<Vec<T>>,
    read: usize,
    /// Those after it.
    pieces: VecDeque<Arc<Vec<T>>>,
    known: Tick,
    ended: bool,
}

impl<T> Default for Supply<T> {
    fn default() -> Self {
        let (present, pieces) = (Arc::new(Vec::new()), VecDeque::new());
        Supply { present, read: 0, pieces, known: Tick(0), ended: false }
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
    #[inline(always)]
    pub fn pull(&mut self) -> Pulled<T> {
        match self.present.get(self.read) {
            Some(item) => {
                self.read += 1;
                Pulled::Some(*item)
            }
            None => self.pull_next(),
        }
    }

    /// The first item of the next piece.
    #[cold]
    fn pull_next(&mut self) -> Pulled<T> {
        match self.pieces.pop_front() {
            Some(piece) => {
                (self.present, self.read) = (piece, 1);
                // There are no empty pieces.
                self.present.first().map_or(Pulled::NotYet, |item| Pulled::Some(*item))
            }
            None if self.ended => Pulled::End,
            None => Pulled::NotYet,
        }
    }
}

impl Feed for Supply<MarkWord> {
    fn next_piece(&mut self) -> Pulled<Arc<Vec<MarkWord>>> {
        match self.pieces.pop_front() {
            Some(piece) => Pulled::Some(piece),
            None if self.ended => Pulled::End,
            None => Pulled::NotYet,
        }
    }

    fn known(&self) -> Tick {
        self.known
    }
}
