//! The sections of serial buses: their settings, and the lines they name.

use super::bus::DraftBus;
use super::line::LineIds;
use super::value_names::{field_names, read_field_names};
use crate::decode::{
    CanConfig, ClockedConfig, FieldNames, I2cAddresses, I2cConfig, I2sConfig, JtagConfig, JtagData,
    LinConfig, ParallelConfig, Parity, Protocol, PulsesConfig, SerialBus, SpiConfig, SpiData, StopBits,
    Strobes, TransferEnds, UartConfig,
};
use crate::error::{Error, suggest};
use crate::line::{BitOrder, Level};
use crate::quantity::{Frequency, Percent, Rational, Time};
use crate::reader::{Placed, Section};
use crate::setup::files::wrong;
use crate::time::TimeBase;

/// A serial bus as written: its name, what is spoken, and the names of the lines.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftSerial {
    pub(in crate::setup) name: Placed<String>,
    pub(in crate::setup) protocol: Protocol,
    pub(in crate::setup) lines: Vec<Placed<String>>,
    /// Of a parallel bus, its data lines and its address lines: names of lines or of buses, most
    /// significant first.
    pub(in crate::setup) groups: [Vec<Placed<String>>; 2],
    pub(in crate::setup) ends: TransferEnds,
    pub(in crate::setup) names: FieldNames,
}

/// The levels that a key can name.
const LOW_FIRST: [(&str, Level); 2] = [("low", Level::Low), ("high", Level::High)];
const HIGH_FIRST: [(&str, Level); 2] = [("high", Level::High), ("low", Level::Low)];
const PARITIES: [(&str, Parity); 5] = [
    ("none", Parity::None),
    ("even", Parity::Even),
    ("odd", Parity::Odd),
    ("mark", Parity::Mark),
    ("space", Parity::Space),
];
/// Which bit comes first; the first of each is the default.
pub(in crate::setup) const HIGHEST_FIRST: [(&str, BitOrder); 2] =
    [("highest-first", BitOrder::HighestFirst), ("lowest-first", BitOrder::LowestFirst)];
const LOWEST_FIRST: [(&str, BitOrder); 2] =
    [("lowest-first", BitOrder::LowestFirst), ("highest-first", BitOrder::HighestFirst)];

impl DraftSerial {
    /// The names of its lines and groups.
    pub(in crate::setup) fn names(&self) -> impl Iterator<Item = &String> {
        self.lines.iter().chain(self.groups.iter().flatten()).map(|name| &name.value)
    }

    /// The bus on the board's lines. Groups may be named by a parallel bus.
    pub(in crate::setup) fn resolve(
        &self,
        known: &LineIds<'_>,
        buses: &[DraftBus],
        problems: &mut Vec<Error>,
    ) -> Option<SerialBus> {
        // The decoder counts from the lowest line of a group, which the setup names last.
        let [data, address] = [&self.groups[0], &self.groups[1]].map(|group| {
            let named =
                group.iter().flat_map(|name| match buses.iter().find(|b| b.name.value == name.value) {
                    Some(bus) => bus.lines.clone(),
                    None => vec![name.clone()],
                });
            let mut named: Vec<Placed<String>> = named.collect();
            named.reverse();
            named
        });
        let mut protocol = self.protocol.clone();
        if let Protocol::Parallel(config) = &mut protocol {
            (config.data, config.address) = (data.len() as u32, address.len() as u32);
        }
        // At a rate that is fast enough for anything, what is refused are the settings.
        let fast = Time::from_rational(Rational::power_of_ten(-12).unwrap_or(Rational::ONE));
        let measured = matches!(&protocol, Protocol::Uart(config) if config.bit_rate.is_none());
        let refused = TimeBase::from_tick(fast).and_then(|base| protocol.decoder(base)).err();
        if let Some(error) = refused.filter(|_| !measured) {
            let help = error.help().unwrap_or("see docs/setup.md");
            let message = format!("bus '{}': {}", self.name.value, error.message());
            problems.push(wrong(&self.name.place, message, help));
            return None;
        }
        let names: Vec<&Placed<String>> = self.lines.iter().chain(&data).chain(&address).collect();
        let ids: Vec<_> = names.iter().map(|line| known.line(line, problems)).collect();
        let lines = ids.into_iter().collect::<Option<Vec<_>>>()?;
        for (number, line) in lines.iter().enumerate() {
            if lines[..number].contains(line) {
                let message =
                    format!("bus '{}' has the line '{}' twice", self.name.value, names[number].value);
                problems.push(wrong(&names[number].place, message, "name each line once"));
                return None;
            }
        }
        match SerialBus::of_lines(self.name.value.clone(), protocol, lines) {
            Ok(bus) => Some(bus.with_transfer_ends(self.ends).with_names(self.names.clone())),
            Err(error) => {
                problems.push(wrong(&self.name.place, error.message(), error.help().unwrap_or_default()));
                None
            }
        }
    }
}

/// Reads a section that has a `kind`.
pub(in crate::setup) fn read_serial(section: &Section<'_>, kind: &Placed<String>) -> Option<DraftSerial> {
    let name = section.required("name", "name = \"console\"");
    let mut groups = [Vec::new(), Vec::new()];
    let (protocol, lines) = match kind.value.as_str() {
        "uart" => read_uart(section)?,
        "i2c" => {
            let clock = section.required("clock", "clock = \"SCL\"");
            let data = section.required("data", "data = \"SDA\"");
            let addresses = [
                ("7-bit", I2cAddresses::SevenBits),
                ("8-bit", I2cAddresses::WithDirection),
                ("10-bit", I2cAddresses::TenBits),
            ];
            let addresses = section.word("addresses", &addresses)?;
            (Protocol::I2c(I2cConfig { addresses }), vec![clock?, data?])
        }
        "spi" => read_spi(section)?,
        "can" => read_can(section)?,
        "jtag" => read_jtag(section)?,
        "one-wire" => {
            let line = section.required("line", "line = \"PROBE_IO\"");
            (Protocol::OneWire, vec![line?])
        }
        "lin" => {
            let line = section.required("line", "line = \"LIN_RX\"");
            let rate = bit_rate(section, "bit-rate = \"19.2 kHz\"");
            let classic = section.word("checksum", &[("enhanced", false), ("classic", true)]);
            (Protocol::Lin(LinConfig { bit_rate: rate?, classic: classic? }), vec![line?])
        }
        "i2s" => {
            let clock = section.required("clock", "clock = \"BCLK\"");
            let select = section.required("select", "select = \"LRCLK\"");
            let data = section.required("data", "data = \"SDATA\"");
            let bits = small(section, "bits", 16);
            let left = section.word("justified", &[("delayed", false), ("left", true)]);
            let config = I2sConfig { bits, left_justified: left? };
            (Protocol::I2s(config), vec![clock?, select?, data?])
        }
        "mdio" | "swd" => {
            let clock = section.required("clock", "clock = \"MDC\"");
            let data = section.required("data", "data = \"MDIO\"");
            let protocol = if kind.value == "swd" { Protocol::Swd } else { Protocol::Mdio };
            (protocol, vec![clock?, data?])
        }
        "clocked" => read_clocked(section)?,
        "pulses" => read_pulses(section)?,
        "parallel" => {
            let data = section.list("data");
            if data.is_none() {
                section.missing("data", "data = \"DATA\"");
            }
            let address = section.list("address").map(|list| list.value);
            groups = [data?.value, address.unwrap_or_default()];
            read_parallel(section)?
        }
        other => {
            let help = suggest(other, Protocol::NAMES, "kind of bus");
            section.refuse(&kind.place, format!("'{other}' is not a kind of bus"), help);
            return None;
        }
    };
    let ends = read_transfer_ends(section);
    // Of a parallel bus, the widths are known with its lines.
    let limited = Some(&protocol).filter(|protocol| !matches!(protocol, Protocol::Parallel(_)));
    let names = field_names(section, &read_field_names(section), protocol.words().iter().copied(), limited);
    Some(DraftSerial { name: name?, protocol, lines, groups, ends, names })
}

/// What ends a transfer, beside what does so by its protocol.
fn read_transfer_ends(section: &Section<'_>) -> TransferEnds {
    let mut ends = TransferEnds::default();
    if let Some(gap) = section.parsed::<Time>("transfer-gap") {
        if gap.value <= Time::ZERO {
            section.refuse(&gap.place, "this gap is none", "give the longest rest within a transfer");
        }
        ends = ends.gap(gap.value);
    }
    if let Some(value) = section.count("transfer-end") {
        ends = ends.value(value.value);
    }
    if let Some(length) = section.count("transfer-length") {
        let known = u32::try_from(length.value).ok().filter(|length| *length > 0);
        if known.is_none() {
            section.refuse(
                &length.place,
                "a transfer has one value or more",
                "give the number of its values",
            );
        }
        ends = ends.length(known.unwrap_or(1));
    }
    ends
}

/// One of two levels, or none where the key is not given.
fn level(section: &Section<'_>, key: &'static str) -> Option<Option<Level>> {
    match section.text(key) {
        None => Some(None),
        Some(_) => section.word(key, &LOW_FIRST).map(Some),
    }
}

/// The bit rate, which must be there.
fn bit_rate(section: &Section<'_>, example: &str) -> Option<Frequency> {
    let rate = section.parsed::<Frequency>("bit-rate");
    // One that cannot be understood is told by itself.
    if rate.is_none() && !section.has("bit-rate") {
        section.missing("bit-rate", example);
    }
    rate.map(|rate| rate.value)
}

/// A small whole number, or a usual one when none is given.
fn small(section: &Section<'_>, key: &'static str, usual: u32) -> u32 {
    let number = section.count(key).map_or(u64::from(usual), |number| number.value);
    u32::try_from(number).unwrap_or(u32::MAX)
}

fn read_uart(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let line = section.required("line", "line = \"CONSOLE_TX\"");
    let auto = section.text_is("bit-rate", "auto");
    let bit_rate = if auto { Some(None) } else { bit_rate(section, "bit-rate = \"115.2 kHz\"").map(Some) };
    let data_bits = small(section, "data-bits", 8);
    let parity = section.word("parity", &PARITIES);
    let stops = [("1", StopBits::One), ("1.5", StopBits::OneAndHalf), ("2", StopBits::Two)];
    let stop_bits = section.word("stop-bits", &stops);
    let inverted = section.flag("inverted").unwrap_or(false);
    let order = section.word("order", &LOWEST_FIRST);
    let config = UartConfig {
        bit_rate: bit_rate?,
        data_bits,
        parity: parity?,
        stop_bits: stop_bits?,
        inverted,
        order: order?,
    };
    Some((Protocol::Uart(config), vec![line?]))
}

fn read_spi(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let clock = section.required("clock", "clock = \"SCLK\"");
    let select = section.text("select");
    let active = section.word("select-active", &LOW_FIRST);
    let dual = section.list("dual").map(|list| list.value);
    let (mosi, miso) = match dual.as_deref() {
        Some([higher, lower]) => (Some(higher.clone()), Some(lower.clone())),
        Some(_) => {
            section
                .complain("dual data has two lines", "give dual = [\"IO1\", \"IO0\"], the higher bit first");
            return None;
        }
        None => (section.text("mosi"), section.text("miso")),
    };
    let (mode, bits) = (small(section, "mode", 0), small(section, "bits", 8));
    let order = section.word("order", &HIGHEST_FIRST);
    let gap = section.parsed::<Time>("gap").map(|gap| gap.value);
    let data = match (&mosi, &miso) {
        (Some(_), Some(_)) if dual.is_some() => SpiData::Dual,
        (Some(_), Some(_)) => SpiData::Both,
        (Some(_), None) => SpiData::Mosi,
        (None, Some(_)) => SpiData::Miso,
        (None, None) => {
            section.complain("this bus has no data line", "give mosi = \"LINE\", miso = \"LINE\", or both");
            return None;
        }
    };
    if select.is_none() && gap.is_none() {
        let help = "give select = \"LINE\", or gap = \"10 us\": how long the clock rests between words";
        section.complain("nothing says where a word of this bus begins", help);
        return None;
    }
    let config = SpiConfig {
        mode: u8::try_from(mode).unwrap_or(u8::MAX),
        bits,
        order: order?,
        select: select.is_some().then_some(active?),
        data,
        gap,
    };
    let lines = std::iter::once(clock?).chain(select).chain(mosi).chain(miso);
    Some((Protocol::Spi(config), lines.collect()))
}

fn read_can(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let line = section.required("line", "line = \"CAN_RX\"");
    let usual = CanConfig::new(bit_rate(section, "bit-rate = \"250 kHz\"")?);
    let sample_point = section.parsed::<Percent>("sample-point").map(|point| point.value);
    let config = CanConfig {
        sample_point: sample_point.unwrap_or(usual.sample_point),
        inverted: section.flag("inverted").unwrap_or(false),
        data_bit_rate: section.parsed::<Frequency>("data-bit-rate").map(|rate| rate.value),
        ..usual
    };
    Some((Protocol::Can(config), vec![line?]))
}

fn read_jtag(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let clock = section.required("tck", "tck = \"TCK\"");
    let mode = section.required("tms", "tms = \"TMS\"");
    let (to, from, reset) = (section.text("tdi"), section.text("tdo"), section.text("trst"));
    let chain = section.numbers("chain", 0..=u32::MAX).unwrap_or_default();
    let data = match (&to, &from) {
        (Some(_), Some(_)) => JtagData::Both,
        (Some(_), None) => JtagData::Tdi,
        (None, Some(_)) => JtagData::Tdo,
        (None, None) => {
            section.complain("this bus has no data line", "give tdi = \"LINE\", tdo = \"LINE\", or both");
            return None;
        }
    };
    let config = JtagConfig { chain, data, reset: reset.is_some() };
    let lines = [clock?, mode?].into_iter().chain(to).chain(from).chain(reset);
    Some((Protocol::Jtag(config), lines.collect()))
}

fn read_clocked(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let clock = section.required("clock", "clock = \"CLK\"");
    let data = section.required("data", "data = \"DATA\"");
    let enable = section.text("enable");
    let active = section.word("enable-active", &HIGH_FIRST);
    let rising = section.word("edge", &[("rises", true), ("falls", false)]);
    let bits = small(section, "bits", 8);
    let order = section.word("order", &HIGHEST_FIRST);
    let (start, stop) = (level(section, "start"), level(section, "stop"));
    let parity = section.word("parity", &PARITIES);
    let gap = section.parsed::<Time>("gap").map(|gap| gap.value);
    if enable.is_none() && gap.is_none() && start == Some(None) {
        let help = "give enable = \"LINE\", start = \"low\", or gap = \"100 us\": how long the clock rests at \
                    least between words";
        section.complain("nothing says where a word of this bus begins", help);
        return None;
    }
    let config = ClockedConfig {
        rising: rising?,
        bits,
        order: order?,
        start: start?,
        parity: parity?,
        stop: stop?,
        enable: enable.is_some().then_some(active?),
        gap,
    };
    Some((Protocol::Clocked(config), [clock?, data?].into_iter().chain(enable).collect()))
}

fn read_pulses(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let line = section.required("line", "line = \"LAMPS\"");
    let threshold = section.parsed::<Time>("threshold");
    if threshold.is_none() {
        section.missing("threshold", "threshold = \"600 ns\"");
    }
    let rest = section.parsed::<Time>("rest");
    if rest.is_none() {
        section.missing("rest", "rest = \"50 us\"");
    }
    let config = PulsesConfig {
        threshold: threshold?.value,
        rest: rest?.value,
        bits: small(section, "bits", 24),
        order: section.word("order", &HIGHEST_FIRST)?,
        inverted: section.flag("inverted").unwrap_or(false),
    };
    Some((Protocol::Pulses(config), vec![line?]))
}

/// All but the numbers of data and address lines, which are known with the buses.
fn read_parallel(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let clock = section.text("clock");
    let (write, read) = (section.text("write"), section.text("read"));
    let (select, latch) = (section.text("select"), section.text("latch"));
    let rising = section.word("edge", &[("rises", true), ("falls", false)]);
    let write_active = section.word("write-active", &LOW_FIRST);
    let read_active = section.word("read-active", &LOW_FIRST);
    let select_active = section.word("select-active", &LOW_FIRST);
    let latch_active = section.word("latch-active", &HIGH_FIRST);
    if clock.is_some() == (write.is_some() || read.is_some()) {
        let help = "give clock = \"LINE\" for a word with each edge, or write = \"LINE\" and read = \"LINE\" for \
                    memory cycles";
        section.complain("a parallel bus has either a clock or strobes", help);
        return None;
    }
    let strobes = match clock {
        Some(_) => Strobes::Clock(rising?),
        None => Strobes::Cycles {
            write: write.is_some().then_some(write_active?),
            read: read.is_some().then_some(read_active?),
        },
    };
    let config = ParallelConfig {
        strobes,
        select: select.is_some().then_some(select_active?),
        latch: latch.is_some().then_some(latch_active?),
        data: 0,
        address: 0,
    };
    let lines = clock.into_iter().chain(write).chain(read).chain(select).chain(latch);
    Some((Protocol::Parallel(config), lines.collect()))
}
