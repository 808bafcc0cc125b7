//! Where a pairing stands in words of certain marks.

use crate::event::MarkWord;

/// Words of certain marks, one after the other, of which the present one may be passed in part.
#[derive(Clone, Copy)]
pub(super) struct Cursor<'p> {
    words: &'p [MarkWord],
    pub(super) at: usize,
    pub(super) present: Word,
}

/// The marks that are left of a word.
#[derive(Clone, Copy)]
pub(super) struct Word {
    pub(super) start: u64,
    pub(super) marks: u64,
}

impl Word {
    fn of(word: &MarkWord) -> Self {
        Word { start: word.start.0, marks: word.certain }
    }

    /// The tick of the first mark.
    pub(super) fn first(self) -> u64 {
        self.start + u64::from(self.marks.trailing_zeros())
    }

    /// The tick of the last mark.
    pub(super) fn last(self) -> u64 {
        self.start + 63 - u64::from(self.marks.leading_zeros())
    }

    /// Its marks, if it begins there.
    pub(super) fn at(self, start: u64) -> u64 {
        if self.start == start { self.marks } else { 0 }
    }
}

impl<'p> Cursor<'p> {
    /// Of the first word, these marks are left. `None` without a word.
    pub(super) fn new(words: &'p [MarkWord], left: u64) -> Option<Self> {
        let first = words.first()?;
        Some(Cursor { words, at: 0, present: Word { start: first.start.0, marks: left } })
    }

    /// The word after the present one.
    pub(super) fn next(&self) -> Option<Word> {
        self.words.get(self.at + 1).map(Word::of)
    }

    /// Goes to the next word; `false` where there is none.
    #[inline(always)]
    pub(super) fn step(&mut self) -> bool {
        self.at += 1;
        let next = self.words.get(self.at).map(Word::of);
        self.present = next.unwrap_or(Word { start: u64::MAX, marks: 0 });
        next.is_some()
    }

    /// How many words are passed, and the marks that are left of the next.
    pub(super) fn passed(&self) -> (usize, u64) {
        (self.at, self.present.marks)
    }

    /// The same as if the one that was passed last had not been; `first` is what was left of the first one.
    pub(super) fn passed_but_one(&self, first: u64) -> (usize, u64) {
        match self.at {
            0 => self.passed(),
            1 => (0, first),
            at => (at - 1, self.words[at - 1].certain),
        }
    }
}
