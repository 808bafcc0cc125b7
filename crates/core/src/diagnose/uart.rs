//! Asynchronous serial.

use std::ops::Range;

use super::sight::{Sight, look, stretch};
use super::timing::{bit_length, bit_rate, rests_at};
use super::{Patient, Sureness};
use crate::decode::{Parity, Protocol, UartConfig};
use crate::line::Level;
use crate::time::Tick;

/// Bit rates that are in use.
pub(crate) const USUAL: [i64; 23] = [
    300, 600, 1200, 2400, 4800, 9600, 14_400, 19_200, 28_800, 31_250, 38_400, 57_600, 76_800, 100_000,
    115_200, 230_400, 250_000, 460_800, 500_000, 921_600, 1_000_000, 2_000_000, 3_000_000,
];
/// Edges after the first at which a stream may be entered.
const ENTRIES: u64 = 24;

impl Patient<'_> {
    pub(super) fn uart(&mut self, config: UartConfig) {
        let line = self.line(0);
        let range = stretch(self.capture, self.bus.lines());
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
        let measured = bit_length(self.capture, line, range.clone());
        self.samples(measured.unwrap_or(stated_bit).min(stated_bit), "bit");
        let sight = |config| look(self.capture, self.bus.lines(), range.clone(), &Protocol::Uart(config));
        let Some(stated) = sight(config) else { return };
        let enough = stated.frames >= 3;
        // Pulses that are shorter than a bit cannot be, whatever decoding makes of them.
        let off = measured.map(|bit| stated_bit / bit).filter(|ratio| (ratio - 1.0).abs() > 0.03);
        let too_short = off.is_some_and(|ratio| ratio > 1.2);
        if stated.faulty == 0 && !too_short {
            if let Some(ratio) = off.filter(|_| enough) {
                let what = format!(
                    "bits are {:.1} % {} than stated: what is read may be wrong",
                    (ratio - 1.0).abs() * 100.0,
                    if ratio > 1.0 { "shorter" } else { "longer" }
                );
                self.find("bit-rate", Sureness::Possible, what, "check the clock that the sender divides");
            }
            return;
        }
        if let Some((change, other)) = self.other_uart(config, measured) {
            let clean = sight(other).unwrap_or_default();
            let sureness = if clean.frames >= 12 { Sureness::Certain } else { Sureness::Likely };
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
        self.uart_start(config, &range, &stated);
    }

    /// Settings under which nothing is wrong, the smallest change first.
    fn other_uart(&self, config: UartConfig, measured: Option<f64>) -> Option<(&'static str, UartConfig)> {
        let range = stretch(self.capture, self.bus.lines());
        let rests_high = rests_at(self.capture, self.line(0), range.clone(), Level::High);
        let bit_rate = measured.map(|bit| bit_rate(self.capture, bit, &USUAL));
        let faster = bit_rate.map(|bit_rate| ("bit-rate", UartConfig { bit_rate: Some(bit_rate), ..config }));
        let turned = (config.inverted == rests_high)
            .then_some(("inverted", UartConfig { inverted: !config.inverted, ..config }));
        let both = faster
            .zip(turned)
            .map(|((_, faster), _)| ("bit-rate", UartConfig { inverted: !config.inverted, ..faster }));
        let found = faster.map_or(config, |(_, faster)| faster);
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
        let others = faster.into_iter().chain(turned).chain(formats).chain(both);
        let mut others = others.chain(with("bit-rate", found));
        others.find(|(_, other)| {
            let seen = look(self.capture, self.bus.lines(), range.clone(), &Protocol::Uart(*other));
            seen.is_some_and(|seen| seen.is_clean())
        })
    }

    /// No other settings help: does it help to begin later?
    fn uart_start(&mut self, config: UartConfig, range: &Range<Tick>, stated: &Sight) {
        let trace = self.capture.trace(self.line(0));
        let protocol = Protocol::Uart(config);
        let entry = (0..ENTRIES).filter_map(|number| trace.nth_edge(number)).find(|edge| {
            // Just before the edge, so that it may be a start bit.
            let from = Tick(edge.tick.0.saturating_sub(1));
            let seen = look(self.capture, self.bus.lines(), from..range.end, &protocol);
            seen.is_some_and(|seen| seen.is_clean() && seen.frames * 2 >= stated.frames)
        });
        if let Some(edge) = entry {
            let at = self.capture.base().text_of(edge.tick);
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
        let what =
            format!("{} of {} bytes have a fault, and no other setting helps", stated.faulty, stated.frames);
        let remedy = "look at the threshold, at the ground lead, and whether this is a line of this kind";
        self.find("unread", Sureness::Possible, what, remedy);
    }
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
