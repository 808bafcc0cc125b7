//! The two-wire bus.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use super::sight::{look, stretch};
use super::timing::shortest;
use super::{Patient, Sureness};
use crate::bus::{Frame, FrameSink};
use crate::decode::{I2c, I2cConfig, Protocol, decode};
use crate::line::Level;

/// How often each address was acknowledged, and not.
#[derive(Default)]
struct Answers(BTreeMap<u64, (u64, u64)>);

impl FrameSink for Answers {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        let mut fields = frame.fields.iter().filter(|field| field.name != "data");
        if let Some(address) = fields.clone().find(|field| field.name == "address")
            && let Some(answer) = fields.find(|field| matches!(field.name, "ack" | "nack"))
        {
            let seen = self.0.entry(address.value).or_default();
            match answer.name {
                "ack" => seen.0 += 1,
                _ => seen.1 += 1,
            }
        }
        ControlFlow::Continue(())
    }
}

impl Patient<'_> {
    pub(super) fn two_wire(&mut self) {
        let lines = self.bus.lines();
        let range = stretch(self.capture, lines);
        // Addresses of seven bits, however they are to be shown.
        let protocol = Protocol::I2c(I2cConfig::default());
        let Some(stated) = look(self.capture, lines, range.clone(), &protocol) else { return };
        let swapped = [lines[1], lines[0]];
        let other = look(self.capture, &swapped, range.clone(), &protocol).unwrap_or_default();
        let good = |sight: &super::sight::Sight| sight.whole.saturating_sub(sight.faulty);
        if other.is_clean() && good(&other) > 3 * good(&stated) && stated.is_bad() {
            let what =
                format!("with clock and data exchanged, {} transfers are read without a fault", other.frames);
            let remedy = format!("clock = \"{}\", data = \"{}\"", self.name(1), self.name(0));
            return self.find("swapped", Sureness::Certain, what, remedy);
        }
        // Half a clock period, as short as they come.
        if let Some(half) = shortest(self.capture, lines[0], range.clone()) {
            self.samples(2.0 * half as f64, "clock period");
        }
        let order = stated.count("order");
        if order > 0 {
            let what = format!("clock and data change at the same sample in {order} transfers");
            let remedy = match self.capture.base().is_exact() {
                true => "let data change after the clock: a start or stop cannot be told from a bit there",
                false => "record faster: a start or stop cannot be told from a bit there",
            };
            self.find("order", Sureness::Certain, what, remedy);
        }
        if stated.frames > 0 && stated.is_bad() {
            let what = format!(
                "{} of {} transfers are not whole: spikes, or another bus",
                stated.faulty, stated.frames
            );
            let remedy = "look for ringing on the clock, at the thresholds, and at both leads";
            self.find("unread", Sureness::Possible, what, remedy);
        }
        let mut answers = Answers::default();
        let mut decoder = I2c::new(I2cConfig::default());
        let _ = decode(self.capture, lines, range, &mut decoder, &mut answers);
        self.answers(&answers.0);
    }

    fn answers(&mut self, answers: &BTreeMap<u64, (u64, u64)>) {
        let tried: u64 = answers.values().map(|(acks, nacks)| acks + nacks).sum();
        let acked: u64 = answers.values().map(|(acks, _)| acks).sum();
        if tried >= 2 && acked == 0 {
            let low = self.capture.trace(self.line(1)).edges(self.capture.range());
            let ever_low = low.take(1000).any(|edge| edge.to == Level::Low);
            let named: Vec<String> =
                answers.keys().take(4).map(|address| format!("{address:#04X}")).collect();
            let what = format!("no address is ever acknowledged, in {tried} tries: {}", named.join(", "));
            let remedy = match ever_low {
                true => {
                    "check the targets' power, the data line's threshold, and whether the addresses are the \
                         part's seven bits: 0xA2 with the read/write bit is 0x51 without"
                }
                false => "check the pull-ups and the data line",
            };
            return self.find("no-answer", Sureness::Likely, what, remedy);
        }
        let silent = answers.iter().filter(|(_, (acks, nacks))| *acks == 0 && *nacks > 0);
        for (address, (_, nacks)) in silent {
            // Written with its read/write bit, an address of seven bits becomes twice as great.
            let half = |known: &u64| *known != *address && (known << 1 & 0x7f) == *address;
            let twice = |known: &u64| *known != *address && known >> 1 == *address;
            let known = answers.iter().filter(|(_, (acks, _))| *acks > 0).map(|(known, _)| known);
            let shifted = known.clone().find(|known| half(known) || twice(known));
            let what = format!("address {address:#04X} never answers, in {nacks} tries; others do");
            match shifted {
                Some(known) => {
                    let what = format!("{what}; {known:#04X}, the same shifted by the read/write bit, does");
                    let remedy =
                        format!("address the part as {known:#04X}: seven bits, without the read/write bit");
                    self.find("shifted", Sureness::Likely, what, remedy);
                }
                None => {
                    let remedy = "the part is absent, has no power, or another address; a part that is given as \
                                  0xA2 with its read/write bit has the address 0x51";
                    self.find("no-answer", Sureness::Likely, what, remedy);
                }
            }
        }
        for (address, (acks, nacks)) in answers.iter().filter(|(_, (acks, nacks))| *acks > 0 && *nacks > 0) {
            let what = format!("address {address:#04X} does not answer {nacks} of {} times", acks + nacks);
            let remedy =
                "a part that is busy does that; if it should not be, look at its power and the rise time";
            self.find("some-answers", Sureness::Possible, what, remedy);
        }
    }
}
