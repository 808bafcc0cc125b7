//! The local interconnect network.

use super::finding::Sureness;
use super::patient::Patient;
use super::timing::{bit_length, bit_rate};
use crate::decode::{LinConfig, Protocol};

/// Bit rates that are in use.
const USUAL: [i64; 7] = [1200, 2400, 4800, 9600, 10_400, 19_200, 20_000];

impl Patient<'_> {
    pub(super) fn lin(&mut self, config: LinConfig) {
        let stated_bit = self.capture.base().rate().to_f64() / config.bit_rate.to_f64();
        let measured = bit_length(self.capture, self.line(0), self.range.clone());
        if self.samples(measured.unwrap_or(stated_bit), "bit") {
            return;
        }
        let stated = self.look(&Protocol::Lin(config)).unwrap_or_default();
        let is_off = measured.is_some_and(|bit| (stated_bit / bit - 1.0).abs() > 0.1);
        let unanswered = stated.count("no-answer");
        if !is_off && stated.frames > 0 && stated.faulty == unanswered {
            if unanswered >= 2 && stated.whole == 0 {
                let what = format!("nobody answers any of {unanswered} headers");
                let remedy = "check that the nodes have power, and the identifiers";
                self.find("no-answer", Sureness::Likely, what, remedy);
            }
            return;
        }
        let rate = measured.map(|bit| bit_rate(self.capture, bit, &USUAL));
        let rated = rate.map(|bit_rate| LinConfig { bit_rate, ..config });
        let turned = |config: LinConfig| LinConfig { classic: !config.classic, ..config };
        let others = [rated, Some(turned(config)), rated.map(turned)].into_iter().flatten();
        let clean = others.filter(|other| *other != config).find_map(|other| {
            let seen = self.look(&Protocol::Lin(other))?;
            // Headers that nobody answers are headers all the same.
            let fits = seen.frames >= 1 && seen.faulty == seen.count("no-answer");
            (fits && (!is_off || other.bit_rate != config.bit_rate)).then_some((other, seen))
        });
        match clean {
            Some((other, seen)) if other.bit_rate == config.bit_rate => {
                let word = if other.classic { "classic" } else { "enhanced" };
                let what = format!("with the {word} checksum, all frames are right");
                let sureness = if seen.whole >= 3 { Sureness::Certain } else { Sureness::Likely };
                self.find("checksum", sureness, what, format!("checksum = \"{word}\""));
            }
            Some((other, seen)) => {
                let what =
                    format!("at {} all frames are right, the setup says {}", other.bit_rate, config.bit_rate);
                let mut remedy = format!("bit-rate = \"{}\"", other.bit_rate);
                if other.classic != config.classic {
                    remedy.push_str(&format!(
                        ", checksum = \"{}\"",
                        if other.classic { "classic" } else { "enhanced" }
                    ));
                }
                let sureness = if seen.whole >= 3 { Sureness::Certain } else { Sureness::Likely };
                self.find("bit-rate", sureness, what, remedy);
            }
            None if stated.is_bad() => {
                self.unread(&stated, "check the bit rate, and that the line rests high");
            }
            None => self.rare_faults(&stated),
        }
    }
}
