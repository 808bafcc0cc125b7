//! The controller area network.

use super::finding::Sureness;
use super::patient::Patient;
use super::timing::{bit_length, bit_rate, longest_rest};
use crate::decode::{CanConfig, Protocol};
use crate::line::Level;

/// Bit rates that are in use.
const USUAL: [i64; 12] =
    [10_000, 20_000, 33_333, 50_000, 83_333, 100_000, 125_000, 200_000, 250_000, 500_000, 800_000, 1_000_000];

impl Patient<'_> {
    pub(super) fn can(&mut self, config: CanConfig) {
        let ticks_per_second = self.capture.base().rate().to_f64();
        let stated_bit = ticks_per_second / config.bit_rate.to_f64();
        let measured = bit_length(self.capture, self.line(0), self.range.clone());
        if self.samples(measured.unwrap_or(stated_bit), "bit") {
            return;
        }
        let stated = self.look(&Protocol::Can(config)).unwrap_or_default();
        let rests_high = longest_rest(self.capture, self.line(0), self.range.clone()) == Level::High;
        if config.inverted == rests_high {
            let (rests, other) = if rests_high { ("high", false) } else { ("low", true) };
            let what = format!("{} rests {rests}, the setup says that this is dominant", self.name(0));
            return self.find("inverted", Sureness::Likely, what, format!("inverted = {other}"));
        }
        let alone = stated.count("no-ack");
        // What follows a frame that nobody acknowledges are error flags.
        let other_faults = stated.faulty.saturating_sub(alone).saturating_sub(stated.count("error"));
        if alone >= 2 && stated.of_kind("data") <= alone && other_faults * 5 <= alone {
            let what = format!("no frame is acknowledged, of {alone}: the sender is alone on the bus");
            let remedy = "connect another node, give it the same bit rate, or look at its transmit line";
            return self.find("no-answer", Sureness::Likely, what, remedy);
        }
        if stated.whole + alone > 0 && stated.faulty.saturating_sub(alone) * 5 <= stated.frames {
            if stated.faulty > 0 {
                self.rare_faults(&stated);
            }
            return;
        }
        let rates =
            [1.0, 2.0].into_iter().filter_map(|bits| Some(bit_rate(self.capture, measured? / bits, &USUAL)));
        for bit_rate in rates.filter(|rate| *rate != config.bit_rate) {
            let seen = self.look(&Protocol::Can(CanConfig { bit_rate, ..config })).unwrap_or_default();
            let others = seen.faulty.saturating_sub(seen.count("no-ack")).saturating_sub(seen.count("error"));
            if seen.frames >= 2 && others == 0 {
                let bit = measured.unwrap_or(stated_bit) / ticks_per_second * 1e6;
                let what = format!(
                    "a bit lasts {bit:.3} us: {bit_rate}, the setup says {}; so {} frames are read",
                    config.bit_rate, seen.frames
                );
                // Each of them has a checksum.
                let sureness = if seen.whole >= 3 { Sureness::Certain } else { Sureness::Likely };
                return self.find("bit-rate", sureness, what, format!("bit-rate = \"{bit_rate}\""));
            }
        }
        let remedy = "check the bit rate, the sample point, the termination, and that this is the line";
        self.unread(&stated, remedy);
    }
}
