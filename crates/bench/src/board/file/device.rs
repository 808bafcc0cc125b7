//! The devices of a bench file, a function for each kind.

use deep_tap_core::quantity::{Frequency, Percent, Rational, Time, Voltage};
use deep_tap_core::reader::{Placed, Section};

use super::node::named;
use crate::board::NodeId;
use crate::board::models::{
    Beat, Can, I2c, Jtag, Lights, Model, OneHot, OneWire, Parity, Pulse, Sender, Shifter, Square, Steps,
    Writer,
};
use crate::instant::Instant;
use crate::random::Random;

/// Reads a device; `None` when a problem has been told.
type Read = fn(&Entry<'_>) -> Option<Box<dyn Model>>;

/// The sections of devices, each with the key by which it is called in messages.
const KINDS: [(&str, &str, Read); 14] = [
    ("clock", "node", square),
    ("pwm", "node", square),
    ("rail", "node", rail),
    ("steps", "node", steps),
    ("sequencer", "nodes", sequencer),
    ("pulse", "node", pulse),
    ("uart", "node", uart),
    ("spi", "data", spi),
    ("memory", "write", memory),
    ("i2c", "data", i2c),
    ("can", "node", can),
    ("jtag", "tck", jtag),
    ("one-wire", "node", one_wire),
    ("lights", "node", lights),
];

/// All devices, in the order of their kinds.
pub(super) fn read_devices(top: &Section<'_>, nodes: &[String]) -> Vec<Box<dyn Model>> {
    let mut devices = Vec::new();
    for (kind, name_key, read) in KINDS {
        for section in top.sections(kind, name_key) {
            devices.extend(read(&Entry { section: &section, nodes }));
            section.finish();
        }
    }
    devices
}

/// The section of one device, with the nodes that it may name.
struct Entry<'a> {
    section: &'a Section<'a>,
    nodes: &'a [String],
}

impl Entry<'_> {
    fn node(&self, key: &'static str) -> Option<NodeId> {
        let example = self.nodes.first().map_or("CLK", String::as_str);
        let name = self.section.required(key, &format!("{key} = \"{example}\""))?;
        named(self.section, self.nodes, &name)
    }

    /// A list of nodes.
    fn nodes(&self, key: &'static str) -> Option<Vec<NodeId>> {
        self.section.must_have(key, &format!("{key} = [\"D1\", \"D0\"]"));
        let names = self.section.list(key)?.value;
        let nodes: Vec<_> = names.iter().map(|name| named(self.section, self.nodes, name)).collect();
        nodes.into_iter().collect()
    }

    /// A time, or none.
    fn time(&self, key: &'static str) -> Instant {
        self.section.parsed::<Time>(key).map_or(Instant(0), |time| Instant::after(time.value))
    }

    /// A time that must be there.
    fn required_time(&self, key: &'static str) -> Option<Instant> {
        self.section.must_have(key, &format!("{key} = \"100 us\""));
        Some(Instant::after(self.section.parsed::<Time>(key)?.value))
    }

    fn start(&self) -> Instant {
        self.time("start")
    }

    /// From one time to the next.
    fn every(&self) -> Option<Beat> {
        self.section.must_have("every", "every = \"1 ms\"");
        self.every_if_given()?
    }

    /// The same where it need not be given; the inner `None` is one that was refused.
    fn every_if_given(&self) -> Option<Option<Beat>> {
        let every = self.section.parsed::<Time>("every")?;
        Some(self.beat(&every, every.value.to_rational(), "time"))
    }

    /// The period of a frequency.
    fn period(&self, key: &'static str) -> Option<Beat> {
        self.period_off_by(key, Rational::ONE)
    }

    /// The period of a frequency that is off by a factor.
    fn period_off_by(&self, key: &'static str, factor: Rational) -> Option<Beat> {
        self.section.must_have(key, &format!("{key} = \"1 MHz\""));
        let frequency = self.section.parsed::<Frequency>(key)?;
        let seconds = frequency.value.to_rational().checked_mul(factor).and_then(Rational::recip);
        self.beat(&frequency, seconds.unwrap_or(Rational::ZERO), "frequency")
    }

    fn beat<T>(&self, given: &Placed<T>, seconds: Rational, what: &str) -> Option<Beat> {
        let beat = Beat::new(seconds);
        if beat.is_none() {
            let message = format!("this {what} is not above zero, or its period is longer than an hour");
            self.section.refuse(&given.place, message, "give one in between");
        }
        beat
    }

    /// How far off a rate is, as a factor.
    fn rate_error(&self) -> Rational {
        let off = self.section.parsed::<Percent>("rate-error");
        off.and_then(|off| Rational::ONE.checked_add(off.value.to_fraction())).unwrap_or(Rational::ONE)
    }

    fn bytes(&self, key: &'static str) -> Vec<u8> {
        self.section.numbers(key, 0..=u8::MAX).unwrap_or_default()
    }

    fn flag(&self, key: &'static str, usual: bool) -> bool {
        self.section.flag(key).unwrap_or(usual)
    }

    /// How long a word or register is.
    fn bits(&self, key: &'static str) -> Option<u32> {
        self.section.must_have(key, &format!("{key} = 8"));
        Some(self.section.within(key, 1..=64)?.value)
    }
}

/// A device, all of whose parts are there.
fn model(device: impl Model + 'static) -> Option<Box<dyn Model>> {
    Some(Box::new(device))
}

fn square(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (node, period) = (entry.node("node"), entry.period("frequency"));
    let duty = entry.section.parsed::<Percent>("duty").map_or(500, |duty| Square::thousandths(duty.value));
    let until = entry.section.parsed::<Time>("until");
    let until = until.map_or(Instant(i64::MAX / 2), |until| Instant::after(until.value));
    let (start, jitter) = (entry.start(), entry.time("jitter"));
    let (node, period, random) = (node?, period?, Random::new(0));
    model(Square { node, start, until, period, duty, jitter, random, done: 0 })
}

fn rail(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (node, start) = (entry.node("node"), entry.required_time("at"));
    entry.section.must_have("volts", "volts = \"3.3 V\"");
    let volts = entry.section.parsed::<Voltage>("volts");
    let (volts, every) = (vec![volts?.value.to_f64()], Beat::per_second(1));
    model(Steps { node: node?, start: start?, every, volts, again: false, done: 0 })
}

fn steps(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (node, start, every, again) =
        (entry.node("node"), entry.start(), entry.every(), entry.flag("again", true));
    entry.section.must_have("volts", "volts = [\"0 V\", \"1.8 V\"]");
    let volts = entry.section.parsed_list::<Voltage>("volts")?;
    let volts = volts.iter().map(|volts| volts.value.to_f64()).collect();
    model(Steps { node: node?, start, every: every?, volts, again, done: 0 })
}

fn sequencer(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (nodes, start, every, again) =
        (entry.nodes("nodes"), entry.start(), entry.every(), entry.flag("again", true));
    model(OneHot { nodes: nodes?, start, every: every?, again, done: 0 })
}

fn pulse(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (node, at, width) = (entry.node("node"), entry.required_time("at"), entry.required_time("width"));
    let high = entry.flag("high", true);
    model(Pulse { node: node?, at: at?, width: width?, high, done: false })
}

fn uart(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let section = entry.section;
    let (node, start) = (entry.node("node"), entry.start());
    let bit = entry.period_off_by("bit-rate", entry.rate_error());
    let every = entry.every_if_given();
    let text = section.text("text").map_or_else(String::new, |text| text.value);
    let bytes: Vec<u8> = text.bytes().chain(entry.bytes("bytes")).collect();
    let data_bits = section.within("data-bits", 5..=8).map_or(8, |bits| bits.value);
    let parities = [("none", Parity::None), ("even", Parity::Even), ("odd", Parity::Odd)];
    let parity = section.word("parity", &parities);
    let stop_bits = section.within("stop-bits", 1..=2).map_or(1, |bits| bits.value);
    if bytes.is_empty() {
        section.complain("this sender has nothing to send", "add text = \"status\" or bytes = [0x55]");
    }
    let again = every.is_some();
    let (node, every) = (node?, every.unwrap_or(Some(Beat::per_second(1)))?);
    let (bit, parity) = (bit?, parity?);
    model(Sender { node, start, every, bit, bytes, data_bits, parity, stop_bits, again, done: 0 })
}

fn spi(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (clock, data, select) = (entry.node("clock"), entry.node("data"), entry.node("select"));
    let (start, every, bit) = (entry.start(), entry.every(), entry.period("bit-rate"));
    let bits = entry.bits("bits");
    let mode = entry.section.within("mode", 0..=3u8).map_or(0, |mode| mode.value);
    entry.section.must_have("words", "words = [0xa5]");
    let words = entry.section.numbers("words", 0..=u64::MAX >> (64 - bits.unwrap_or(64)));
    model(Shifter {
        clock: clock?,
        data: data?,
        select: select?,
        start,
        every: every?,
        bit: bit?,
        words: words?,
        bits: bits?,
        rests_high: mode >= 2,
        second_edge: mode % 2 == 1,
        done: 0,
    })
}

fn memory(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (address, data, write) = (entry.nodes("address"), entry.nodes("data"), entry.node("write"));
    let (start, every) = (entry.start(), entry.every());
    let [setup, pulse, hold] = ["setup", "pulse", "hold"].map(|key| entry.required_time(key));
    model(Writer {
        address: address?,
        data: data?,
        write: write?,
        start,
        every: every?,
        setup: setup?,
        pulse: pulse?,
        hold: hold?,
        done: 0,
    })
}

fn i2c(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (clock, data) = (entry.node("clock"), entry.node("data"));
    let (start, every, bit) = (entry.start(), entry.every(), entry.period("bit-rate"));
    entry.section.must_have("address", "address = 0x51");
    let address = entry.section.within("address", 0..=0x7fu8);
    let (write, read) = (entry.bytes("write"), entry.bytes("read"));
    let missing = entry.section.within("missing", 1..=u64::MAX).map(|missing| missing.value);
    let stretch = entry.time("stretch");
    model(I2c {
        clock: clock?,
        data: data?,
        start,
        every: every?,
        bit: bit?,
        address: address?.value,
        write,
        read,
        missing,
        stretch,
        done: 0,
    })
}

fn can(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (node, start, every) = (entry.node("node"), entry.start(), entry.every());
    let bit = entry.period_off_by("bit-rate", entry.rate_error());
    let (extended, acknowledged) = (entry.flag("extended", false), entry.flag("acknowledged", true));
    let data = entry.bytes("data");
    if data.len() > 8 {
        entry.section.complain("this frame is too long", "data has up to 8 bytes");
    }
    entry.section.must_have("identifier", "identifier = 0x123");
    let most = if extended { 0x1fff_ffffu32 } else { 0x7ff };
    let identifier = entry.section.within("identifier", 0..=most);
    let (node, every, bit, identifier) = (node?, every?, bit?, identifier?.value);
    model(Can { node, start, every, bit, identifier, extended, data, acknowledged, done: 0 })
}

fn jtag(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let [clock, mode, to_part, from_part] = ["tck", "tms", "tdi", "tdo"].map(|key| entry.node(key));
    let (start, every, bit) = (entry.start(), entry.every(), entry.period("bit-rate"));
    let (instruction_bits, data_bits) = (entry.bits("instruction-bits"), entry.bits("data-bits"));
    let register = |key| {
        entry.section.must_have(key, &format!("{key} = 0x1"));
        entry.section.count(key).map(|bits| bits.value)
    };
    let [instruction, into, out] = ["instruction", "data-in", "data-out"].map(register);
    model(Jtag {
        clock: clock?,
        mode: mode?,
        to_part: to_part?,
        from_part: from_part?,
        start,
        every: every?,
        bit: bit?,
        instruction: (instruction?, instruction_bits?),
        data: (into?, out?, data_bits?),
        done: 0,
    })
}

fn one_wire(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (node, start, every) = (entry.node("node"), entry.start(), entry.every());
    let (bytes, present) = (entry.bytes("bytes"), entry.flag("present", true));
    model(OneWire { node: node?, start, every: every?, bytes, present, done: 0 })
}

fn lights(entry: &Entry<'_>) -> Option<Box<dyn Model>> {
    let (node, start, every) = (entry.node("node"), entry.start(), entry.every());
    entry.section.must_have("bytes", "bytes = [0x10, 0x20, 0x30]");
    let bytes = entry.bytes("bytes");
    let [period, zero, one] = ["period", "zero", "one"].map(|key| entry.required_time(key));
    let (node, every) = (node?, every?);
    model(Lights { node, start, every, bytes, period: period?, zero: zero?, one: one?, done: 0 })
}
