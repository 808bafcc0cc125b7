//! Hits that are looked at before they are passed.

use std::collections::VecDeque;

use crate::event::hit::Hit;

/// Hits, the next of which can be looked at. More may come where there was none.
#[derive(Debug)]
pub(super) struct Ahead<H> {
    hits: H,
    next: Option<Hit>,
}

impl<H: Iterator<Item = Hit>> Ahead<H> {
    pub(super) fn new(hits: H) -> Self {
        Ahead { hits, next: None }
    }

    pub(super) fn peek(&mut self) -> Option<Hit> {
        self.next = self.next.or_else(|| self.hits.next());
        self.next
    }

    pub(super) fn next(&mut self) -> Option<Hit> {
        self.next.take().or_else(|| self.hits.next())
    }

    /// Where they come from.
    pub(super) fn source(&mut self) -> &mut H {
        &mut self.hits
    }
}

/// Hits that arrive.
#[derive(Debug, Default)]
pub(super) struct Arrived(pub(super) VecDeque<Hit>);

impl Iterator for Arrived {
    type Item = Hit;

    fn next(&mut self) -> Option<Hit> {
        self.0.pop_front()
    }
}
