//! The two-wire bus.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use super::finding::Sureness;
use super::patient::Patient;
use crate::bus::{Frame, FrameSink};
use crate::decode::{I2c, I2cConfig, Protocol, decode};

/// Addresses in a row, each tried once or twice, from which on it is a scan; and the share of them that answers
/// at most, in percent.
const SCAN: usize = 16;
const SCAN_ANSWERS: usize = 50;

/// How often each address was acknowledged, and not; and the addresses in their order.
#[derive(Default)]
struct Answers {
    counts: BTreeMap<u64, (u64, u64)>,
    order: Vec<u64>,
}

impl FrameSink for Answers {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        let mut fields = frame.fields.iter().filter(|field| field.name != "data");
        if let Some(address) = fields.clone().find(|field| field.name == "address")
            && let Some(answer) = fields.find(|field| matches!(field.name, "ack" | "nack"))
        {
            let seen = self.counts.entry(address.value).or_default();
            match answer.name {
                "ack" => seen.0 += 1,
                _ => seen.1 += 1,
            }
            if self.order.len() < 100_000 {
                self.order.push(address.value);
            }
        }
        ControlFlow::Continue(())
    }
}

impl Answers {
    /// The longest row of addresses, each one higher than the last.
    fn scan(&self) -> Option<&[u64]> {
        let mut best: &[u64] = &[];
        let mut first = 0;
        for place in 1..=self.order.len() {
            let goes_on = self.order.get(place).is_some_and(|address| {
                let last = self.order[place - 1];
                *address == last || *address == last + 1
            });
            if !goes_on {
                let row = &self.order[first..place];
                best = if row.len() > best.len() { row } else { best };
                first = place;
            }
        }
        let span = best.last()?.checked_sub(*best.first()?)?;
        (span as usize + 1 >= SCAN).then_some(best)
    }

    fn answered(&self, address: u64) -> bool {
        self.counts.get(&address).is_some_and(|(acks, _)| *acks > 0)
    }
}

fn named<'a>(addresses: impl Iterator<Item = &'a u64>) -> String {
    let all: Vec<String> = addresses.map(|address| format!("{address:#04X}")).collect();
    match all.len() {
        0..=6 => all.join(", "),
        count => format!("{}, … ({count} of them)", all[..4].join(", ")),
    }
}

impl Patient<'_> {
    /// Whether clock and data are exchanged; then there is nothing else to find.
    pub(super) fn two_wires_exchanged(&mut self) -> bool {
        let lines = self.bus.lines();
        let protocol = Protocol::I2c(I2cConfig::default());
        let Some(stated) = self.look(&protocol) else { return false };
        if !stated.is_bad() {
            return false;
        }
        let other = self.look_at(&[lines[1], lines[0]], &protocol).unwrap_or_default();
        let good = |sight: &super::sight::Sight| sight.whole.saturating_sub(sight.faulty);
        if other.faulty > 0 || other.whole == 0 || good(&other) <= 3 * good(&stated) {
            return false;
        }
        let read = if other.frames == 1 {
            "a transfer is".to_string()
        } else {
            format!("{} transfers are", other.frames)
        };
        let what = format!("with clock and data exchanged, {read} read without a fault");
        let remedy = format!("clock = \"{}\", data = \"{}\"", self.name(1), self.name(0));
        let sureness = if other.is_clean() { Sureness::Certain } else { Sureness::Likely };
        self.find("swapped", sureness, what, remedy);
        true
    }

    pub(super) fn two_wire(&mut self) {
        // Addresses of seven bits, however they are to be shown.
        let protocol = Protocol::I2c(I2cConfig::default());
        let Some(stated) = self.look(&protocol) else { return };
        let order = stated.count("order");
        if order > 0 {
            let what = format!("clock and data change at the same sample in {order} transfers");
            let remedy = match self.capture.base().is_exact() {
                true => "let data change after the clock: a start or stop cannot be told from a bit there",
                false => "record faster: a start or stop cannot be told from a bit there",
            };
            self.find("order", Sureness::Likely, what, remedy);
        }
        if stated.frames == 0 && self.edges(0) >= 18 {
            self.unread(
                &stated,
                "look for a start: the data line falls while the clock is high; check both leads",
            );
        } else if stated.frames > 0 && stated.is_bad() {
            let what = format!(
                "{} of {} transfers are not whole: spikes, or another bus",
                stated.faulty, stated.frames
            );
            let remedy = "look for ringing on the clock, at the thresholds, and at both leads";
            self.find("unread", Sureness::Possible, what, remedy);
        } else if order == 0 && stated.faulty > 0 {
            self.rare_faults(&stated);
        }
        let mut answers = Answers::default();
        let mut decoder = I2c::new(I2cConfig::default());
        let _ = decode(self.capture, self.bus.lines(), self.range.clone(), &mut decoder, &mut answers);
        self.answers(answers);
    }

    fn answers(&mut self, mut answers: Answers) {
        let tried: u64 = answers.counts.values().map(|(acks, nacks)| acks + nacks).sum();
        let acked: u64 = answers.counts.values().map(|(acks, _)| acks).sum();
        if tried >= 2 && acked == 0 {
            let what = format!(
                "no address is ever acknowledged, in {tried} tries: {}",
                named(answers.counts.keys())
            );
            let remedy = "check the targets' power, the pull-ups, the data line's threshold, and whether the addresses \
                          are the part's seven bits: 0xA2 with the read/write bit is 0x51 without";
            return self.find("no-answer", Sureness::Likely, what, remedy);
        }
        self.scan(&mut answers);
        let silent = answers.counts.iter().filter(|(_, (acks, nacks))| *acks == 0 && *nacks > 0);
        let known: Vec<u64> =
            answers.counts.iter().filter(|(_, (acks, _))| *acks > 0).map(|(known, _)| *known).collect();
        let mut absent = Vec::new();
        for (address, (_, nacks)) in silent {
            // Written with its read/write bit, an address of seven bits becomes twice as great.
            let half = |known: &&u64| **known != *address && (**known << 1 & 0x7f) == *address;
            let twice = |known: &&u64| **known != *address && **known >> 1 == *address;
            match known.iter().find(|known| half(known) || twice(known)) {
                Some(known) => {
                    let what = format!(
                        "address {address:#04X} never answers, in {nacks} tries; others do; {known:#04X}, the same \
                         shifted by the read/write bit, does"
                    );
                    let remedy =
                        format!("address the part as {known:#04X}: seven bits, without the read/write bit");
                    self.find("shifted", Sureness::Likely, what, remedy);
                }
                None => absent.push((*address, *nacks)),
            }
        }
        self.absent(&absent);
        let sometimes = answers.counts.iter().filter(|(_, (acks, nacks))| *acks > 0 && *nacks > 0);
        let said: Vec<String> = sometimes
            .map(|(address, (acks, nacks))| {
                format!("{address:#04X} does not answer {nacks} of {} times", acks + nacks)
            })
            .collect();
        if !said.is_empty() {
            let what = format!("address {}", said.join("; "));
            let remedy =
                "a part that is busy does that; if it should not be, look at its power and the rise time";
            self.find("some-answers", Sureness::Possible, what, remedy);
        }
    }

    fn absent(&mut self, absent: &[(u64, u64)]) {
        let what = match absent {
            [] => return,
            [(address, nacks)] => {
                format!("address {address:#04X} never answers, in {nacks} tries; others do")
            }
            more => format!(
                "{} addresses never answer, others do: {}",
                more.len(),
                named(more.iter().map(|(address, _)| address))
            ),
        };
        let remedy = "the part is absent, has no power, or another address; a part that is given as 0xA2 with its \
                      read/write bit has the address 0x51";
        self.find("no-answer", Sureness::Likely, what, remedy);
    }

    /// Addresses that were tried one after the other, few of which answer: somebody looks for parts. They are
    /// no parts that do not answer.
    fn scan(&mut self, answers: &mut Answers) {
        let Some(row) = answers.scan().map(<[u64]>::to_vec) else { return };
        let (first, last) = (row[0], row[row.len() - 1]);
        let all = (last - first + 1) as usize;
        let there: Vec<u64> = (first..=last).filter(|address| answers.answered(*address)).collect();
        if there.len() * 100 > all * SCAN_ANSWERS {
            return;
        }
        let silent = all - there.len();
        let what =
            format!("{silent} of {all} addresses do not answer: a scan from {first:#04X} to {last:#04X}");
        let remedy = format!("nothing, if it was meant; parts answer at {}", named(there.iter()));
        // What was tried in the scan alone.
        for address in first..=last {
            let times = row.iter().filter(|own| **own == address).count() as u64;
            if let Some((_, nacks)) = answers.counts.get_mut(&address) {
                *nacks = nacks.saturating_sub(times);
            }
        }
        self.find("scan", Sureness::Likely, what, remedy);
    }
}
