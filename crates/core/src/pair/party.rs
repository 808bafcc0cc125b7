//! The marks of one event, read as far ahead as a decision needs.

use std::collections::VecDeque;
use std::sync::Arc;

use super::cursor::Cursor;
use crate::event::{Certainty, Hit, MarkWord};
use crate::time::Tick;

/// What comes next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pulled<T> {
    /// This.
    Some(T),
    /// Nothing any more.
    End,
    /// That is not known yet: more may arrive.
    NotYet,
}

/// Gives the marks of one event, word after word in order of time. Words without a mark are left out.
pub trait Feed {
    /// The next words, one at least.
    fn next_piece(&mut self) -> Pulled<Arc<Vec<MarkWord>>>;

    /// No word that is given later has a mark before this tick.
    fn known(&self) -> Tick {
        Tick(0)
    }
}

/// Words of a stored record that are read at a time.
const PIECE: usize = 256;

/// All of a stored record.
impl<I: Iterator<Item = MarkWord>> Feed for I {
    fn next_piece(&mut self) -> Pulled<Arc<Vec<MarkWord>>> {
        let piece: Vec<MarkWord> = self.take(PIECE).collect();
        if piece.is_empty() { Pulled::End } else { Pulled::Some(Arc::new(piece)) }
    }
}

/// One party of a pairing: the marks of an event, and how far they were looked at.
#[derive(Debug)]
pub struct Party<F> {
    feed: F,
    /// The words that are read, which of them, and what is left of that one.
    piece: Arc<Vec<MarkWord>>,
    at: usize,
    left: u64,
    /// Up to which of them, from here on, all marks are certain, as far as that was looked at.
    certain_to: usize,
    /// The next mark, if it was looked at.
    first: Option<Hit>,
    /// Those after it that were looked at.
    more: VecDeque<Hit>,
}

impl<F: Feed> Party<F> {
    /// Reads from the start.
    pub fn new(feed: F) -> Self {
        Party {
            feed,
            piece: Arc::default(),
            at: 0,
            left: 0,
            certain_to: 0,
            first: None,
            more: VecDeque::new(),
        }
    }

    /// The marks that it reads, to be added to.
    pub fn feed(&mut self) -> &mut F {
        &mut self.feed
    }

    /// Where [`Pulled::NotYet`] is said of a mark, it does not lie before this tick.
    pub fn known(&self) -> Tick {
        self.feed.known()
    }

    /// The tick before which there are no marks that have not been passed.
    pub fn passed_to(&mut self) -> Tick {
        match self.peek() {
            Pulled::Some(next) => next.tick,
            Pulled::NotYet => self.known(),
            Pulled::End => Tick(u64::MAX),
        }
    }

    /// Makes sure that there is something left of the present word.
    #[inline]
    fn fill(&mut self) -> Pulled<()> {
        if self.left == 0 { self.fill_next() } else { Pulled::Some(()) }
    }

    fn fill_next(&mut self) -> Pulled<()> {
        self.at += 1;
        if self.at >= self.piece.len() {
            // What comes next comes after the last one, also if that is not known yet.
            self.at = self.piece.len();
            match self.feed.next_piece() {
                Pulled::Some(piece) => (self.piece, self.at, self.certain_to) = (piece, 0, 0),
                Pulled::End => return Pulled::End,
                Pulled::NotYet => return Pulled::NotYet,
            }
        }
        self.left = self.piece[self.at].all();
        Pulled::Some(())
    }

    fn read(&mut self) -> Pulled<Hit> {
        match self.fill() {
            Pulled::Some(()) => {}
            Pulled::End => return Pulled::End,
            Pulled::NotYet => return Pulled::NotYet,
        }
        let (word, at) = (&self.piece[self.at], self.left.trailing_zeros());
        self.left &= self.left - 1;
        let certainty = if word.certain >> at & 1 == 1 {
            Certainty::Certain
        } else if word.doubtful >> at & 1 == 1 {
            Certainty::Doubtful
        } else {
            Certainty::Possible
        };
        Pulled::Some(Hit { tick: Tick(word.start.0 + u64::from(at)), certainty })
    }

    /// The words of the present piece that are left up to the first one with a mark that is not certain, to be
    /// [passed](Party::pass_words) together.
    pub(super) fn at_hand(&mut self) -> Option<Cursor<'_>> {
        if !self.look_back() || self.fill() != Pulled::Some(()) {
            return None;
        }
        if self.certain_to <= self.at {
            let certain = self.piece[self.at..].iter().position(is_open);
            self.certain_to = certain.map_or(self.piece.len(), |words| self.at + words);
        }
        Cursor::new(&self.piece[self.at..self.certain_to], self.left)
    }

    /// Goes back to the next mark, as if none had been looked at; `false` where it lies in an earlier piece.
    fn look_back(&mut self) -> bool {
        let Some(Hit { tick, .. }) = self.first else { return true };
        let before = self.at.saturating_add(1).min(self.piece.len());
        let Some(place) = self.piece[..before].iter().rposition(|word| word.start <= tick) else {
            return false;
        };
        let (marks, at) = (self.piece[place].all(), tick.0 - self.piece[place].start.0);
        // Of a word that is given in two pieces, it may be in the earlier one.
        if at > 63 || marks >> at & 1 == 0 {
            return false;
        }
        let passed = &self.piece[place..self.at.clamp(place, self.piece.len())];
        self.certain_to = passed.iter().position(is_open).map_or(self.certain_to, |words| place + words);
        (self.at, self.left) = (place, marks & u64::MAX << at);
        self.first = None;
        self.more.clear();
        true
    }

    /// Passes so many of the words [at hand](Party::at_hand), and all marks but these of the one after them.
    pub(super) fn pass_words(&mut self, (passed, left): (usize, u64)) {
        self.at += passed;
        self.left = left;
        if passed > 0 && self.at == self.certain_to {
            self.left = self.piece.get(self.at).map_or(0, MarkWord::all);
        }
    }

    /// Passes all marks before a tick, whatever they are: a word at a time.
    #[inline]
    pub(super) fn pass_before(&mut self, tick: Tick) {
        while let Some(first) = self.first {
            if first.tick >= tick {
                return;
            }
            self.pass();
        }
        while self.fill() == Pulled::Some(()) {
            match tick.0.saturating_sub(self.piece[self.at].start.0) {
                before @ 0..64 => self.left &= u64::MAX << before,
                _ => self.left = 0,
            }
            if self.left != 0 {
                return;
            }
        }
    }

    /// The next mark, which stays.
    #[inline]
    pub fn peek(&mut self) -> Pulled<Hit> {
        if let Some(first) = self.first {
            return Pulled::Some(first);
        }
        let read = self.read();
        if let Pulled::Some(hit) = read {
            self.first = Some(hit);
        }
        read
    }

    /// Passes the next mark, which was looked at.
    pub fn pass(&mut self) {
        self.first = self.more.pop_front();
    }

    /// Passes the next mark and gives it out, if `look` finds all that must be known about it.
    pub(super) fn pass_known(&mut self, look: impl FnOnce(Hit) -> Pulled<()>) -> Pulled<Hit> {
        let next = self.peek();
        if let Pulled::Some(hit) = next {
            if look(hit) == Pulled::NotYet {
                return Pulled::NotYet;
            }
            self.pass();
        }
        next
    }

    /// The mark that comes this many after the next one; all stay.
    pub fn get(&mut self, place: usize) -> Pulled<Hit> {
        let first = self.peek();
        let Some(beyond) = place.checked_sub(1) else { return first };
        if !matches!(first, Pulled::Some(_)) {
            return first;
        }
        while self.more.len() <= beyond {
            match self.read() {
                Pulled::Some(hit) => self.more.push_back(hit),
                other => return other,
            }
        }
        self.more.get(beyond).copied().map_or(Pulled::End, Pulled::Some)
    }
}

/// Whether a word has a mark that is not certain.
fn is_open(word: &MarkWord) -> bool {
    word.doubtful | word.possible != 0
}
