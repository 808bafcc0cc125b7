//! The sections of serial buses: their settings, and the lines they name.

use crate::decode::{Parity, Protocol, SpiConfig, StopBits, UartConfig};
use crate::error::{Error, ErrorKind, Place, suggest};
use crate::line::Level;
use crate::time::{Frequency, Time};

use super::reader::{Placed, Section};

/// A serial bus as written: its name, what is spoken, and the names of the lines.
#[derive(Clone, Debug)]
pub(super) struct DraftSerial {
    pub(super) name: Placed<String>,
    pub(super) protocol: Protocol,
    pub(super) lines: Vec<Placed<String>>,
}

const KINDS: [&str; 3] = ["uart", "i2c", "spi"];

/// Reads a section that has a `kind`.
pub(super) fn read_serial(section: &Section<'_>, kind: &Placed<String>) -> Option<DraftSerial> {
    let name = section.required("name", "name = \"console\"");
    let (protocol, lines) = match kind.value.as_str() {
        "uart" => read_uart(section)?,
        "i2c" => {
            let clock = section.required("clock", "clock = \"SCL\"");
            let data = section.required("data", "data = \"SDA\"");
            (Protocol::I2c, vec![clock?, data?])
        }
        "spi" => read_spi(section)?,
        other => {
            let error = Error::new(ErrorKind::Setup, format!("'{other}' is not a kind of bus"));
            let error = error.with_help(suggest(other, KINDS, "kind of bus"));
            section.reader.report(error.at(Place::Text(kind.place.clone())));
            return None;
        }
    };
    Some(DraftSerial { name: name?, protocol, lines })
}

/// One of several words, or the first of them when none is given.
fn choice<T: Copy>(section: &Section<'_>, key: &'static str, words: &[(&str, T)]) -> Option<T> {
    let Some(text) = section.text(key) else { return words.first().map(|(_, value)| *value) };
    let found = words.iter().find(|(word, _)| *word == text.value).map(|(_, value)| *value);
    if found.is_none() {
        let known: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
        let error = Error::new(ErrorKind::Setup, format!("'{}' is none of the words for {key}", text.value));
        let error = error.with_help(format!("it is one of: {}", known.join(", ")));
        section.reader.report(error.at(Place::Text(text.place)));
    }
    found
}

/// A small whole number, or a usual one when none is given.
fn small(section: &Section<'_>, key: &'static str, usual: u32) -> Option<u32> {
    match section.number_or_text(key) {
        None => Some(usual),
        Some(Placed { value: Ok(number), .. }) => Some(number),
        Some(Placed { place, .. }) => {
            let error = Error::new(ErrorKind::Setup, format!("{key} is a number"));
            section.reader.report(error.with_help(format!("write {key} = {usual}")).at(Place::Text(place)));
            None
        }
    }
}

fn read_uart(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let line = section.required("line", "line = \"CONSOLE_TX\"");
    let bit_rate = section.parsed::<Frequency>("bit-rate");
    if bit_rate.is_none() {
        section.missing("bit-rate", "bit-rate = \"115.2 kHz\"");
    }
    let data_bits = small(section, "data-bits", 8);
    let parities = [
        ("none", Parity::None),
        ("even", Parity::Even),
        ("odd", Parity::Odd),
        ("mark", Parity::Mark),
        ("space", Parity::Space),
    ];
    let parity = choice(section, "parity", &parities);
    let stops = [("1", StopBits::One), ("1.5", StopBits::OneAndHalf), ("2", StopBits::Two)];
    let stop_bits = choice(section, "stop-bits", &stops);
    let inverted = section.flag("inverted").unwrap_or(false);
    let highest_first = choice(section, "order", &[("lowest-first", false), ("highest-first", true)]);
    let config = UartConfig {
        bit_rate: bit_rate?.value,
        data_bits: data_bits?,
        parity: parity?,
        stop_bits: stop_bits?,
        inverted,
        highest_first: highest_first?,
    };
    Some((Protocol::Uart(config), vec![line?]))
}

fn read_spi(section: &Section<'_>) -> Option<(Protocol, Vec<Placed<String>>)> {
    let clock = section.required("clock", "clock = \"SCLK\"");
    let select = section.text("select");
    let active = choice(section, "select-active", &[("low", Level::Low), ("high", Level::High)]);
    let (mosi, miso) = (section.text("mosi"), section.text("miso"));
    let (mode, bits) = (small(section, "mode", 0), small(section, "bits", 8));
    let lowest_first = choice(section, "order", &[("highest-first", false), ("lowest-first", true)]);
    let gap = section.parsed::<Time>("gap").map(|gap| gap.value);
    let wrong = |message: &str, help: &str| {
        let error = Error::new(ErrorKind::Setup, message).with_help(help);
        section.reader.report(error.at(Place::Text(section.place())));
    };
    if mosi.is_none() && miso.is_none() {
        wrong("this bus has no data line", "give mosi = \"LINE\", miso = \"LINE\", or both");
        return None;
    }
    if select.is_none() && gap.is_none() {
        let help = "give select = \"LINE\", or gap = \"10 us\": how long the clock rests between words";
        wrong("nothing says where a word of this bus begins", help);
        return None;
    }
    let config = SpiConfig {
        mode: u8::try_from(mode?).unwrap_or(u8::MAX),
        bits: bits?,
        lowest_first: lowest_first?,
        select: select.is_some().then_some(active?),
        data: (mosi.is_some(), miso.is_some()),
        gap,
    };
    let lines = std::iter::once(clock?).chain(select).chain(mosi).chain(miso);
    Some((Protocol::Spi(config), lines.collect()))
}
