//! What is remembered of the part of a trace that was forgotten.

use std::collections::VecDeque;
use std::ops::Range;

/// When a trace was unknown before what is kept of it.
#[derive(Debug, Default)]
pub(super) struct Past {
    /// The first tick that is kept.
    pub(super) until: u64,
    unknown: VecDeque<Range<u64>>,
}

impl Past {
    /// Whether the line was unknown anywhere.
    pub(super) fn is_ever_unknown(&self) -> bool {
        !self.unknown.is_empty()
    }

    pub(super) fn note(&mut self, unknown: Range<u64>) {
        match self.unknown.back_mut().filter(|last| last.end == unknown.start) {
            Some(last) => last.end = unknown.end,
            None if !unknown.is_empty() => self.unknown.push_back(unknown),
            None => {}
        }
    }

    pub(super) fn is_unknown_within(&self, range: &Range<u64>) -> bool {
        let after = self.unknown.partition_point(|unknown| unknown.end <= range.start);
        self.unknown.get(after).is_some_and(|unknown| unknown.start < range.end)
    }
}
