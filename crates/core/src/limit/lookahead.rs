//! The hits of an event, read as far ahead as a decision needs.

use std::collections::VecDeque;

use crate::capture::Capture;
use crate::event::{DoubtfulHits, Hit, Hits, TimedProgram};
use crate::known::Rule;

/// Where hits come from.
enum Source<'a> {
    Recorded(Hits<'a>),
    WithDoubt(DoubtfulHits<'a>),
}

/// The hits of an event over a whole capture, in order, with those to come.
pub(super) struct Lookahead<'a> {
    source: Source<'a>,
    /// The next hit; only `None` at the end.
    first: Option<Hit>,
    /// Those after it that were looked at.
    more: VecDeque<Hit>,
}

impl<'a> Lookahead<'a> {
    pub(super) fn new(program: &'a TimedProgram, capture: &'a Capture, rule: Rule) -> Self {
        let source = match rule {
            Rule::Proven => Source::WithDoubt(program.hits_with_doubt(capture, capture.range())),
            Rule::Measured => Source::Recorded(program.hits(capture, capture.range())),
        };
        let mut hits = Lookahead { source, first: None, more: VecDeque::new() };
        hits.first = hits.read();
        hits
    }

    #[inline]
    fn read(&mut self) -> Option<Hit> {
        match &mut self.source {
            Source::Recorded(hits) => hits.next(),
            Source::WithDoubt(hits) => hits.next(),
        }
    }

    /// The next hit, which stays.
    #[inline]
    pub(super) fn peek(&self) -> Option<Hit> {
        self.first
    }

    /// The next hit.
    #[inline]
    pub(super) fn next(&mut self) -> Option<Hit> {
        let first = self.first;
        self.first = if self.more.is_empty() { self.read() } else { self.more.pop_front() };
        first
    }

    /// The hit that comes this many after the next one; all stay.
    pub(super) fn get(&mut self, place: usize) -> Option<Hit> {
        let Some(beyond) = place.checked_sub(1) else { return self.first };
        while self.more.len() <= beyond {
            let hit = self.read()?;
            self.more.push_back(hit);
        }
        self.more.get(beyond).copied()
    }
}
