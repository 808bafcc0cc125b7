//! How long a condition lasts.

use super::mask::MaskTest;
use super::window::{NONE, Window};
use crate::event::syntax::Lasting;
use crate::scan::Plane;

/// A condition that must last for some time.
#[derive(Clone, Debug)]
pub(super) struct LastingPart {
    test: MaskTest,
    wanted: Wanted,
    /// Whether it held, and whether it did not, at the last tick looked at.
    before: (bool, bool),
    open: Option<Open>,
}

/// Lengths in ticks.
#[derive(Clone, Copy, Debug)]
enum Wanted {
    /// Happens this many ticks after the start; `None` when that lies beyond any record.
    Over(Option<u64>),
    /// Happens at the end, if the length is in this range, both included.
    Between(u64, u64),
}

/// A stretch in which it holds.
#[derive(Clone, Copy, Debug)]
struct Open {
    start: u64,
    /// Whether the record shows it beginning.
    begins: bool,
    fired: bool,
}

impl LastingPart {
    pub(super) fn new(test: MaskTest, lasting: Lasting<u64>) -> Self {
        let wanted = match lasting {
            Lasting::Over(ticks) => Wanted::Over(ticks.checked_add(1)),
            Lasting::Under(ticks) => Wanted::Between(0, ticks.saturating_sub(1)),
            Lasting::Between(least, most) => Wanted::Between(least, most),
        };
        LastingPart { test, wanted, before: (false, false), open: None }
    }

    pub(super) fn advance(&mut self, window: &Window<'_>) -> Plane {
        let (yes, no) = self.test.masks(window);
        if window.start == 0 {
            // Nothing comes before the first tick: what holds there has no recorded beginning.
            self.before = (yes[0] & 1 == 1, no[0] & 1 == 1);
            self.open = self.before.0.then_some(Open { start: 0, begins: false, fired: false });
        }
        let mut hits = NONE;
        for word in 0..window.words() {
            let (first, end) = window.ticks(word);
            hits[word] = self.advance_word(first, end, yes[word], no[word]);
        }
        hits
    }

    /// One word of at most 64 ticks, from `first` to before `end`.
    fn advance_word(&mut self, first: u64, end: u64, yes: u64, no: u64) -> u64 {
        let last = end - first - 1;
        let was_yes = yes << 1 | u64::from(self.before.0);
        let was_no = no << 1 | u64::from(self.before.1);
        let mut hits = 0;
        let mut changes = ((yes ^ was_yes) | (no ^ was_no)) & (u64::MAX >> (63 - last));
        while changes != 0 {
            let at = changes.trailing_zeros();
            changes &= changes - 1;
            let tick = first + u64::from(at);
            if let Some(open) = self.open.take() {
                hits |= self.end(open, tick, no >> at & 1 == 1, first);
            }
            if yes >> at & 1 == 1 {
                self.open = Some(Open { start: tick, begins: was_no >> at & 1 == 1, fired: false });
            }
        }
        if let (Some(open), Wanted::Over(Some(over))) = (&mut self.open, self.wanted) {
            let at = open.start.saturating_add(over);
            if !open.fired && at < end {
                open.fired = true;
                hits |= bit(at, first);
            }
        }
        self.before = (yes >> last & 1 == 1, no >> last & 1 == 1);
        hits
    }

    /// What happens when a stretch ends at `tick`, into false or into the unknown.
    fn end(&self, open: Open, tick: u64, into_false: bool, first: u64) -> u64 {
        let length = tick - open.start;
        match self.wanted {
            Wanted::Over(Some(over)) if !open.fired => {
                let reached = if into_false { over <= length } else { over < length };
                if reached { bit(open.start + over, first) } else { 0 }
            }
            Wanted::Between(low, high) if into_false && open.begins && (low..=high).contains(&length) => {
                bit(tick, first)
            }
            _ => 0,
        }
    }

    pub(super) fn since(&self) -> Option<u64> {
        self.open.map(|open| open.start)
    }

    pub(super) fn wake(&self) -> Option<u64> {
        match (self.open, self.wanted) {
            (Some(open), Wanted::Over(Some(over))) if !open.fired => open.start.checked_add(over),
            _ => None,
        }
    }
}

fn bit(tick: u64, first: u64) -> u64 {
    tick.checked_sub(first).filter(|at| *at < 64).map_or(0, |at| 1 << at)
}
