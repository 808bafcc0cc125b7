//! Bench files: a board composed of the device models, its faults, and the instrument on it.

use std::ops::Range;
use std::str::FromStr;
use std::sync::Arc;

use deep_tap_core::line::VoltageRange;
use deep_tap_core::quantity::{Frequency, Percent, Rate, SampleCount, Time, Voltage};
use deep_tap_core::{Error, ErrorKind, Place, TextPlace};
use serde::{Deserialize, Deserializer};
use toml::Spanned;

/// A quantity with its unit, as text.
pub(super) struct Given<T>(pub(super) T);

impl<'de, T: FromStr<Err = Error>> Deserialize<'de> for Given<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map(Given).map_err(|error: Error| {
            let help = error.help().map(|help| format!(" ({help})")).unwrap_or_default();
            serde::de::Error::custom(format!("{}{help}", error.message()))
        })
    }
}

pub(super) type Name = Spanned<String>;

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct BenchFile {
    pub(super) title: String,
    #[serde(default)]
    pub(super) faults: Vec<Spanned<String>>,
    pub(super) instrument: Option<Spanned<FileInstrument>>,
    pub(super) node: Vec<FileNode>,
    #[serde(default)]
    pub(super) clock: Vec<FileSquare>,
    #[serde(default)]
    pub(super) pwm: Vec<FileSquare>,
    #[serde(default)]
    pub(super) rail: Vec<FileRail>,
    #[serde(default)]
    pub(super) steps: Vec<FileSteps>,
    #[serde(default)]
    pub(super) sequencer: Vec<FileSequencer>,
    #[serde(default)]
    pub(super) pulse: Vec<FilePulse>,
    #[serde(default)]
    pub(super) uart: Vec<FileSender>,
    #[serde(default)]
    pub(super) spi: Vec<FileShifter>,
    #[serde(default)]
    pub(super) memory: Vec<FileWriter>,
    #[serde(default)]
    pub(super) i2c: Vec<FileI2c>,
    #[serde(default)]
    pub(super) can: Vec<FileCan>,
    #[serde(default)]
    pub(super) jtag: Vec<FileJtag>,
    #[serde(default)]
    pub(super) one_wire: Vec<FileOneWire>,
    #[serde(default)]
    pub(super) lights: Vec<FileLights>,
}

/// An instrument of one's own, with one bank of equal inputs.
#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileInstrument {
    pub(super) name: String,
    pub(super) inputs: u32,
    pub(super) thresholds: Given<VoltageRange>,
    pub(super) threshold_step: Option<Given<Voltage>>,
    pub(super) highest: Given<Voltage>,
    #[serde(default)]
    pub(super) rates: Vec<Given<Rate>>,
    pub(super) memory: Option<Given<SampleCount>>,
    #[serde(default)]
    pub(super) stream_rates: Vec<Given<Rate>>,
    /// Inputs of the fastest rates, and of all.
    pub(super) inputs_at_once: Option<u32>,
    pub(super) trigger_levels: Option<u32>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileNode {
    pub(super) name: Name,
    pub(super) low: Option<Given<Voltage>>,
    pub(super) high: Option<Given<Voltage>>,
    /// Straight edges, or the time constant of a resistor and a capacitor.
    pub(super) rise: Option<Given<Time>>,
    pub(super) fall: Option<Given<Time>>,
    pub(super) rise_rc: Option<Given<Time>>,
    pub(super) fall_rc: Option<Given<Time>>,
    #[serde(default)]
    pub(super) analog: bool,
    #[serde(default)]
    pub(super) rests_high: bool,
    /// The instrument's output that drives it.
    pub(super) output: Option<u32>,
    /// The node that it follows, and how much later.
    pub(super) follows: Option<Name>,
    pub(super) after: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileSquare {
    pub(super) node: Name,
    pub(super) frequency: Spanned<Given<Frequency>>,
    pub(super) duty: Option<Given<Percent>>,
    pub(super) jitter: Option<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
    pub(super) until: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileRail {
    pub(super) node: Name,
    pub(super) volts: Given<Voltage>,
    pub(super) at: Given<Time>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileSteps {
    pub(super) node: Name,
    pub(super) volts: Vec<Given<Voltage>>,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
    #[serde(default = "yes")]
    pub(super) again: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileSequencer {
    pub(super) nodes: Vec<Name>,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
    #[serde(default = "yes")]
    pub(super) again: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FilePulse {
    pub(super) node: Name,
    pub(super) at: Given<Time>,
    pub(super) width: Given<Time>,
    #[serde(default = "yes")]
    pub(super) high: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileSender {
    pub(super) node: Name,
    /// Bits per second, in hertz.
    pub(super) bit_rate: Spanned<Given<Frequency>>,
    /// How far off the rate is.
    pub(super) rate_error: Option<Given<Percent>>,
    pub(super) text: Option<String>,
    #[serde(default)]
    pub(super) bytes: Vec<u8>,
    pub(super) data_bits: Option<u32>,
    pub(super) parity: Option<Spanned<String>>,
    pub(super) stop_bits: Option<u64>,
    pub(super) every: Option<Spanned<Given<Time>>>,
    pub(super) start: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileShifter {
    pub(super) clock: Name,
    pub(super) data: Name,
    pub(super) select: Name,
    pub(super) bit_rate: Spanned<Given<Frequency>>,
    pub(super) words: Vec<u64>,
    pub(super) bits: Spanned<u32>,
    #[serde(default)]
    pub(super) mode: u8,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileWriter {
    pub(super) address: Vec<Name>,
    pub(super) data: Vec<Name>,
    pub(super) write: Name,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) setup: Given<Time>,
    pub(super) pulse: Given<Time>,
    pub(super) hold: Given<Time>,
    pub(super) start: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileI2c {
    pub(super) clock: Name,
    pub(super) data: Name,
    pub(super) bit_rate: Spanned<Given<Frequency>>,
    pub(super) address: Spanned<u8>,
    #[serde(default)]
    pub(super) write: Vec<u8>,
    #[serde(default)]
    pub(super) read: Vec<u8>,
    /// Every so many transactions the target does not answer.
    pub(super) missing: Option<u64>,
    /// How long the target holds the clock.
    pub(super) stretch: Option<Given<Time>>,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileCan {
    pub(super) node: Name,
    pub(super) bit_rate: Spanned<Given<Frequency>>,
    pub(super) rate_error: Option<Given<Percent>>,
    pub(super) identifier: Spanned<u32>,
    #[serde(default)]
    pub(super) extended: bool,
    #[serde(default)]
    pub(super) data: Vec<u8>,
    #[serde(default = "yes")]
    pub(super) acknowledged: bool,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileJtag {
    pub(super) tck: Name,
    pub(super) tms: Name,
    pub(super) tdi: Name,
    pub(super) tdo: Name,
    pub(super) bit_rate: Spanned<Given<Frequency>>,
    pub(super) instruction: u64,
    pub(super) instruction_bits: Spanned<u32>,
    pub(super) data_in: u64,
    pub(super) data_out: u64,
    pub(super) data_bits: Spanned<u32>,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileOneWire {
    pub(super) node: Name,
    #[serde(default)]
    pub(super) bytes: Vec<u8>,
    #[serde(default = "yes")]
    pub(super) present: bool,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct FileLights {
    pub(super) node: Name,
    pub(super) bytes: Vec<u8>,
    pub(super) period: Given<Time>,
    pub(super) zero: Given<Time>,
    pub(super) one: Given<Time>,
    pub(super) every: Spanned<Given<Time>>,
    pub(super) start: Option<Given<Time>>,
}

fn yes() -> bool {
    true
}

/// The text of a file, for messages.
pub(super) struct Source {
    pub(super) name: Arc<str>,
    pub(super) text: Arc<str>,
}

impl Source {
    pub(super) fn wrong(
        &self,
        span: Range<usize>,
        message: impl Into<String>,
        help: impl Into<String>,
    ) -> Error {
        let place = TextPlace { name: Arc::clone(&self.name), text: Arc::clone(&self.text), span };
        Error::new(ErrorKind::Setup, message).with_help(help).at(Place::Text(place))
    }
}
