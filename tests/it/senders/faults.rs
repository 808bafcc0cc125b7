//! What can be wrong with lines, whoever drives them.

use super::{BIT, Ps, Random, World};

impl World {
    /// Pulses shorter than an eighth of the shortest element, anywhere.
    pub(crate) fn spikes(&mut self, random: &mut Random, count: i64, element: Ps) {
        for _ in 0..count {
            let line = random.below(self.toggles.len() as i64) as usize;
            let at = random.below(self.now);
            let width = 1 + random.below(element / 8 - 1);
            let toggles = &mut self.toggles[line];
            let place = toggles.partition_point(|toggle| *toggle < at);
            // Not over an edge: that would only move it.
            let free = |toggle: Option<&Ps>| toggle.is_none_or(|toggle| *toggle > at + width + element / 8);
            if free(toggles.get(place)) && (place == 0 || toggles[place - 1] + element / 8 < at) {
                toggles.splice(place..place, [at, at + width]);
            }
        }
    }

    /// A line that never leaves its level from some instant on.
    pub(crate) fn stuck(&mut self, line: usize, level: bool, from: Ps) {
        let rests = self.rests[line];
        let toggles = &mut self.toggles[line];
        toggles.truncate(toggles.partition_point(|toggle| *toggle < from));
        if toggles.is_empty() && from == 0 {
            self.rests[line] = level;
        } else if (rests ^ (toggles.len() % 2 == 1)) != level {
            toggles.push(from);
        }
    }

    /// All lines stay as they are from some instant on: who drives them hangs.
    pub(crate) fn hung(&mut self, from: Ps) {
        self.toggles.iter_mut().for_each(|toggles| {
            toggles.truncate(toggles.partition_point(|toggle| *toggle < from));
        });
    }

    /// What is seen by a record that begins and ends within it.
    pub(crate) fn cut(&mut self, from: Ps, to: Ps) {
        for (rests, toggles) in self.rests.iter_mut().zip(&mut self.toggles) {
            let before = toggles.partition_point(|toggle| *toggle < from);
            *rests ^= before % 2 == 1;
            toggles.drain(..before);
            toggles.truncate(toggles.partition_point(|toggle| *toggle < to));
            toggles.iter_mut().for_each(|toggle| *toggle -= from);
        }
        // The record ends there, too.
        self.now = to - from - 20 * BIT;
    }

    /// A lead that is off has the edges of the one beside it, a little later.
    pub(crate) fn echo(&mut self, from: usize, to: usize) {
        self.toggles[to] = self.toggles[from].iter().map(|at| at + BIT / 200).collect();
    }

    /// Each edge of a line is a short pulse on another.
    pub(crate) fn crosstalk(&mut self, from: usize, to: usize, width: Ps) {
        let pulses = self.toggles[from].iter().map(|at| (*at + width / 3, *at + width / 3 + width)).collect();
        self.xor(to, pulses);
    }

    /// Without a ground, all lines pick up the same and much of their own.
    pub(crate) fn no_ground(&mut self, random: &mut Random) {
        for line in 0..self.toggles.len() {
            let (mut at, mut pulses) = (0, Vec::new());
            while at < self.now {
                let width = 5_000 + random.below(60_000);
                pulses.push((at, at + width));
                at += width + 5_000 + random.below(400_000);
            }
            self.xor(line, pulses);
        }
    }

    /// Inverts a line during these stretches.
    fn xor(&mut self, line: usize, pulses: Vec<(Ps, Ps)>) {
        let mut toggles = std::mem::take(&mut self.toggles[line]);
        toggles.extend(pulses.iter().flat_map(|(from, to)| [*from, *to]));
        toggles.sort_unstable();
        // Twice at once is not at all.
        let mut kept: Vec<Ps> = Vec::new();
        for toggle in toggles {
            if kept.last() == Some(&toggle) {
                kept.pop();
            } else {
                kept.push(toggle);
            }
        }
        self.toggles[line] = kept;
    }
}
