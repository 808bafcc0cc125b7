//! Buses of one line: one-wire parts, and pulses of two widths.

use super::finding::Sureness;
use super::patient::Patient;
use crate::decode::{Protocol, PulsesConfig};
use crate::line::Level;
use crate::quantity::{Rational, Time};

impl Patient<'_> {
    pub(super) fn one_wire(&mut self) {
        let Some(stated) = self.look(self.bus.protocol()) else { return };
        let absent = stated.count("no-presence");
        let resets = stated.of_kind("reset");
        if stated.frames == 0 {
            let what = "there is no reset of 480 us or more: nothing is read before one";
            self.find(
                "start",
                Sureness::Likely,
                what,
                "record from a reset on, or check that this is the line",
            );
        } else if absent > 0 && absent >= resets.max(1) {
            let what = format!("no part says that it is there, after {absent} resets");
            let remedy = "check that a part is fitted, its ground, and the pull-up of 4.7 kOhm or less";
            self.find("no-answer", Sureness::Likely, what, remedy);
        } else if stated.faulty > 0 {
            self.rare_faults(&stated);
        }
    }

    pub(super) fn pulses(&mut self, config: PulsesConfig) {
        let active = if config.inverted { Level::Low } else { Level::High };
        let edges: Vec<_> = self.capture.trace(self.line(0)).edges(self.range.clone()).take(50_000).collect();
        let base = self.capture.base();
        let time = |ticks: u64| base.length_of(i64::try_from(ticks).unwrap_or(i64::MAX));
        let said = |time: Time| time.rounded(base.tick());
        let (mut widths, mut rests) = (Vec::new(), Vec::new());
        for pair in edges.windows(2) {
            let length = pair[1].tick.0 - pair[0].tick.0;
            if pair[0].to == active { widths.push(length) } else { rests.push(length) }
        }
        widths.sort_unstable();
        // A few may be glitches.
        let few = widths.len() / 50;
        let widths = &widths[few..widths.len() - few];
        let Some((shortest, longest)) = widths.first().copied().zip(widths.last().copied()) else { return };
        if self.samples(shortest as f64 * 2.0, "shortest pulse and its rest") || self.pulses_inverted(config)
        {
            return;
        }
        // The two widths lie on both sides of the widest gap between widths.
        let split = widths.windows(2).max_by_key(|pair| pair[1] - pair[0]).filter(|pair| {
            // Within one width, values differ by jitter and a tick.
            pair[1] - pair[0] > 2 + pair[0] / 5
        });
        match split {
            Some(&[zero, one]) if widths.len() >= 16 => {
                let threshold = config.threshold;
                if threshold < time(zero) || threshold >= time(one) {
                    let middle = time((zero + one) / 2);
                    let what = format!(
                        "pulses are up to {} and from {} long; a threshold of {threshold} does not part them",
                        said(time(zero)),
                        said(time(one))
                    );
                    let remedy = format!("threshold = \"{}\"", said(middle));
                    return self.find("threshold", Sureness::Certain, what, remedy);
                }
            }
            _ if widths.len() >= 64 => {
                let what = format!(
                    "all pulses are {} to {} long: they carry nothing, or end at another level",
                    said(time(shortest)),
                    said(time(longest))
                );
                let other = !config.inverted;
                self.find(
                    "threshold",
                    Sureness::Possible,
                    what,
                    format!("look at the line; perhaps inverted = {other}"),
                );
            }
            _ => {}
        }
        rests.sort_unstable();
        let longest = rests.last().copied().map_or(Time::ZERO, time);
        if widths.len() as u64 > 4 * u64::from(config.bits) && longest <= config.rest {
            let what = format!("the line never rests for more than {}: no chain ends", said(longest));
            let remedy = format!("rest = \"…\", below {}, or record until the chain ends", said(longest));
            self.find("rest", Sureness::Likely, what, remedy);
        }
        let Some(stated) = self.look(&Protocol::Pulses(config)) else { return };
        let truncated = stated.count("truncated");
        if truncated == 0 {
            return;
        }
        let said = self.findings.len();
        let words = self.words_of_pulses(config);
        self.word_length(&words, config.bits, "chains");
        if self.findings.len() == said {
            let what = format!("{truncated} chains end within a word of {} bits", config.bits);
            let remedy = "check 'bits' and 'rest'; the first chain may be one that the record begins in";
            self.find("word-length", Sureness::Possible, what, remedy);
        }
    }

    /// Whether the line rests at the level that is said to be that of pulses.
    fn pulses_inverted(&mut self, config: PulsesConfig) -> bool {
        let active = if config.inverted { Level::Low } else { Level::High };
        let ticks = self.ticks(self.line(0));
        let rest = self.capture.base().ticks_in(config.rest).map_or(0, Rational::floor) as u64;
        let rests = ticks.windows(2).filter(|pair| pair[1] - pair[0] > rest);
        let at: Vec<Level> =
            rests.map(|pair| self.level_at(self.line(0), crate::time::Tick(pair[0]))).collect();
        let first = self.level_at(self.line(0), self.range.start);
        let (rests, all) = (at.iter().filter(|level| **level == active).count(), at.len());
        if first != active || rests < all || (all == 0 && ticks.len() < 16) {
            return false;
        }
        let (level, other) = (active, !config.inverted);
        let what = format!("{} rests {level}, which is said to be the level of pulses", self.name(0));
        self.find("inverted", Sureness::Likely, what, format!("inverted = {other}"));
        true
    }
}
