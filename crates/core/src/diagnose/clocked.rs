//! Other buses with a clock: plain clock and data, sound, management and debug.

use super::finding::Sureness;
use super::patient::Patient;
use super::timing::sides;
use crate::decode::{ClockedConfig, I2sConfig, Protocol};

impl Patient<'_> {
    pub(super) fn clocked(&mut self, config: ClockedConfig) {
        if self.taken_while_changing(1, config.rising) {
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

    /// Says when data changes with the edge that takes it.
    pub(super) fn taken_while_changing(&mut self, place: usize, rising: bool) -> bool {
        let sides = sides(self.capture, self.line(0), self.line(place), self.range.clone(), |_| true);
        if sides.after_rising() != Some(rising) {
            return false;
        }
        let (edge, other) = if rising { ("rising", "falls") } else { ("falling", "rises") };
        let what = format!("data changes with the {edge} edge of the clock, which takes it");
        self.find("edge", Sureness::Certain, what, format!("edge = \"{other}\""));
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
        let answered = stated.of_kind("read") + stated.of_kind("write") + stated.of_kind("read-next");
        if silent >= 2 && silent == stated.faulty {
            let answered = match self.bus.protocol() {
                // Nobody answers a write of a transceiver.
                Protocol::Mdio => {
                    stated.of_kind("read") + stated.of_kind("read-next") - silent.min(stated.of_kind("read"))
                }
                _ => answered - silent,
            };
            if answered == 0 {
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
