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
    stages: Vec<Stage>,
    /// The stages at which attempts wait, in order: the others cost nothing.
    active: Vec<usize>,
    /// What stages wait for, and what ends an attempt, each once; where it happens in a window, and how often it came
    /// before the word that is looked at.
    parts: Vec<P>,
    masks: Vec<Plane>,
    counts: Vec<u64>,
    /// Occurrences of the first stage's event that are counted together: the tick of the first.
    first: u64,
    /// Where what the first stage waits for began, if it is not an instant of itself.
    first_began: Option<u64>,
}

#[derive(Debug)]
struct Stage {
    /// Which part it waits for, and which end the wait.
    event: usize,
    unless: Vec<usize>,
    absent: bool,
    times: u64,
    /// Ticks since the attempt arrived here, at most and at least.
    within: Option<u64>,
    after: Option<u64>,
    /// How often an attempt arrived here.
    arrivals: u64,
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

impl Stage {
    fn new(stage: &check::Stage<u64>, place: impl Fn(&Guarded<u64>) -> usize) -> Self {
        let (within, after) = match stage.limit {
            Some(StepLimit::Within(ticks)) => (Some(ticks), None),
            Some(StepLimit::After(ticks)) => (None, Some(ticks)),
            None => (None, None),
        };
        let (event, unless) = (place(&stage.event), stage.unless.iter().map(&place).collect());
        let (absent, times) = (stage.absent, stage.times);
        Stage { event, unless, absent, times, within, after, arrivals: 0, waiting: VecDeque::new() }
    }

    /// An attempt arrives that began at a tick, after so many occurrences of the event.
    fn arrive(&mut self, tick: u64, began: u64, count: u64) {
        self.arrivals += 1;
        let attempt = Attempt { arrived: tick, count, began };
        // A later attempt with the same count to go can do whatever an earlier one could, and has
        // more time left; unless it must wait, or each has its own moment of giving up.
        if !self.absent && self.after.is_none() && self.waiting.back().is_some_and(|a| a.count == count) {
            self.waiting.pop_back();
        }
        self.waiting.push_back(attempt);
    }

    /// The tick at which the first attempt here has waited long enough for what did not come.
    fn deadline(&self) -> Option<u64> {
        let within = self.within.filter(|_| self.absent)?;
        self.waiting.front()?.arrived.checked_add(within)?.checked_add(1)
    }

    /// The event comes for the how manieth time: where the last of the attempts began that go on.
    fn event_at(&mut self, tick: u64, count: u64) -> Option<u64> {
        if self.absent {
            self.waiting.clear();
            return None;
        }
        if let Some(within) = self.within {
            while self.waiting.front().is_some_and(|a| tick - a.arrived > within) {
                self.waiting.pop_front();
            }
        }
        let mut done = None;
        while let Some(attempt) = self.waiting.front() {
            let began = attempt.began;
            let early = self.after.is_some_and(|after| tick - attempt.arrived < after);
            if early || count - attempt.count < self.times {
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
        let events = stages.iter().flat_map(|stage| stage.unless.iter().chain([&stage.event]));
        let mut known: Vec<&Guarded<u64>> = Vec::new();
        for event in events {
            if !known.contains(&event) {
                known.push(event);
            }
        }
        let place = |event: &Guarded<u64>| known.iter().position(|other| *other == event).unwrap_or(0);
        let stage = |stage| Stage::new(stage, place);
        let parts: Vec<P> = known.iter().map(|event| part(event)).collect();
        Sequence {
            stages: stages.iter().map(stage).collect(),
            active: Vec::new(),
            masks: Vec::new(),
            counts: vec![0; parts.len()],
            parts,
            first: 0,
            first_began: None,
        }
    }

    pub(super) fn advance(&mut self, window: &Window<'_>) -> Plane {
        let Some(first) = self.stages.first().map(|first| first.event) else { return NONE };
        self.first_began = self.parts[first].began_by(window.start);
        self.masks.clear();
        self.masks.extend(self.parts.iter_mut().map(|part| part.advance(window)));
        let mut hits = NONE;
        for (word, hits) in hits.iter_mut().enumerate().take(window.words()) {
            let (start, end) = window.ticks(word);
            let mut later = u64::MAX;
            loop {
                let left = self.looked_for(word) & later;
                let event = (left != 0).then(|| start + u64::from(left.trailing_zeros()));
                let deadline = self.deadlines().min().filter(|deadline| *deadline < end);
                let Some(tick) = event.into_iter().chain(deadline).min() else { break };
                let at = tick.saturating_sub(start).min(63);
                later = u64::MAX << at << 1;
                if self.at(tick, word, 1 << at) {
                    *hits |= 1 << at;
                }
            }
            for (count, mask) in self.counts.iter_mut().zip(&self.masks) {
                *count += u64::from(mask[word].count_ones());
            }
        }
        hits
    }

    /// Where anything happens in a word that a stage waits for, or that ends a wait.
    fn looked_for(&self, word: usize) -> u64 {
        let first = self.stages.first().map_or(0, |first| self.masks[first.event][word]);
        self.active.iter().map(|number| &self.stages[*number]).fold(first, |all, stage| {
            let parts = stage.unless.iter().chain([&stage.event]);
            parts.fold(all, |all, part| all | self.masks[*part][word])
        })
    }

    fn deadlines(&self) -> impl Iterator<Item = u64> {
        self.active.iter().filter_map(|number| self.stages[*number].deadline())
    }

    /// How often a part has come up to a tick of a word, that one included.
    fn count(&self, part: usize, word: usize, bit: u64) -> u64 {
        self.counts[part] + u64::from((self.masks[part][word] & (bit | (bit - 1))).count_ones())
    }

    /// Everything that happens at one tick; whether an attempt gets through. Later stages come
    /// first, so that nothing passes two of them at once.
    fn at(&mut self, tick: u64, word: usize, bit: u64) -> bool {
        let mut through = false;
        let mut place = self.active.len();
        while let Some(before) = place.checked_sub(1) {
            place = before;
            let number = self.active[place];
            let count = self.count(self.stages[number].event, word, bit);
            let comes = |part: usize| self.masks[part][word] & bit != 0;
            let stage = &mut self.stages[number];
            if stage.unless.iter().any(|part| comes(*part)) {
                stage.waiting.clear();
            }
            let mut done = None;
            while stage.deadline().is_some_and(|deadline| deadline <= tick) {
                done = stage.waiting.pop_front().map(|attempt| attempt.began).or(done);
            }
            if comes(stage.event) {
                done = stage.event_at(tick, count).or(done);
            }
            if stage.waiting.is_empty() {
                self.active.remove(place);
            }
            if let Some(began) = done {
                through |= self.go_on(number + 1, tick, began, (word, bit));
            }
        }
        let Some(Stage { event, times, .. }) = self.stages.first() else { return through };
        if self.masks[*event][word] & bit != 0 {
            let count = self.count(*event, word, bit);
            let times = *times;
            if (count - 1).is_multiple_of(times) {
                self.first = self.first_began.unwrap_or(tick);
            }
            if count.is_multiple_of(times) {
                through |= self.go_on(1, tick, self.first, (word, bit));
            }
        }
        through
    }

    /// An attempt comes to a stage; whether it is through.
    fn go_on(&mut self, number: usize, tick: u64, began: u64, (word, bit): (usize, u64)) -> bool {
        let Some(event) = self.stages.get(number).map(|stage| stage.event) else { return true };
        let count = self.count(event, word, bit);
        self.stages[number].arrive(tick, began, count);
        if let Err(place) = self.active.binary_search(&number) {
            self.active.insert(place, number);
        }
        false
    }

    pub(super) fn parts(&self) -> impl Iterator<Item = &P> {
        self.parts.iter()
    }

    /// How far it has come, step by step, with the words that `table` has for them.
    pub(super) fn report(&self, table: &StateTable) -> Vec<StateReport> {
        let report = |(stage, row): (&Stage, &StateRow)| StateReport {
            name: row.name.clone(),
            present: false,
            entered: stage.arrivals,
            // Its own event comes after what ends an attempt.
            arms: row
                .arms
                .iter()
                .rfind(|arm| arm.when.starts_with("on "))
                .map(|arm| (arm.when.clone(), Some(self.counts[stage.event])))
                .into_iter()
                .collect(),
        };
        self.stages.iter().zip(&table.states).map(report).collect()
    }

    pub(super) fn since(&self) -> Option<u64> {
        let inner = self.parts.iter().filter_map(P::since);
        let waiting = self.active.iter().flat_map(|number| &self.stages[*number].waiting);
        let first = self.stages.first();
        let counted = first.filter(|first| !self.counts[first.event].is_multiple_of(first.times));
        inner.chain(waiting.map(|attempt| attempt.began)).chain(counted.map(|_| self.first)).min()
    }

    pub(super) fn wake(&self) -> Option<u64> {
        self.parts.iter().filter_map(P::wake).chain(self.deadlines()).min()
    }
}
