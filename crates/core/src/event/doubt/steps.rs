//! Changes of several signals, with those around the tick that is looked at.

use std::collections::VecDeque;
use std::ops::Range;

use crate::capture::{Capture, Merged};
use crate::event::check::Test3;
use crate::known::Precedence;
use crate::line::{Level, LineId, Signal};
use crate::time::Tick;

/// The changes of some signals, one tick with changes after the other, and at each of them those that are so close
/// that they may have come in another order.
#[derive(Clone, Debug)]
pub(super) struct Steps<'a> {
    merged: Merged<'a>,
    order: Precedence,
    signals: Vec<Signal>,
    /// The levels at the tick that is looked at.
    levels: Vec<Level>,
    /// Changes from those near that tick on, and how many of them are not after it.
    near: VecDeque<Flip>,
    passed: usize,
    /// What is read: changes outside are not among these.
    read: Range<Tick>,
}

/// One change: the place of a signal, its levels before and after.
#[derive(Clone, Copy, Debug)]
struct Flip {
    tick: Tick,
    place: usize,
    levels: [Level; 2],
}

/// Signals that change near a tick, and levels that each has there, for which there is room: others are asked of the
/// record itself.
const MOST_WAYS: usize = 4;
const MOST_LEVELS: usize = 4;
/// The same of all ways that their levels can be put together.
const MOST_STATES: usize = 32;

/// The levels that some signals have near a tick, one after the other.
struct Ways {
    all: [(Signal, [Level; MOST_LEVELS], usize); MOST_WAYS],
    count: usize,
}

impl<'a> Steps<'a> {
    /// Reads signals from the start of a range on.
    pub(super) fn new(
        capture: &'a Capture,
        signals: &[Signal],
        range: Range<Tick>,
        order: Precedence,
    ) -> Self {
        let merged = Merged::new(capture, signals, range.clone());
        let (levels, near) = (merged.levels().to_vec(), VecDeque::new());
        Steps { merged, order, signals: signals.to_vec(), levels, near, passed: 0, read: range }
    }

    /// The level of a signal at the tick that is looked at.
    pub(super) fn level(&self, of: Signal) -> Level {
        self.signals
            .iter()
            .position(|signal| *signal == of)
            .map_or(Level::Unknown, |place| self.levels[place])
    }

    /// Goes on to the next tick with a change.
    pub(super) fn step(&mut self) -> Option<Tick> {
        if self.passed == self.near.len() {
            self.fetch();
        }
        let tick = self.near.get(self.passed)?.tick;
        while let Some(flip) = self.near.get(self.passed).filter(|flip| flip.tick == tick) {
            self.levels[flip.place] = flip.levels[1];
            self.passed += 1;
        }
        if let Some(reach) = self.order.reach() {
            while self.near.back().is_some_and(|last| last.tick.0 <= tick.0.saturating_add(reach))
                && self.fetch()
            {}
            let far = |flip: &Flip| flip.tick.0.saturating_add(reach) < tick.0;
            while self.near.front().is_some_and(far) {
                self.near.pop_front();
                self.passed -= 1;
            }
        } else {
            self.near.drain(..self.passed);
            self.passed = 0;
        }
        Some(tick)
    }

    /// Reads the next tick with a change; `false` where there is none.
    fn fetch(&mut self) -> bool {
        let Some(tick) = self.merged.step() else { return false };
        let flip = |(place, levels)| Flip { tick, place, levels };
        self.near.extend(self.merged.flips().map(flip));
        true
    }

    /// How often a condition over these signals may change its value in a window around the tick that is looked at, in
    /// any order of the changes there; `None` where there are too many of them, or not all of them are at hand.
    pub(super) fn most_changes(&self, test: &Test3, window: &Range<Tick>) -> Option<usize> {
        if window.start < self.read.start || window.end > self.read.end {
            return None;
        }
        let mut flips = self.near.iter().filter(|flip| flip.tick < window.end).peekable();
        let first = flips.peek()?.place;
        if flips.clone().all(|flip| flip.place == first) {
            return Some(flips.count());
        }
        let ways = Ways::of(flips, &self.signals)?;
        ways.most_changes(test, |signal| self.level(signal))
    }
}

impl Ways {
    fn of<'f>(flips: impl Iterator<Item = &'f Flip>, signals: &[Signal]) -> Option<Ways> {
        let nothing = (Signal::Line(LineId(0)), [Level::Unknown; MOST_LEVELS], 0);
        let mut ways = Ways { all: [nothing; MOST_WAYS], count: 0 };
        for flip in flips {
            let signal = signals[flip.place];
            let known = ways.all[..ways.count].iter().position(|(of, ..)| *of == signal);
            let place = match known {
                Some(place) => place,
                None if ways.count == MOST_WAYS => return None,
                None => {
                    ways.all[ways.count] = (signal, [flip.levels[0]; MOST_LEVELS], 1);
                    ways.count += 1;
                    ways.count - 1
                }
            };
            let (_, levels, count) = &mut ways.all[place];
            *levels.get_mut(*count)? = flip.levels[1];
            *count += 1;
        }
        Some(ways)
    }

    /// The most changes of value on any way from all levels before to all levels after: a state is how far each signal
    /// has come, and one step moves one signal on.
    fn most_changes(&self, test: &Test3, level: impl Fn(Signal) -> Level) -> Option<usize> {
        let all = &self.all[..self.count];
        let states: usize = all.iter().map(|(.., count)| count).product();
        let mut found = [(None, 0); MOST_STATES];
        for state in 0..states {
            if state >= MOST_STATES {
                return None;
            }
            let place = |number: usize| {
                let stride: usize = all[..number].iter().map(|(.., count)| count).product();
                (state / stride % all[number].2, stride)
            };
            let value = test.eval(&mut |signal| {
                let moving = all.iter().position(|(of, ..)| *of == signal);
                moving.map_or_else(|| level(signal), |number| all[number].1[place(number).0])
            });
            let before = (0..all.len()).map(place).filter(|(place, _)| *place > 0);
            let changes = before.map(|(_, stride)| {
                let (was, changes): (Option<bool>, usize) = found[state - stride];
                changes + usize::from(was != value)
            });
            found[state] = (value, changes.max().unwrap_or(0));
        }
        Some(found[states - 1].1)
    }
}
