//! One event after another.
//!
//! Each occurrence of the first step begins an attempt. An attempt waits at a stage until its event
//! comes (the first one after it arrived there that satisfies the limit), then waits at the next.
//! Attempts that can only go the same way from now on are kept once: so a stage without a count
//! needs one attempt, and a count of N needs at most N.

use std::collections::VecDeque;

use super::window::{NONE, Running, Window};
use crate::event::check::{self, Guarded, StateReport, StateRow, StateTable};
use crate::event::syntax::StepLimit;
use crate::scan::Plane;

#[derive(Debug)]
pub(super) struct Sequence<P> {
    stages: Vec<Stage<P>>,
    /// Per stage, where its event happens in a window, and where what ends an attempt does.
    masks: Vec<(Plane, Plane)>,
    /// Where what the first stage waits for began, if it is not an instant of itself.
    first_began: Option<u64>,
}

#[derive(Debug)]
struct Stage<P> {
    event: P,
    unless: Vec<P>,
    absent: bool,
    times: u64,
    /// Ticks since the attempt arrived here, at most and at least.
    within: Option<u64>,
    after: Option<u64>,
    /// Occurrences of the event so far, and of those that are counted together the tick of the first.
    count: u64,
    first: u64,
    /// How often an attempt arrived here, and how often the event came at all.
    arrivals: u64,
    seen: u64,
    /// The attempts that wait here, in order of arrival.
    waiting: VecDeque<Attempt>,
}

#[derive(Clone, Copy, Debug)]
struct Attempt {
    /// The tick at which it arrived at its stage.
    arrived: u64,
    /// Occurrences of the stage's event before that.
    count: u64,
    /// The tick at which it began, at the first stage.
    began: u64,
}

impl<P: Running> Stage<P> {
    fn new(stage: &check::Stage<u64>, part: impl Fn(&Guarded<u64>) -> P) -> Self {
        let (within, after) = match stage.limit {
            Some(StepLimit::Within(ticks)) => (Some(ticks), None),
            Some(StepLimit::After(ticks)) => (None, Some(ticks)),
            None => (None, None),
        };
        Stage {
            event: part(&stage.event),
            unless: stage.unless.iter().map(&part).collect(),
            absent: stage.absent,
            times: stage.times,
            within,
            after,
            count: 0,
            first: 0,
            arrivals: 0,
            seen: 0,
            waiting: VecDeque::new(),
        }
    }

    fn arrive(&mut self, tick: u64, began: u64) {
        self.arrivals += 1;
        let attempt = Attempt { arrived: tick, count: self.count, began };
        // A later attempt with the same count to go can do whatever an earlier one could, and has
        // more time left; unless it must wait, or each has its own moment of giving up.
        if !self.absent && self.after.is_none() && self.waiting.back().is_some_and(|a| a.count == self.count)
        {
            self.waiting.pop_back();
        }
        self.waiting.push_back(attempt);
    }

    /// The tick at which the first attempt here has waited long enough for what did not come.
    fn deadline(&self) -> Option<u64> {
        let within = self.within.filter(|_| self.absent)?;
        self.waiting.front()?.arrived.checked_add(within)?.checked_add(1)
    }

    /// The event comes: where the last of the attempts began that go on.
    fn event_at(&mut self, tick: u64) -> Option<u64> {
        if self.absent {
            self.waiting.clear();
            return None;
        }
        self.count += 1;
        if let Some(within) = self.within {
            while self.waiting.front().is_some_and(|a| tick - a.arrived > within) {
                self.waiting.pop_front();
            }
        }
        let mut done = None;
        while let Some(attempt) = self.waiting.front() {
            let began = attempt.began;
            let early = self.after.is_some_and(|after| tick - attempt.arrived < after);
            if early || self.count - attempt.count < self.times {
                break;
            }
            self.waiting.pop_front();
            done = Some(began);
        }
        done
    }
}

impl<P: Running> Sequence<P> {
    pub(super) fn new(stages: &[check::Stage<u64>], part: impl Fn(&Guarded<u64>) -> P) -> Self {
        Sequence {
            stages: stages.iter().map(|s| Stage::new(s, &part)).collect(),
            masks: Vec::new(),
            first_began: None,
        }
    }

    pub(super) fn advance(&mut self, window: &Window<'_>) -> Plane {
        self.first_began = self.stages.first().and_then(|first| first.event.began_by(window.start));
        let mut masks = std::mem::take(&mut self.masks);
        masks.clear();
        masks.extend(self.stages.iter_mut().map(|stage| {
            let mut unless = NONE;
            stage.unless.iter_mut().for_each(|part| window.or_into(&mut unless, &part.advance(window)));
            (stage.event.advance(window), unless)
        }));
        let mut hits = NONE;
        for (word, hits) in hits.iter_mut().enumerate().take(window.words()) {
            let (first, end) = window.ticks(word);
            let mut left = masks.iter().fold(0, |all, (event, unless)| all | event[word] | unless[word]);
            loop {
                let event = (left != 0).then(|| first + u64::from(left.trailing_zeros()));
                let deadline = self.stages.iter().filter_map(Stage::deadline).min().filter(|d| *d < end);
                let Some(tick) = event.into_iter().chain(deadline).min() else { break };
                let bit = 1 << tick.saturating_sub(first).min(63);
                left &= !bit;
                if self.at(tick, word, bit, &masks) {
                    *hits |= bit;
                }
            }
        }
        self.masks = masks;
        hits
    }

    /// Everything that happens at one tick; whether an attempt gets through. Later stages come
    /// first, so that nothing passes two of them at once.
    fn at(&mut self, tick: u64, word: usize, bit: u64, masks: &[(Plane, Plane)]) -> bool {
        let mut through = false;
        for number in (0..self.stages.len()).rev() {
            let stage = &mut self.stages[number];
            let (event, unless) = (masks[number].0[word], masks[number].1[word]);
            if unless & bit != 0 {
                stage.waiting.clear();
            }
            let mut done = None;
            while stage.deadline().is_some_and(|d| d <= tick) {
                done = stage.waiting.pop_front().map(|attempt| attempt.began).or(done);
            }
            if event & bit != 0 {
                stage.seen += 1;
                if number == 0 {
                    if stage.count.is_multiple_of(stage.times) {
                        stage.first = self.first_began.unwrap_or(tick);
                    }
                    stage.count += 1;
                    done = stage.count.is_multiple_of(stage.times).then_some(stage.first);
                } else {
                    done = stage.event_at(tick).or(done);
                }
            }
            let Some(began) = done else { continue };
            match self.stages.get_mut(number + 1) {
                Some(next) => next.arrive(tick, began),
                None => through = true,
            }
        }
        through
    }

    pub(super) fn parts(&self) -> impl Iterator<Item = &P> {
        self.stages.iter().flat_map(|stage| stage.unless.iter().chain([&stage.event]))
    }

    /// How far it has come, step by step, with the words that `table` has for them.
    pub(super) fn report(&self, table: &StateTable) -> Vec<StateReport> {
        let report = |(stage, row): (&Stage<P>, &StateRow)| StateReport {
            name: row.name.clone(),
            present: false,
            entered: stage.arrivals,
            // Its own event comes after what ends an attempt.
            arms: row
                .arms
                .iter()
                .rfind(|arm| arm.when.starts_with("on "))
                .map(|arm| (arm.when.clone(), Some(stage.seen)))
                .into_iter()
                .collect(),
        };
        self.stages.iter().zip(&table.states).map(report).collect()
    }

    pub(super) fn since(&self) -> Option<u64> {
        let inner = self.stages.iter().flat_map(|s| s.unless.iter().chain([&s.event])).filter_map(P::since);
        let waiting = self.stages.iter().flat_map(|stage| &stage.waiting).map(|attempt| attempt.began);
        let counted = self.stages.first().filter(|first| !first.count.is_multiple_of(first.times));
        inner.chain(waiting).chain(counted.map(|first| first.first)).min()
    }

    pub(super) fn wake(&self) -> Option<u64> {
        let inner = self.stages.iter().flat_map(|s| s.unless.iter().chain([&s.event])).filter_map(P::wake);
        inner.chain(self.stages.iter().filter_map(Stage::deadline)).min()
    }
}
