//! Asynchronous serial.

use super::finding::Sureness;
use super::patient::Patient;
use super::sight::Sight;
use super::timing::{bit_length, bit_rate, rests_at, shortest};
use crate::decode::{Parity, Protocol, UartConfig};
use crate::line::{BitOrder, Level};
use crate::time::Tick;

/// Bit rates that are in use.
pub(crate) const USUAL: [i64; 23] = [
    300, 600, 1200, 2400, 4800, 9600, 14_400, 19_200, 28_800, 31_250, 38_400, 57_600, 76_800, 100_000,
    115_200, 230_400, 250_000, 460_800, 500_000, 921_600, 1_000_000, 2_000_000, 3_000_000,
];
/// Edges after the first at which a stream may be entered.
const ENTRIES: u64 = 24;
/// How far a bit may be off what is stated without a word, and how far a sender's clock may be.
const CLOSE: f64 = 0.03;
const SENDERS: f64 = 0.12;
/// Different values from which on a relation between their bits is none of chance.
const VALUES: usize = 16;

impl Patient<'_> {
    pub(super) fn uart(&mut self, config: UartConfig) {
        let ticks_per_second = self.capture.base().rate().to_f64();
        let Some(stated_rate) = config.bit_rate else {
            let what =
                "the bit rate cannot be measured: there are too few edges, or bits of different lengths";
            return self.find(
                "bit-rate",
                Sureness::Certain,
                what,
                "state the bit rate, or record more of it",
            );
        };
        let stated_bit = ticks_per_second / stated_rate.to_f64();
        let measured = bit_length(self.capture, self.line(0), self.range.clone());
        let stated = self.look(&Protocol::Uart(config)).unwrap_or_default();
        // What is measured may be a part of a bit where one byte comes again and again.
        let bit = measured.filter(|_| stated.whole == 0 || stated.faulty > 0).unwrap_or(stated_bit);
        if self.samples(bit, "bit") {
            return;
        }
        let off = measured.map(|bit| stated_bit / bit).filter(|ratio| (ratio - 1.0).abs() > CLOSE);
        // Pulses that are shorter than a bit cannot be, whatever decoding makes of them. What is read as
        // breaks may be bits of a slower sender.
        let shortest = shortest(self.capture, self.line(0), self.range.clone()).unwrap_or(0) as f64;
        let too_short = off.is_some_and(|ratio| ratio > 1.2) && shortest * 1.2 < stated_bit;
        let breaks = off.is_some_and(|ratio| ratio < 0.6) && stated.breaks * 20 >= stated.frames;
        if stated.faulty == 0 && stated.whole > 0 && !too_short && !breaks {
            self.wandering(config, stated_bit, measured, stated.frames);
            return self.uart_values(config, &stated);
        }
        if let Some((change, other)) = self.other_uart(config, measured) {
            let clean = self.look(&Protocol::Uart(other)).unwrap_or_default();
            let sureness = if clean.whole >= 12 { Sureness::Certain } else { Sureness::Likely };
            let seen = format!("without a fault in {} bytes", clean.frames);
            let what = match (change, other.bit_rate) {
                ("bit-rate", Some(rate)) => {
                    let bit = measured.unwrap_or(stated_bit) / ticks_per_second * 1e6;
                    format!(
                        "a bit lasts {bit:.3} us: {rate}, the setup says {stated_rate}; so it is read {seen}"
                    )
                }
                ("inverted", _) => {
                    let rests = if other.inverted { "low" } else { "high" };
                    format!("{} rests {rests}; inverted, it is read {seen}", self.name(0))
                }
                _ => {
                    format!(
                        "with {} data bits and parity {} it is read {seen}",
                        other.data_bits, other.parity
                    )
                }
            };
            self.find(change, sureness, what, changes(config, other));
            return;
        }
        if let Some(ratio) = off.filter(|ratio| (ratio - 1.0).abs() < SENDERS) {
            return self.sender_off(ratio);
        }
        self.uart_start(config, &stated);
    }

    /// Says when bytes are read without a fault, but from a sender whose bits are not as long as stated.
    fn wandering(&mut self, config: UartConfig, stated_bit: f64, measured: Option<f64>, frames: u64) {
        // The same byte again and again need not have a stretch of a single bit.
        let single = measured.map(|bit| stated_bit * (bit / stated_bit).round().max(1.0) / bit);
        let off = single.filter(|ratio| (CLOSE..SENDERS).contains(&(ratio - 1.0).abs()));
        let lows = self.lows(config, stated_bit);
        // How many bits a long stretch has is not known where they are off.
        let short: Vec<f64> = lows.iter().copied().filter(|bits| *bits < 4.5).collect();
        let whole: f64 = short.iter().map(|bits| bits.round().max(1.0)).sum();
        let is_off = || match short.is_empty() {
            true => measured.is_some_and(|bit| bit < 1.5 * stated_bit),
            false => (short.iter().sum::<f64>() / whole - 1.0).abs() > CLOSE,
        };
        if let Some(ratio) = off.filter(|_| frames >= 3 && is_off()) {
            self.sender_off(ratio);
        } else if let Some(bits) = low_for_parts(lows, stated_bit) {
            let level = if config.inverted { Level::High } else { Level::Low };
            let what = format!(
                "{} is {level} for {bits:.1} bits again and again, not for whole bits: what is read may be wrong",
                self.name(0)
            );
            self.find("bit-rate", Sureness::Possible, what, "check the clock that the sender divides");
        }
    }

    /// The stretches, in bits, at the level of a start bit: they are whole bits, whatever rests lie between.
    fn lows(&self, config: UartConfig, bit: f64) -> Vec<f64> {
        let active = if config.inverted { Level::High } else { Level::Low };
        let ticks = self.ticks(self.line(0));
        let first = usize::from(self.level_at(self.line(0), self.range.start) == active);
        let pairs = ticks.get(first..).unwrap_or_default().chunks_exact(2);
        let lows = pairs.map(|pair| (pair[1] - pair[0]) as f64 / bit);
        lows.filter(|bits| *bits < 10.5).collect()
    }

    fn sender_off(&mut self, ratio: f64) {
        let what = format!(
            "bits are {:.1} % {} than stated: what is read may be wrong",
            (ratio - 1.0).abs() * 100.0,
            if ratio > 1.0 { "shorter" } else { "longer" }
        );
        self.find("bit-rate", Sureness::Possible, what, "check the clock that the sender divides");
    }

    /// Settings under which nothing is wrong, the smallest change first.
    fn other_uart(&self, config: UartConfig, measured: Option<f64>) -> Option<(&'static str, UartConfig)> {
        let rests_high = rests_at(self.capture, self.line(0), self.range.clone(), Level::High);
        let turned = (config.inverted == rests_high)
            .then_some(("inverted", UartConfig { inverted: !config.inverted, ..config }));
        // What is measured may be two or three bits, where no single one was sent.
        let rates = [1.0, 2.0, 3.0].into_iter().filter_map(|bits| {
            let rate = bit_rate(self.capture, measured? / bits, &USUAL);
            let close = config.bit_rate.is_some_and(|own| (own.to_f64() / rate.to_f64() - 1.0).abs() < CLOSE);
            (!close).then_some(UartConfig { bit_rate: Some(rate), ..config })
        });
        let rates: Vec<UartConfig> = rates.collect();
        let faster = rates.iter().map(|config| ("bit-rate", *config));
        let both = rates.iter().filter(|_| turned.is_some());
        let both = both.map(|faster| ("bit-rate", UartConfig { inverted: !config.inverted, ..*faster }));
        let found = rates.first().copied().unwrap_or(config);
        let formats = [
            (8, Parity::None),
            (8, Parity::Even),
            (8, Parity::Odd),
            (7, Parity::Even),
            (7, Parity::Odd),
            (7, Parity::None),
            (9, Parity::None),
        ];
        let with = |kind: &'static str, config: UartConfig| {
            let formats = formats.into_iter();
            formats.map(move |(data_bits, parity)| (kind, UartConfig { data_bits, parity, ..config }))
        };
        let formats = with("format", config).filter(|(_, other)| *other != config);
        let others = faster.chain(turned).chain(formats).chain(both);
        let mut others = others.chain(with("bit-rate", found));
        others.find(|(_, other)| {
            let seen = self.look(&Protocol::Uart(*other));
            seen.is_some_and(|seen| seen.is_clean() && seen.explains_all())
        })
    }

    /// No other settings help: does it help to begin later?
    fn uart_start(&mut self, config: UartConfig, stated: &Sight) {
        let trace = self.capture.trace(self.line(0));
        let protocol = Protocol::Uart(config);
        let range = self.range.clone();
        let entry = (0..ENTRIES).filter_map(|number| trace.nth_edge(number)).find(|edge| {
            // Just before the edge, so that it may be a start bit.
            let from = Tick(edge.tick.0.saturating_sub(1));
            let seen = super::sight::look(self.capture, self.bus.lines(), from..range.end, &protocol);
            seen.is_some_and(|seen| seen.is_clean() && seen.frames * 2 >= stated.frames)
        });
        if let Some(edge) = entry {
            let at = self.time_of(edge.tick);
            let what = format!(
                "the record begins within a byte, and no rest follows that tells where one begins; from {at} on \
                 it is read without a fault"
            );
            let remedy = format!("read it with --from '{at}', or trigger on a rest");
            return self.find_at(Some(edge.tick), "start", Sureness::Likely, what, remedy);
        }
        if stated.clean_since >= 10 && stated.faulty * 20 <= stated.frames {
            return self.rare_faults(stated);
        }
        let remedy = "look at the threshold, at the ground lead, and whether this is a line of this kind";
        self.unread(stated, remedy);
    }

    /// Bytes without a fault, whose values say that they were sent in another way.
    fn uart_values(&mut self, config: UartConfig, seen: &Sight) {
        if seen.distinct() < VALUES {
            return;
        }
        let last = |value: &u64| value >> (config.data_bits - 1) & 1 == 1;
        let below = |value: &u64| (value & !(u64::MAX << (config.data_bits - 1))).count_ones();
        let parity = [(Parity::Even, 1), (Parity::Odd, 0)]
            .into_iter()
            .find(|(_, odd)| seen.values.iter().all(|value| last(value) == (below(value) % 2 == *odd)));
        if let Some((parity, _)) = parity.filter(|_| config.parity == Parity::None && config.data_bits > 7) {
            let what = format!(
                "the highest bit makes the number of ones {parity} in all of {} bytes: it is a parity bit",
                seen.values.len()
            );
            let other = UartConfig { data_bits: config.data_bits - 1, parity, ..config };
            return self.find("format", Sureness::Likely, what, changes(config, other));
        }
        let is_text = |byte: u64| matches!(byte, 0x20..=0x7e | 0x09 | 0x0a | 0x0d);
        let turned = |value: &u64| value.reverse_bits() >> (64 - config.data_bits);
        let texts = |of: &dyn Fn(&u64) -> u64| {
            let read = seen.values.iter().filter(|value| is_text(of(value))).count();
            read * 100 / seen.values.len()
        };
        if (7..=8).contains(&config.data_bits) && texts(&turned) >= 98 && texts(&|value| *value) < 80 {
            let other = match config.order {
                BitOrder::LowestFirst => "highest-first",
                BitOrder::HighestFirst => "lowest-first",
            };
            let what = format!(
                "with the {} bit first, all bytes are characters of a text",
                other.trim_end_matches("-first")
            );
            self.find("bit-order", Sureness::Likely, what, format!("order = \"{other}\""));
        }
    }
}

/// The stretch in the middle, where they hardly ever are whole bits.
fn low_for_parts(mut lows: Vec<f64>, bit: f64) -> Option<f64> {
    let off: f64 = lows.iter().map(|bits| (bits - bits.round()).abs()).sum();
    lows.sort_by(f64::total_cmp);
    let allowed = 0.15 + 0.3 / bit;
    (lows.len() >= 3 && off > allowed * lows.len() as f64).then(|| lows[lows.len() / 2])
}

/// What differs between two settings, as a setup has it.
fn changes(from: UartConfig, to: UartConfig) -> String {
    let mut keys = Vec::new();
    if let Some(rate) = to.bit_rate.filter(|_| to.bit_rate != from.bit_rate) {
        keys.push(format!("bit-rate = \"{rate}\""));
    }
    if to.inverted != from.inverted {
        keys.push(format!("inverted = {}", to.inverted));
    }
    if (to.data_bits, to.parity) != (from.data_bits, from.parity) {
        keys.push(format!("data-bits = {}, parity = \"{}\"", to.data_bits, to.parity));
    }
    keys.join(", ")
}
