//! Counting what is found of a limit, under each plan by which that may be decided.
//!
//! By far the most of what is found are pairs that certainly belong together. All of them whose length lies
//! between the same two borders are decided in one way, whatever the plan: they are counted by these *bands*, and
//! each band is decided once, when somebody asks.

use std::ops::ControlFlow;

use super::bound::BoundLimit;
use super::occurrence::Visited;
use super::required::Required;
use super::result::LimitResult;
use super::tally::Tally;
use super::walk::{Plan, Take};
use crate::capture::Capture;
use crate::known::Rule;
use crate::pair::Batch;
use crate::time::{Tick, TimeBase};

/// What has been found of a limit.
#[derive(Clone, Debug)]
pub(super) struct Count {
    bands: Vec<Band>,
    /// The band of the last pair: that of the next, nearly always.
    last: usize,
    /// For each plan, what is not in the bands.
    tallies: Vec<Tally>,
    /// Of what an end of the record cuts off, the most ticks.
    cut: i64,
    found: u64,
}

/// Pairs of lengths that are decided in one way.
#[derive(Clone, Copy, Debug)]
struct Band {
    /// Their ticks: the first, and the first of the next band.
    from: i64,
    to: i64,
    count: u64,
    sum: i128,
    first: Pair,
    /// The first of the shortest, and of the longest, with their ticks.
    shortest: Pair,
    longest: Pair,
    least: i64,
    most: i64,
}

/// A pair, and the how manieth it was.
#[derive(Clone, Copy, Debug, Default)]
struct Pair {
    start: Tick,
    end: Tick,
    nth: u64,
}

impl Count {
    pub(super) fn new(base: TimeBase, required: Required, plans: &[Plan]) -> Self {
        let mut borders: Vec<i64> = plans.iter().flat_map(Plan::borders).collect();
        borders.extend([i64::MIN, i64::MAX]);
        borders.sort_unstable();
        borders.dedup();
        let band = |ends: &[i64]| Band {
            from: ends[0],
            to: ends[1],
            count: 0,
            sum: 0,
            first: Pair::default(),
            shortest: Pair::default(),
            longest: Pair::default(),
            least: i64::MAX,
            most: i64::MIN,
        };
        Count {
            bands: borders.windows(2).map(band).collect(),
            last: 0,
            tallies: plans.iter().map(|_| Tally::new(base, required)).collect(),
            cut: 0,
            found: 0,
        }
    }

    /// The result, as the plan of a number decides it, for a record that is known as far as this.
    pub(super) fn result(
        &self,
        (number, plan): (usize, &Plan),
        bound: &BoundLimit,
        capture: &Capture,
        rule: Rule,
    ) -> LimitResult {
        let mut tally = self.tallies[number].clone();
        for band in self.bands.iter().filter(|band| band.count > 0) {
            let decided = |pair: Pair| (plan.certain(pair.start, pair.end), pair.nth);
            tally.add_alike(band.count, band.sum, [band.first, band.shortest, band.longest].map(decided));
        }
        tally.result(bound, capture, rule, self.cut)
    }

    /// Counts waits that nothing answered, whatever the plan; the longest lasted so many ticks.
    fn unanswered_all(&mut self, times: u64, longest: i64) {
        self.tallies.iter_mut().for_each(|tally| tally.add_unanswered(times, longest));
        self.found += times * self.tallies.len() as u64;
    }

    /// The band of intervals of this many ticks.
    fn find(&self, ticks: i64) -> usize {
        self.bands.partition_point(|band| band.to <= ticks).min(self.bands.len() - 1)
    }
}

impl Band {
    /// Adds pairs whose lengths are all of this band, where `nth` says the how manieth each of them is.
    fn add(&mut self, batch: &Batch, nth: impl Fn(usize) -> u64) {
        let (least, most) = batch.ends();
        let pair = |number: usize| {
            let (one, other) = batch.pairs()[number];
            Pair { start: one.min(other), end: one.max(other), nth: nth(number) }
        };
        let first_of = |ticks: i64| {
            batch.pairs().iter().position(|(one, other)| one.since(*other).abs() == ticks).unwrap_or(0)
        };
        if self.count == 0 {
            self.first = pair(0);
        }
        if least < self.least {
            (self.least, self.shortest) = (least, pair(first_of(least)));
        }
        if most > self.most {
            (self.most, self.longest) = (most, pair(first_of(most)));
        }
        self.count += batch.pairs().len() as u64;
        self.sum += batch.sum();
    }
}

impl Take for Count {
    #[inline]
    fn certain(&mut self, start: Tick, end: Tick) -> ControlFlow<()> {
        let pair = Pair { start, end, nth: self.found };
        let ticks = end.since(start);
        self.found += 1;
        if !(self.bands[self.last].from..self.bands[self.last].to).contains(&ticks) {
            self.last = self.find(ticks);
        }
        let band = &mut self.bands[self.last];
        if band.count == 0 {
            band.first = pair;
        }
        band.count += 1;
        band.sum += i128::from(ticks);
        if ticks < band.least {
            (band.least, band.shortest) = (ticks, pair);
        }
        if ticks > band.most {
            (band.most, band.longest) = (ticks, pair);
        }
        ControlFlow::Continue(())
    }

    fn unanswered(&mut self, _: Tick, ticks: i64) -> ControlFlow<()> {
        self.unanswered_all(1, ticks);
        ControlFlow::Continue(())
    }

    fn all_certain(&mut self, batch: &Batch) -> ControlFlow<()> {
        let (pairs, waits) = (batch.pairs(), batch.waits());
        if !pairs.is_empty() {
            let (least, most) = batch.ends();
            let place = self.find(least);
            if most >= self.bands[place].to {
                return self.one_by_one(batch);
            }
            let each = self.tallies.len();
            self.bands[place].add(batch, |number| {
                let waited = waits.partition_point(|wait| wait.place <= number);
                self.found + (number + waited * each) as u64
            });
            self.found += pairs.len() as u64;
        }
        if let Some(longest) = waits.iter().map(|wait| wait.ticks()).max() {
            self.unanswered_all(waits.len() as u64, longest);
        }
        ControlFlow::Continue(())
    }

    fn found(&mut self, plan: usize, found: Visited) -> ControlFlow<()> {
        self.tallies[plan].add(found, self.found);
        self.found += 1;
        ControlFlow::Continue(())
    }

    fn cut(&mut self, ticks: i64) {
        self.cut = self.cut.max(ticks);
    }

    fn waited(&mut self, plan: usize, ticks: i64) {
        self.tallies[plan].wait(ticks);
    }
}
