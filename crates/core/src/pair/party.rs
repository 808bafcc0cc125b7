//! The marks of one event, read as far ahead as a decision needs.

use std::collections::VecDeque;

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

/// Gives the marks of one event, word after word in order of time; words without a mark may be left out.
pub trait Feed {
    /// The next word.
    fn next_word(&mut self) -> Pulled<MarkWord>;

    /// No word that is given later has a mark before this tick.
    fn known(&self) -> Tick {
        Tick(0)
    }
}

/// All of a stored record.
impl<I: Iterator<Item = MarkWord>> Feed for I {
    #[inline(always)]
    fn next_word(&mut self) -> Pulled<MarkWord> {
        self.next().map_or(Pulled::End, Pulled::Some)
    }
}

/// One party of a pairing: the marks of an event, and how far they were looked at.
#[derive(Debug)]
pub struct Party<F> {
    feed: F,
    /// What is left of the present word.
    word: MarkWord,
    left: u64,
    /// The word after it, if it was looked at.
    ahead: Option<MarkWord>,
    /// The next mark, if it was looked at.
    first: Option<Hit>,
    /// Those after it that were looked at.
    more: VecDeque<Hit>,
}

impl<F: Feed> Party<F> {
    /// Reads from the start.
    pub fn new(feed: F) -> Self {
        Party { feed, word: MarkWord::default(), left: 0, ahead: None, first: None, more: VecDeque::new() }
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
        while self.left == 0 {
            let next = match self.ahead.take() {
                Some(word) => Pulled::Some(word),
                None => self.feed.next_word(),
            };
            match next {
                Pulled::Some(word) => (self.word, self.left) = (word, word.all()),
                Pulled::End => return Pulled::End,
                Pulled::NotYet => return Pulled::NotYet,
            }
        }
        Pulled::Some(())
    }

    fn read(&mut self) -> Pulled<Hit> {
        match self.fill() {
            Pulled::Some(()) => {}
            Pulled::End => return Pulled::End,
            Pulled::NotYet => return Pulled::NotYet,
        }
        let at = self.left.trailing_zeros();
        self.left &= self.left - 1;
        let certainty = if self.word.certain >> at & 1 == 1 {
            Certainty::Certain
        } else if self.word.doubtful >> at & 1 == 1 {
            Certainty::Doubtful
        } else {
            Certainty::Possible
        };
        Pulled::Some(Hit { tick: Tick(self.word.start.0 + u64::from(at)), certainty })
    }

    /// The next mark if it is certain and at hand: what nearly every pair is made of, without the care
    /// that the others take.
    ///
    /// PERF: with [`peek`](Party::peek) alone, limits on clean records took a tenth longer.
    #[inline(always)]
    pub(super) fn certain(&mut self) -> Option<Tick> {
        if let Some(first) = self.first {
            return first.is_certain().then_some(first.tick);
        }
        if self.left == 0 {
            self.fill();
        }
        first_certain(&self.word, self.left)
    }

    /// The mark after that, if it is certain and at hand, too.
    #[inline(always)]
    pub(super) fn certain_after(&mut self) -> Option<Tick> {
        let left = match self.first {
            None => self.left & self.left.wrapping_sub(1),
            Some(_) => match self.more.front() {
                Some(second) => return second.is_certain().then_some(second.tick),
                None => self.left,
            },
        };
        if left != 0 {
            return first_certain(&self.word, left);
        }
        self.certain_ahead()
    }

    fn certain_ahead(&mut self) -> Option<Tick> {
        if self.ahead.is_none()
            && let Pulled::Some(word) = self.feed.next_word()
        {
            self.ahead = Some(word);
        }
        self.ahead.and_then(|word| first_certain(&word, word.all()))
    }

    /// Passes the mark that [`certain`](Party::certain) gave.
    #[inline(always)]
    pub(super) fn pass_certain(&mut self) {
        match self.first {
            Some(_) => self.pass(),
            None => self.left &= self.left.wrapping_sub(1),
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
        while self.left != 0 || self.fill() == Pulled::Some(()) {
            match tick.0.saturating_sub(self.word.start.0) {
                before @ 0..64 => self.left &= u64::MAX << before,
                _ => self.left = 0,
            }
            if self.left != 0 {
                return;
            }
        }
    }

    /// Passes the marks up to a tick, as long as they are certain, a word at a time; the last of them.
    #[inline]
    pub(super) fn pass_certain_to(&mut self, tick: Tick) -> Option<Tick> {
        let mut last = None;
        while let Some(first) = self.first {
            if first.tick > tick || !first.is_certain() {
                return last;
            }
            last = Some(first.tick);
            self.pass();
        }
        while self.left != 0 || self.fill() == Pulled::Some(()) {
            let Some(after) = tick.0.checked_sub(self.word.start.0) else { return last };
            let upto = if after < 63 { (2 << after) - 1 } else { u64::MAX };
            let uncertain = self.left & !self.word.certain;
            // Those before the first that is not certain.
            let due = self.left & upto & (uncertain & uncertain.wrapping_neg()).wrapping_sub(1);
            if due != 0 {
                last = Some(Tick(self.word.start.0 + 63 - u64::from(due.leading_zeros())));
                self.left &= !due;
            }
            if self.left != 0 {
                return last;
            }
        }
        last
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

/// The tick of the first of some marks of a word, if that is certain.
#[inline(always)]
fn first_certain(word: &MarkWord, left: u64) -> Option<Tick> {
    let lowest = left & left.wrapping_neg();
    (word.certain & lowest != 0).then(|| Tick(word.start.0 + u64::from(left.trailing_zeros())))
}
