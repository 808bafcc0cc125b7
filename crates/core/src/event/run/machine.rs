//! A state machine at work.

use super::window::{NONE, Running, Window};
use crate::event::check::{Guarded, MachineArm, StateReport, StateRow, StateTable};
use crate::scan::Plane;

#[derive(Debug)]
pub(super) struct Machine<P> {
    states: Vec<Vec<Arm<P>>>,
    current: usize,
    /// The tick at which the present state was entered.
    entered: u64,
    /// The tick at which it left its first state.
    began: Option<u64>,
    /// Per arm of the present state, how often its event came since.
    counts: Vec<u64>,
    /// Per state, how often it was entered.
    visits: Vec<u64>,
    /// Per state and arm, where its event happens in a window.
    masks: Vec<Vec<Plane>>,
}

#[derive(Debug)]
struct Arm<P> {
    event: Option<P>,
    /// Ticks after which it happens, at least one.
    after: Option<u64>,
    times: u64,
    fire: bool,
    go: usize,
    /// How often its event came in the whole record.
    seen: u64,
}

impl<P: Running> Machine<P> {
    pub(super) fn new(states: &[Vec<MachineArm<u64>>], part: impl Fn(&Guarded<u64>) -> P) -> Self {
        let arm = |arm: &MachineArm<u64>| Arm {
            event: arm.event.as_ref().map(&part),
            after: arm.after,
            times: arm.times,
            fire: arm.fire,
            go: arm.go,
            seen: 0,
        };
        let states: Vec<Vec<Arm<P>>> = states.iter().map(|arms| arms.iter().map(arm).collect()).collect();
        let mut visits = vec![0; states.len()];
        if let Some(first) = visits.first_mut() {
            *first = 1;
        }
        let counts = vec![0; states.first().map_or(0, Vec::len)];
        Machine { states, current: 0, entered: 0, began: None, counts, visits, masks: Vec::new() }
    }

    pub(super) fn advance(&mut self, window: &Window<'_>) -> Plane {
        // Every arm looks at every window, also while its state is not the present one.
        let mut masks = std::mem::take(&mut self.masks);
        masks.resize_with(self.states.len(), Vec::new);
        for (arms, masks) in self.states.iter_mut().zip(&mut masks) {
            masks.clear();
            masks.extend(arms.iter_mut().map(|arm| {
                let mask = arm.event.as_mut().map_or(NONE, |event| event.advance(window));
                arm.seen += mask.iter().map(|word| u64::from(word.count_ones())).sum::<u64>();
                mask
            }));
        }
        let mut hits = NONE;
        for (word, hits) in hits.iter_mut().enumerate().take(window.words()) {
            let (first, end) = window.ticks(word);
            let mut from = first;
            while let Some(tick) = self.next_tick(from, first, end, word, &masks) {
                let bit = 1 << (tick - first);
                if self.at(tick, word, bit, &masks) {
                    *hits |= bit;
                }
                from = tick + 1;
            }
        }
        self.masks = masks;
        hits
    }

    /// The next tick of a word, from `from` on, at which something may happen in the present state.
    fn next_tick(&self, from: u64, first: u64, end: u64, word: usize, masks: &[Vec<Plane>]) -> Option<u64> {
        // What happens on the tick of entering a state is not looked at, but for the very first.
        let start = if self.entered == 0 { from } else { from.max(self.entered + 1) };
        if start >= end {
            return None;
        }
        let later = u64::MAX << (start - first);
        let all = masks.get(self.current)?.iter().fold(0, |all, mask| all | mask[word]) & later;
        let event = (all != 0).then(|| first + u64::from(all.trailing_zeros()));
        let deadline = self.deadline().filter(|d| (from..end).contains(d));
        event.into_iter().chain(deadline).min()
    }

    fn deadline(&self) -> Option<u64> {
        let arms = self.states.get(self.current)?;
        arms.iter().filter_map(|a| self.entered.checked_add(a.after?)).min()
    }

    /// Lets the first arm that happens win; whether it fires.
    fn at(&mut self, tick: u64, word: usize, bit: u64, masks: &[Vec<Plane>]) -> bool {
        let arms = &self.states[self.current];
        let mut winner = None;
        for (place, arm) in arms.iter().enumerate() {
            let mut happens = arm.after.is_some_and(|after| self.entered.checked_add(after) == Some(tick));
            if masks[self.current][place][word] & bit != 0 {
                self.counts[place] += 1;
                happens |= self.counts[place] == arm.times;
            }
            if happens && winner.is_none() {
                winner = Some((arm.fire, arm.go));
            }
        }
        let Some((fire, go)) = winner else { return false };
        self.current = go;
        self.entered = tick;
        self.began = if go == 0 || fire { None } else { self.began.or(Some(tick)) };
        self.counts = vec![0; self.states[go].len()];
        self.visits[go] += 1;
        fire
    }

    pub(super) fn since(&self) -> Option<u64> {
        let events = self.states.iter().flatten().filter_map(|arm| arm.event.as_ref());
        events.filter_map(P::since).chain(self.began).min()
    }

    pub(super) fn wake(&self) -> Option<u64> {
        let events = self.states.iter().flatten().filter_map(|a| a.event.as_ref());
        events.filter_map(P::wake).chain(self.deadline()).min()
    }

    pub(super) fn parts(&self) -> impl Iterator<Item = &P> {
        self.states.iter().flatten().filter_map(|arm| arm.event.as_ref())
    }

    /// How far it has come, with the words that `table` has for states and arms.
    pub(super) fn report(&self, table: &StateTable) -> Vec<StateReport> {
        let report = |(number, (arms, row)): (usize, (&Vec<Arm<P>>, &StateRow))| StateReport {
            name: row.name.clone(),
            present: number == self.current,
            entered: self.visits[number],
            arms: row
                .arms
                .iter()
                .zip(arms)
                .map(|(row, arm)| (row.when.clone(), arm.event.as_ref().map(|_| arm.seen)))
                .collect(),
        };
        self.states.iter().zip(&table.states).enumerate().map(report).collect()
    }
}
