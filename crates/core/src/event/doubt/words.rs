//! Marks: where an event happens, as words of 64 ticks.

use std::iter::Peekable;
use std::ops::Range;

use super::hits::DoubtfulHits;
use super::marks::Marks;
use crate::capture::Capture;
use crate::event::hit::{Hit, MarkWord};
use crate::event::run::Hits;
use crate::event::timed::TimedProgram;
use crate::known::Rule;
use crate::time::Tick;

/// The marks of an event in a stored record, word after word; those without one are left out. Made by
/// [`TimedProgram::marks`].
#[derive(Debug)]
pub struct MarkWords<'a>(Source<'a>);

#[derive(Debug)]
enum Source<'a> {
    Chunks(Box<Marks<'a>>),
    Doubtful(Box<Peekable<DoubtfulHits<'a>>>),
    Recorded(Box<Peekable<Hits<'a>>>),
}

impl TimedProgram {
    /// The marks of the event in a range. Under [`Rule::Proven`] they say how sure each is, as
    /// [`hits_with_doubt`](TimedProgram::hits_with_doubt) does; but all marks of an event with
    /// [states](crate::event::Program::has_states) are called certain: what that leaves open is for its user to
    /// say.
    pub fn marks<'a>(&'a self, capture: &'a Capture, range: Range<Tick>, rule: Rule) -> MarkWords<'a> {
        if rule == Rule::Measured || self.program().has_states() {
            return MarkWords(Source::Recorded(Box::new(self.hits(capture, range).peekable())));
        }
        if let Some(marks) = Marks::new(self, capture, range.clone()) {
            return MarkWords(Source::Chunks(Box::new(marks)));
        }
        MarkWords(Source::Doubtful(Box::new(self.hits_with_doubt(capture, range).peekable())))
    }
}

/// The next word of hits that come one by one.
pub(super) fn gathered(hits: &mut Peekable<impl Iterator<Item = Hit>>) -> Option<MarkWord> {
    let first = hits.next()?;
    let start = first.tick.0 / 64 * 64;
    let mut word = MarkWord { start: Tick(start), ..MarkWord::default() };
    word.mark(first);
    while let Some(hit) = hits.next_if(|hit| hit.tick.0 < start + 64) {
        word.mark(hit);
    }
    Some(word)
}

impl MarkWords<'_> {
    /// Reads the words that begin before a tick, a multiple of 64 or beyond the record, into a list.
    pub(crate) fn read_before(&mut self, border: Tick, into: &mut Vec<MarkWord>) {
        match &mut self.0 {
            Source::Chunks(marks) => marks.read_before(border, into),
            Source::Doubtful(hits) => gather_before(hits, border, into),
            Source::Recorded(hits) => gather_before(hits, border, into),
        }
    }
}

fn gather_before(hits: &mut Peekable<impl Iterator<Item = Hit>>, border: Tick, into: &mut Vec<MarkWord>) {
    while hits.peek().is_some_and(|hit| hit.tick < border) {
        into.extend(gathered(hits));
    }
}

impl Iterator for MarkWords<'_> {
    type Item = MarkWord;

    #[inline]
    fn next(&mut self) -> Option<MarkWord> {
        match &mut self.0 {
            Source::Chunks(marks) => marks.next_word(),
            Source::Doubtful(hits) => gathered(hits),
            Source::Recorded(hits) => gathered(hits),
        }
    }
}
