//! The controller area network, and the local interconnect network.

use super::sight::{look, stretch};
use super::timing::{bit_length, bit_rate, rests_at};
use super::{Patient, Sureness};
use crate::decode::{CanConfig, LinConfig, Protocol};
use crate::line::Level;

/// Bit rates that are in use.
const USUAL: [i64; 12] =
    [10_000, 20_000, 33_333, 50_000, 83_333, 100_000, 125_000, 200_000, 250_000, 500_000, 800_000, 1_000_000];

impl Patient<'_> {
    pub(super) fn lin(&mut self, config: LinConfig) {
        let range = stretch(self.capture, self.bus.lines());
        let stated_bit = self.capture.base().rate().to_f64() / config.bit_rate.to_f64();
        let measured = bit_length(self.capture, self.line(0), range.clone());
        self.samples(measured.unwrap_or(stated_bit).min(stated_bit), "bit");
        let sight = |config| look(self.capture, self.bus.lines(), range.clone(), &Protocol::Lin(config));
        let Some(stated) = sight(config) else { return };
        let unanswered = stated.count("no-answer");
        if stated.frames > 0 && stated.faulty == unanswered {
            if unanswered >= 2 && stated.whole == 0 {
                let what = format!("nobody answers any of {unanswered} headers");
                self.find(
                    "no-answer",
                    Sureness::Likely,
                    what,
                    "check that the nodes have power, and the identifiers",
                );
            }
            return;
        }
        let rates = [1200, 2400, 4800, 9600, 10_400, 19_200, 20_000];
        let rate = measured.map(|bit| bit_rate(self.capture, bit, &rates));
        let others = rate.map(|bit_rate| LinConfig { bit_rate, ..config }).into_iter();
        let mut others = others.chain([LinConfig { classic: !config.classic, ..config }]);
        let clean =
            others.find(|other| *other != config && sight(*other).is_some_and(|seen| seen.is_clean()));
        match clean {
            Some(other) if other.classic != config.classic => {
                let word = if other.classic { "classic" } else { "enhanced" };
                let what = format!("with the {word} checksum, all frames are right");
                self.find("checksum", Sureness::Certain, what, format!("checksum = \"{word}\""));
            }
            Some(other) => {
                let what =
                    format!("at {} all frames are right, the setup says {}", other.bit_rate, config.bit_rate);
                self.find("bit-rate", Sureness::Certain, what, format!("bit-rate = \"{}\"", other.bit_rate));
            }
            None if stated.is_bad() => {
                self.unread(&stated, "check the bit rate, and that the line rests high");
            }
            None => self.rare_faults(&stated),
        }
    }

    pub(super) fn can(&mut self, config: CanConfig) {
        let range = stretch(self.capture, self.bus.lines());
        let ticks_per_second = self.capture.base().rate().to_f64();
        let stated_bit = ticks_per_second / config.bit_rate.to_f64();
        let measured = bit_length(self.capture, self.line(0), range.clone());
        self.samples(measured.unwrap_or(stated_bit).min(stated_bit), "bit");
        let sight = |config| look(self.capture, self.bus.lines(), range.clone(), &Protocol::Can(config));
        let Some(stated) = sight(config) else { return };
        let rests_high = rests_at(self.capture, self.line(0), range.clone(), Level::High);
        if config.inverted == rests_high {
            let (rests, other) = if rests_high { ("high", false) } else { ("low", true) };
            let what = format!("{} rests {rests}, the setup says that this is dominant", self.name(0));
            return self.find("inverted", Sureness::Likely, what, format!("inverted = {other}"));
        }
        let alone = stated.count("no-ack");
        let read = stated.whole + alone;
        if read == 0 || (stated.faulty - alone.min(stated.faulty)) * 5 > stated.frames {
            let rate = measured.map(|bit| bit_rate(self.capture, bit, &USUAL));
            if let Some(bit_rate) = rate.filter(|rate| *rate != config.bit_rate) {
                let seen = sight(CanConfig { bit_rate, ..config }).unwrap_or_default();
                let others = seen.faulty - seen.count("no-ack").min(seen.faulty);
                if seen.frames >= 2 && others == 0 {
                    let bit = measured.unwrap_or(stated_bit) / ticks_per_second * 1e6;
                    let what = format!(
                        "a bit lasts {bit:.3} us: {bit_rate}, the setup says {}; so {} frames are read",
                        config.bit_rate, seen.frames
                    );
                    let sureness = if seen.frames >= 5 { Sureness::Certain } else { Sureness::Likely };
                    return self.find("bit-rate", sureness, what, format!("bit-rate = \"{bit_rate}\""));
                }
            }
            let remedy = "check the bit rate, the sample point, the termination, and that this is the line";
            return self.unread(&stated, remedy);
        }
        if alone >= 2 && alone == stated.frames {
            let what = format!("no frame is acknowledged, of {alone}: the sender is alone on the bus");
            let remedy = "connect another node, give it the same bit rate, or look at its transmit line";
            self.find("no-answer", Sureness::Likely, what, remedy);
        } else if stated.faulty > 0 {
            self.rare_faults(&stated);
        }
    }
}
