//! How many bits come at a time, against the length of words.

use std::collections::BTreeMap;

use super::finding::Sureness;
use super::patient::Patient;
use crate::decode::PulsesConfig;
use crate::line::Level;
use crate::quantity::{Rational, Time};
use crate::time::Tick;

/// Stretches that are looked at one by one.
const MOST: usize = 2000;
/// Word lengths, the most usual first where several fit.
const USUAL: [u64; 6] = [32, 24, 16, 8, 12, 10];

/// How often so many bits came at a time.
#[derive(Clone, Debug, Default)]
pub(super) struct Words(BTreeMap<u64, u64>);

impl Words {
    fn add(&mut self, bits: u64) {
        if bits > 0 {
            *self.0.entry(bits).or_default() += 1;
        }
    }
}

impl Patient<'_> {
    /// Bits of each selection.
    pub(super) fn words_of_selections(&self, active: Level) -> Words {
        let (select, clock) = (self.capture.trace(self.line(1)), self.capture.trace(self.line(0)));
        let mut words = Words::default();
        let mut begun = None;
        for edge in select.edges(self.range.clone()).take(MOST) {
            if edge.to == active {
                begun = Some(edge.tick);
            } else if let Some(begin) = begun.take() {
                words.add(clock.count(begin..edge.tick) / 2);
            }
        }
        words
    }

    /// Bits between rests of the clock that are longer than a gap; the first and the last stretch may be cut.
    pub(super) fn words_of_bursts(&self, gap: Time) -> Words {
        let gap = self.capture.base().ticks_in(gap).map_or(0, Rational::floor) as u64;
        let mut words = Words::default();
        let mut count = 0;
        let ticks = self.ticks(self.line(0));
        for pair in ticks.windows(2) {
            count += 1;
            if pair[1] - pair[0] > gap {
                words.add(count / 2);
                count = 0;
            }
        }
        words.add(u64::div_ceil(count, 2));
        words
    }

    /// Pulses between rests of their line.
    pub(super) fn words_of_pulses(&self, config: PulsesConfig) -> Words {
        self.words_of_bursts(config.rest)
    }

    /// Bits between two changes of a line, in both directions alike.
    pub(super) fn words_between(&self, place: usize) -> Words {
        let clock = self.capture.trace(self.line(0));
        let mut words = Words::default();
        for pair in self.ticks(self.line(place)).windows(2).take(MOST) {
            words.add(clock.count(Tick(pair[0])..Tick(pair[1])).div_ceil(2));
        }
        words
    }

    /// Says when stretches hold no whole words.
    pub(super) fn word_length(&mut self, words: &Words, stated: u32, stretches: &str) {
        let counts = &words.0;
        let all: u64 = counts.values().sum();
        let odd = counts.iter().filter(|(bits, _)| !bits.is_multiple_of(u64::from(stated)));
        let odd: u64 = odd.map(|(_, times)| times).sum();
        let Some((common, times)) = counts.iter().max_by_key(|(_, times)| **times) else { return };
        if all < 3 || odd * 4 < all {
            return;
        }
        let what =
            format!("{times} of {all} {stretches} hold {common} bits, which are no whole words of {stated}");
        // A few that are cut, or were never clocked whole, do not count.
        let fit = |bits: &u64| {
            let fitting: u64 =
                counts.iter().filter(|(count, _)| *count % bits == 0).map(|(_, times)| times).sum();
            fitting * 10 >= all * 9
        };
        let sureness = if odd == all { Sureness::Likely } else { Sureness::Possible };
        // Nothing has words of one, two or three bits.
        let usual = USUAL.into_iter().chain((4..=64).rev()).find(fit);
        let remedy = match usual {
            None => {
                "no word length fits: parts with other words share the select, or clocks are lost or added"
                    .into()
            }
            Some(bits) => format!("bits = {bits}, or another number that divides {common}"),
        };
        self.find("word-length", sureness, what, remedy);
    }
}
