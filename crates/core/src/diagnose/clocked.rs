//! Buses with a clock: clocked serial with a select, plain clock and data, the test port.

use super::sight::{look, stretch};
use super::timing::{rests_at, shortest, sides};
use super::{Patient, Sureness};
use crate::decode::{ClockedConfig, Protocol, SpiConfig, SpiData};
use crate::line::{Level, LineId};
use crate::time::Tick;

/// Selections that are looked at one by one.
const MOST_SELECTIONS: usize = 1000;

impl Patient<'_> {
    pub(super) fn spi(&mut self, config: SpiConfig) {
        let lines = self.bus.lines();
        let range = stretch(self.capture, lines);
        let clock = self.line(0);
        if let Some(half) = shortest(self.capture, clock, range.clone()) {
            self.samples(2.0 * half as f64, "clock period");
        }
        if let Some(active) = config.select
            && self.spi_select(config, active)
        {
            return;
        }
        let protocol = Protocol::Spi(config);
        let Some(stated) = look(self.capture, lines, range.clone(), &protocol) else { return };
        if stated.is_bad()
            && let Some(remedy) = self.other_wiring(config)
        {
            let what = "with the lines exchanged, all words are whole";
            return self.find("swapped", Sureness::Likely, what, remedy);
        }
        let said = self.findings.len();
        self.spi_mode(config);
        if self.findings.len() > said {
            return;
        }
        if config.select.is_some() && stated.count("truncated") > 0 {
            self.spi_word_length(config);
        }
        if self.findings.len() == said && stated.faulty > 0 {
            self.rare_faults(&stated);
        }
    }

    /// What is wrong with the select line; whether that is enough.
    fn spi_select(&mut self, config: SpiConfig, active: Level) -> bool {
        let name = self.name(1);
        let level = if active == Level::Low { "low" } else { "high" };
        let select = self.capture.trace(self.line(1));
        if select.edge_count() == 0 {
            if select.level_at(Tick(0)) == active {
                let what = format!("{name} is {level} all the time: where a word begins is not known");
                self.find("select", Sureness::Possible, what, "wire the select line, or use 'gap' instead");
                return false;
            }
            let what = format!(
                "{name} never goes {level}, while {} has {} edges: nothing is selected",
                self.name(0),
                self.edges(0)
            );
            let remedy =
                "check the lead and which select belongs to this part; or use 'gap' instead of 'select'";
            self.find("select", Sureness::Certain, what, remedy);
            return true;
        }
        // Nearly all clock edges while the line is not at its active level.
        let clock = self.capture.trace(self.line(0)).edges(stretch(self.capture, self.bus.lines()));
        let (mut inside, mut outside) = (0u64, 0u64);
        for edge in clock.take(5000) {
            // The select may move with the last edge.
            match select.level_at(Tick(edge.tick.0.saturating_sub(1))) == active {
                true => inside += 1,
                false => outside += 1,
            }
        }
        if outside >= 16 && outside > 9 * inside {
            let other = if active == Level::Low { Level::High } else { Level::Low };
            let turned = Protocol::Spi(SpiConfig { select: Some(other), ..config });
            let range = stretch(self.capture, self.bus.lines());
            let seen = look(self.capture, self.bus.lines(), range, &turned).unwrap_or_default();
            let word = if active == Level::Low { "high" } else { "low" };
            let what = format!("the clock runs while {name} is {word}, hardly ever while it is {level}");
            if seen.is_bad() {
                let remedy =
                    format!("check which select belongs to this part, or select-active = \"{word}\"");
                self.find("select", Sureness::Likely, what, remedy);
            } else {
                self.find("select-active", Sureness::Certain, what, format!("select-active = \"{word}\""));
            }
            return true;
        }
        false
    }

    /// Another order of the lines under which all words are whole.
    fn other_wiring(&self, config: SpiConfig) -> Option<String> {
        if config.data == SpiData::Dual {
            return None;
        }
        let lines = self.bus.lines();
        let range = stretch(self.capture, lines);
        let busiest = lines.iter().map(|line| self.capture.trace(*line).edge_count()).max()?;
        let mut orders = Vec::new();
        permutations(&mut lines.to_vec(), 0, &mut orders);
        let found = orders.into_iter().filter(|order| *order != lines).find(|order| {
            // The clock is the busiest line.
            let clock = self.capture.trace(order[0]).edge_count();
            let seen = || look(self.capture, order, range.clone(), &Protocol::Spi(config));
            clock == busiest && seen().is_some_and(|seen| seen.is_clean())
        })?;
        let keys = self.bus.protocol().roles();
        let name = |line: &LineId| self.capture.line(*line).name.clone();
        let pairs: Vec<String> =
            keys.iter().zip(&found).map(|(key, line)| format!("{key} = \"{}\"", name(line))).collect();
        Some(pairs.join(", "))
    }

    /// The mode that the signal shows, against the one that is stated.
    fn spi_mode(&mut self, config: SpiConfig) {
        let range = stretch(self.capture, self.bus.lines());
        let clock = self.line(0);
        let select = config.select.map(|level| (self.capture.trace(self.line(1)), level));
        let selected = |tick: Tick| select.is_none_or(|(trace, level)| trace.level_at(tick) == level);
        // Where the clock rests: at the beginning of selections, or most of the time.
        let idles_high = match select {
            Some((trace, level)) => {
                let begins = trace.edges(range.clone()).filter(|edge| edge.to == level).take(MOST_SELECTIONS);
                let levels: Vec<Level> =
                    begins.map(|edge| self.capture.trace(clock).level_at(edge.tick)).collect();
                let high = levels.iter().filter(|level| **level == Level::High).count();
                match () {
                    () if levels.len() < 3 => None,
                    () if high * 10 >= levels.len() * 9 => Some(true),
                    () if high * 10 <= levels.len() => Some(false),
                    () => None,
                }
            }
            None => Some(rests_at(self.capture, clock, range.clone(), Level::High)),
        };
        let first = 1 + usize::from(config.select.is_some());
        let data = first..self.bus.lines().len();
        let after_rising: Vec<bool> = data
            .filter_map(|place| {
                sides(self.capture, clock, self.line(place), range.clone(), selected).after_rising()
            })
            .collect();
        let shifts = match after_rising.as_slice() {
            [first, rest @ ..] if rest.iter().all(|side| side == first) => Some(*first),
            _ => None,
        };
        let stated_high = config.mode & 2 != 0;
        let takes_rising = matches!(config.mode, 0 | 3);
        let idle = idles_high.unwrap_or(stated_high);
        let rising = shifts.map_or(takes_rising, |shifts_rising| !shifts_rising);
        let mode = match (idle, rising) {
            (false, true) => 0,
            (false, false) => 1,
            (true, false) => 2,
            (true, true) => 3,
        };
        if mode == config.mode {
            return;
        }
        let mut said = Vec::new();
        if idle != stated_high {
            let level = if idle { "high" } else { "low" };
            said.push(format!("{} rests {level}, in mode {} it would not", self.name(0), config.mode));
        }
        if rising != takes_rising {
            let edge = if takes_rising { "rising" } else { "falling" };
            said.push(format!("data changes with the {edge} edge, which mode {} takes it with", config.mode));
        }
        let (what, remedy) = (said.join("; "), format!("mode = {mode}"));
        // Data is taken with the same edge either way when only the rest level differs.
        let sureness = if rising != takes_rising { Sureness::Certain } else { Sureness::Likely };
        self.find("mode", sureness, what, remedy);
    }

    /// Selections that never hold a whole number of words.
    fn spi_word_length(&mut self, config: SpiConfig) {
        let Some(active) = config.select else { return };
        let range = stretch(self.capture, self.bus.lines());
        let (select, clock) = (self.capture.trace(self.line(1)), self.capture.trace(self.line(0)));
        let mut counts = std::collections::BTreeMap::new();
        let mut begun = None;
        for edge in select.edges(range).take(2 * MOST_SELECTIONS) {
            if edge.to == active {
                begun = Some(edge.tick);
            } else if let Some(begin) = begun.take() {
                *counts.entry(clock.count(begin..edge.tick) / 2).or_insert(0u64) += 1;
            }
        }
        counts.remove(&0);
        let all: u64 = counts.values().sum();
        let odd: u64 = counts
            .iter()
            .filter(|(bits, _)| !bits.is_multiple_of(u64::from(config.bits)))
            .map(|(_, n)| n)
            .sum();
        let Some((common, times)) = counts.iter().max_by_key(|(_, times)| **times) else { return };
        if all < 3 || odd * 2 < all {
            return;
        }
        let what = format!(
            "{} of {all} selections hold {common} bits, which are no whole words of {}",
            times, config.bits
        );
        let bits = (1..=64u64).rev().find(|bits| counts.keys().all(|count| count % bits == 0)).unwrap_or(1);
        let sureness = if odd == all { Sureness::Likely } else { Sureness::Possible };
        let remedy = match bits {
            // Nothing has words of one, two or three bits.
            0..4 => {
                "no word length fits: parts with other words share the select, or clocks are lost or added"
                    .into()
            }
            bits => format!("bits = {bits}, or a divisor of it"),
        };
        self.find("word-length", sureness, what, remedy);
    }

    pub(super) fn clocked(&mut self, config: ClockedConfig) {
        let range = stretch(self.capture, self.bus.lines());
        if let Some(half) = shortest(self.capture, self.line(0), range.clone()) {
            self.samples(2.0 * half as f64, "clock period");
        }
        let sides = sides(self.capture, self.line(0), self.line(1), range.clone(), |_| true);
        if sides.after_rising() == Some(config.rising) {
            let (edge, other) = if config.rising { ("rising", "falls") } else { ("falling", "rises") };
            let what = format!("data changes with the {edge} edge of the clock, which takes it");
            return self.find("edge", Sureness::Certain, what, format!("edge = \"{other}\""));
        }
        let protocol = Protocol::Clocked(config);
        let Some(stated) = look(self.capture, self.bus.lines(), range, &protocol) else { return };
        if stated.faulty == 0 {
            return;
        }
        if stated.is_bad() {
            let remedy =
                "check the word length, start, parity and stop, and whether clock and data are exchanged";
            return self.unread(&stated, remedy);
        }
        self.rare_faults(&stated);
    }

    /// Any other bus: lines that are read badly as a whole, and faults that come now and then.
    pub(super) fn plain(&mut self) {
        let range = stretch(self.capture, self.bus.lines());
        if !matches!(self.bus.protocol(), Protocol::Parallel(_))
            && let Some(half) = shortest(self.capture, self.line(0), range.clone())
        {
            self.samples(2.0 * half as f64, "clock period");
        }
        let Some(stated) = look(self.capture, self.bus.lines(), range, self.bus.protocol()) else { return };
        if stated.frames == 0 || (stated.is_bad() && stated.faulty > 0) {
            self.unread(&stated, "check that the lines are not exchanged, and the settings of the bus");
        } else if stated.faulty > 0 {
            self.rare_faults(&stated);
        }
    }

    pub(super) fn port(&mut self) {
        let range = stretch(self.capture, self.bus.lines());
        if let Some(half) = shortest(self.capture, self.line(0), range.clone()) {
            self.samples(2.0 * half as f64, "clock period");
        }
        let sides = sides(self.capture, self.line(0), self.line(1), range.clone(), |_| true);
        if sides.after_rising() == Some(true) {
            let what =
                format!("{} changes with the rising edge of {}, which takes it", self.name(1), self.name(0));
            let remedy = "check that TCK and TMS are not exchanged or inverted, and record faster";
            self.find("edge", Sureness::Likely, what, remedy);
        }
        let Some(stated) = look(self.capture, self.bus.lines(), range, self.bus.protocol()) else { return };
        // Resets and data scans are frames, too.
        if stated.count("length") * 5 > stated.frames {
            let what = "instruction scans have another length than the chain";
            self.find(
                "chain",
                Sureness::Likely,
                what,
                "check the lengths, and that no part is missing in 'chain'",
            );
        } else if stated.frames == 0 && self.edges(0) > 20 {
            let what = "the mode line never tells the state";
            self.find("start", Sureness::Likely, what, "record from a reset on, or check TMS");
        }
    }
}

fn permutations(lines: &mut Vec<LineId>, fixed: usize, all: &mut Vec<Vec<LineId>>) {
    if fixed == lines.len() {
        all.push(lines.clone());
        return;
    }
    for place in fixed..lines.len() {
        lines.swap(fixed, place);
        permutations(lines, fixed + 1, all);
        lines.swap(fixed, place);
    }
}
