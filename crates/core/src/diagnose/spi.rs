//! Clocked serial with a select, or with pauses between words.

use super::bursts::Words;
use super::finding::Sureness;
use super::patient::Patient;
use super::timing::{rests_at, sides};
use crate::decode::{Protocol, SpiConfig};
use crate::line::Level;
use crate::time::Tick;

/// Selections that are looked at one by one.
const MOST_SELECTIONS: usize = 1000;

impl Patient<'_> {
    pub(super) fn spi(&mut self, config: SpiConfig) {
        if let Some(active) = config.select
            && self.spi_select(config, active)
        {
            return;
        }
        let protocol = Protocol::Spi(config);
        let Some(stated) = self.look(&protocol) else { return };
        let said = self.findings.len();
        self.spi_mode(config);
        if self.findings.len() > said {
            return;
        }
        if stated.count("truncated") > 0 {
            let words = match (config.select, config.gap) {
                (Some(active), _) => self.words_of_selections(active),
                (None, Some(gap)) => self.words_of_bursts(gap),
                (None, None) => Words::default(),
            };
            let name = if config.select.is_some() { "selections" } else { "stretches between pauses" };
            self.word_length(&words, config.bits, name);
        }
        if self.findings.len() == said && stated.faulty > 0 {
            self.rare_faults(&stated);
        }
        if self.findings.len() == said && stated.frames == 0 && self.edges(0) >= 4 {
            self.unread(&stated, "check the select, the lines and the word length");
        }
    }

    /// What is wrong with the select line; whether that is enough.
    fn spi_select(&mut self, config: SpiConfig, active: Level) -> bool {
        let name = self.name(1);
        if self.edges(1) == 0 {
            if self.level_at(self.line(1), Tick(0)) == active {
                let what = format!("{name} is {active} all the time: where a word begins is not known");
                self.find("select", Sureness::Possible, what, "wire the select line, or use 'gap' instead");
                return false;
            }
            let what = format!(
                "{name} never goes {active}, while {} has {} edges: nothing is selected",
                self.name(0),
                self.edges(0)
            );
            let remedy =
                "check the lead and which select belongs to this part; or use 'gap' instead of 'select'";
            self.find("select", Sureness::Certain, what, remedy);
            return true;
        }
        // Nearly all clock edges while the line is not at its active level.
        let select = self.capture.trace(self.line(1));
        let (mut inside, mut outside) = (0u64, 0u64);
        for edge in self.ticks(self.line(0)).into_iter().take(5000) {
            // The select may move with the last edge.
            match select.level_at(Tick(edge.saturating_sub(1))) == active {
                true => inside += 1,
                false => outside += 1,
            }
        }
        if outside >= 16 && outside > 9 * inside {
            let other = active.opposite();
            let turned = Protocol::Spi(SpiConfig { select: Some(other), ..config });
            let seen = self.look(&turned).unwrap_or_default();
            let what = format!("the clock runs while {name} is {other}, hardly ever while it is {active}");
            if seen.is_bad() {
                let remedy =
                    format!("check which select belongs to this part, or select-active = \"{other}\"");
                self.find("select", Sureness::Likely, what, remedy);
            } else {
                self.find("select-active", Sureness::Certain, what, format!("select-active = \"{other}\""));
            }
            return true;
        }
        false
    }

    /// Whether the clock rests high: at the beginning of selections, or most of the time. `None` where it
    /// does not show.
    fn rests_high(&self, config: SpiConfig) -> Option<bool> {
        let clock = self.capture.trace(self.line(0));
        let Some(active) = config.select else {
            return Some(rests_at(self.capture, self.line(0), self.range.clone(), Level::High));
        };
        // A selection of another part may leave the clock anywhere, one of none does not.
        let selects =
            self.capture.trace(self.line(1)).edges(self.range.clone()).filter(|edge| edge.to == active);
        let levels: Vec<Level> = selects
            .take(MOST_SELECTIONS)
            .filter(|edge| {
                // The clock may move with the select only by mistake; then it tells nothing.
                let before = clock.level_at(Tick(edge.tick.0.saturating_sub(1)));
                before == clock.level_at(edge.tick)
            })
            .map(|edge| clock.level_at(edge.tick))
            .collect();
        let high = levels.iter().filter(|level| **level == Level::High).count();
        match () {
            () if levels.is_empty() => None,
            () if high * 10 >= levels.len() * 9 => Some(true),
            () if high * 10 <= levels.len() => Some(false),
            () => None,
        }
    }

    /// The mode that the signal shows, against the one that is stated.
    fn spi_mode(&mut self, config: SpiConfig) {
        let clock = self.line(0);
        let select = config.select.map(|level| (self.capture.trace(self.line(1)), level));
        let selected = |tick: Tick| select.is_none_or(|(trace, level)| trace.level_at(tick) == level);
        let idles_high = self.rests_high(config);
        let first = 1 + usize::from(config.select.is_some());
        let data = first..self.bus.lines().len();
        let after_rising: Vec<bool> = data
            .filter_map(|place| {
                sides(self.capture, clock, self.line(place), self.range.clone(), selected).after_rising()
            })
            .collect();
        let shifts = match after_rising.as_slice() {
            [first, rest @ ..] if rest.iter().all(|side| side == first) => Some(*first),
            _ => None,
        };
        let stated_high = config.mode & 2 != 0;
        let takes_rising = matches!(config.mode, 0 | 3);
        let idle = idles_high.unwrap_or(stated_high);
        // Where data does not tell, the phase is as stated: what contradicts it is the level at rest.
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
        let what = said.join("; ");
        if shifts.is_none() {
            let (one, other) = if idle { (2, 3) } else { (0, 1) };
            let what = format!("{what}; data changes too seldom to tell more");
            let remedy = format!("mode = {one}, or mode = {other}");
            return self.find("mode", Sureness::Likely, what, remedy);
        }
        // Data is taken with the same edge either way when only the rest level differs.
        let sureness = if rising != takes_rising { Sureness::Certain } else { Sureness::Likely };
        self.find("mode", sureness, what, format!("mode = {mode}"));
    }
}
