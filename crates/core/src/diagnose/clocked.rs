//! Other buses with a clock: plain clock and data, sound, management and debug.

use super::finding::Sureness;
use super::patient::Patient;
use super::timing::sides;
use crate::decode::{ClockedConfig, I2sConfig, Protocol};

impl Patient<'_> {
    pub(super) fn clocked(&mut self, config: ClockedConfig) {
        if self.taken_while_changing(config.rising, Sureness::Certain) {
            return;
        }
        let Some(stated) = self.look(&Protocol::Clocked(config)) else { return };
        if stated.faulty == 0 {
            if stated.frames == 0 && self.edges(0) >= 4 {
                self.unread(&stated, "check the word length, and what tells where a word begins");
            }
            return;
        }
        let said = self.findings.len();
        if stated.count("truncated") > 0
            && let Some(gap) = config.gap
            && config.start.is_none()
        {
            let words = self.words_of_bursts(gap);
            self.word_length(&words, config.bits, "stretches between pauses");
        }
        if self.findings.len() > said {
            return;
        }
        if stated.is_bad() {
            let remedy = "check the word length, start, parity and stop";
            return self.unread(&stated, remedy);
        }
        self.rare_faults(&stated);
    }

    /// Says when the data lines that change do so with the edge that takes them.
    pub(super) fn taken_while_changing(&mut self, rising: bool, sureness: Sureness) -> bool {
        let side = |place: usize| {
            sides(self.capture, self.line(0), self.line(place), self.range.clone(), |_| true).after_rising()
        };
        let told: Vec<bool> = self.data_places().into_iter().filter_map(side).collect();
        let with = told.iter().filter(|after| **after == rising).count();
        if told.is_empty() || with * 10 < told.len() * 9 {
            return false;
        }
        let (edge, other) = if rising { ("rising", "falls") } else { ("falling", "rises") };
        let what = format!("data changes with the {edge} edge of {}, which takes it", self.name(0));
        self.find("edge", sureness, what, format!("edge = \"{other}\""));
        true
    }

    pub(super) fn sound(&mut self, config: I2sConfig) {
        let Some(stated) = self.look(&Protocol::I2s(config)) else { return };
        if stated.count("truncated") * 2 > stated.frames {
            let words = self.words_between(1);
            let said = self.findings.len();
            self.word_length(&words, config.bits, "halves of the word select");
            if self.findings.len() > said {
                return;
            }
        }
        self.faults_of(&stated);
    }

    /// Management and debug: who is asked and does not answer.
    pub(super) fn asked(&mut self) {
        let Some(stated) = self.look(self.bus.protocol()) else { return };
        let silent = stated.count("no-answer");
        // Nobody answers a write of a transceiver.
        let writes = if *self.bus.protocol() == Protocol::Mdio { 0 } else { stated.of_kind("write") };
        let asked = stated.of_kind("read") + stated.of_kind("read-next") + writes;
        if silent >= 2 && silent == stated.faulty && silent == asked {
            let what = format!("nobody answers any of {silent} requests");
            let remedy = match self.bus.protocol() {
                Protocol::Mdio => {
                    "check the transceiver's address straps, its power, reset and clock, and the pull-up"
                }
                _ => {
                    "check the target's power and reset, that it is switched to this port, and the data line"
                }
            };
            return self.find("no-answer", Sureness::Likely, what, remedy);
        }
        self.faults_of(&stated);
    }

    /// Any other bus: lines that are read badly as a whole, and faults that come now and then.
    pub(super) fn plain(&mut self) {
        if let Some(stated) = self.look(self.bus.protocol()) {
            self.faults_of(&stated);
        }
    }

    pub(super) fn faults_of(&mut self, stated: &super::sight::Sight) {
        if stated.frames == 0 || (stated.is_bad() && stated.faulty > 0) {
            self.unread(stated, "check that the lines are not exchanged, and the settings of the bus");
        } else if stated.faulty > 0 {
            self.rare_faults(stated);
        }
    }
}
