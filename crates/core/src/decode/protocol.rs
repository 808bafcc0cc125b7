//! The table of protocols: what each is called, what lines and words it has, and its decoder.

use std::fmt;
use std::sync::Arc;

use super::certain::Certain;
use super::finer::Finer;
use super::spikes::Spikes;
use super::tempo::Beat;
use super::{
    Can, CanConfig, Clocked, ClockedConfig, I2c, I2cConfig, I2s, I2sConfig, Jtag, JtagConfig, Lin, LinConfig,
    Mdio, OneWire, Parallel, ParallelConfig, Pulses, PulsesConfig, Spi, SpiConfig, Strobes, Swd, Uart,
    UartConfig,
};
use crate::bus::Decoder;
use crate::error::Result;
use crate::known::Precedence;
use crate::quantity::{Frequency, Rational, Time};
use crate::time::TimeBase;

/// What is spoken on a bus, with its settings.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Protocol {
    /// Asynchronous serial, one direction.
    Uart(UartConfig),
    /// The two-wire bus of UM10204.
    I2c(I2cConfig),
    /// Clocked serial with a select.
    Spi(SpiConfig),
    /// The controller area network.
    Can(CanConfig),
    /// The test access port of IEEE 1149.1.
    Jtag(JtagConfig),
    /// One line with a pull-up.
    OneWire,
    /// Plain clock and data.
    Clocked(ClockedConfig),
    /// Bits as pulses of two widths.
    Pulses(PulsesConfig),
    /// Parallel words and memory cycles.
    Parallel(ParallelConfig),
    /// The local interconnect network.
    Lin(LinConfig),
    /// Inter-chip sound.
    I2s(I2sConfig),
    /// Management of Ethernet transceivers.
    Mdio,
    /// Serial wire debug.
    Swd,
    /// One of your own.
    Custom(Custom),
}

/// A protocol of your own: everything that works on buses then works on it, too.
///
/// `examples/own_decoder.rs` is a complete implementation.
pub trait CustomProtocol: fmt::Debug + Send + Sync {
    /// What it is called.
    fn name(&self) -> &'static str;

    /// The roles of its lines, in the order in which its decoder asks for them.
    fn roles(&self) -> &[&'static str];

    /// The words that tests of its frames may use: names of fields, kinds of frames, kinds of faults.
    fn words(&self) -> &[&'static str];

    /// The names of the instants that its decoder tells of. `end`, of any frame, needs no telling.
    fn marks(&self) -> &'static [&'static str] {
        &["end"]
    }

    /// Bits of the widest value that a field of this name can have, where that is known: tests that ask for more are
    /// errors.
    fn widest(&self, field: &str) -> Option<u32> {
        let _ = field;
        None
    }

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// When the settings are wrong, or the record too slow for them.
    fn decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>>;

    /// A decoder that says by itself which of its frames are certain, in a record whose edges have this order. By
    /// default, that is worked out from where the decoder says that it looks.
    ///
    /// # Errors
    /// As [`decoder`](CustomProtocol::decoder).
    fn certain_decoder(&self, base: TimeBase, order: Precedence) -> Option<Result<Box<dyn Decoder>>> {
        let _ = (base, order);
        None
    }
}

/// A protocol of your own, shared. Two are the same when they are one.
#[derive(Clone, Debug)]
pub struct Custom(Arc<dyn CustomProtocol>);

impl PartialEq for Custom {
    fn eq(&self, other: &Custom) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl Eq for Custom {}

/// A row of the table.
struct Row<'a> {
    name: &'static str,
    words: &'a [&'static str],
    marks: &'static [&'static str],
    roles: Vec<String>,
    /// Bits per second, where the time that they take is what tells them apart.
    bit_rate: Option<Frequency>,
}

impl Protocol {
    /// The names of the protocols that a setup may name.
    pub const NAMES: [&'static str; 13] = [
        "uart", "i2c", "spi", "can", "jtag", "one-wire", "clocked", "pulses", "parallel", "lin", "i2s",
        "mdio", "swd",
    ];

    /// A protocol of your own.
    pub fn custom(protocol: impl CustomProtocol + 'static) -> Self {
        Protocol::Custom(Custom(Arc::new(protocol)))
    }

    fn row(&self) -> Row<'_> {
        let row = |name, (words, marks): (&'static [&'static str], _), roles: &[&str]| {
            let roles = roles.iter().map(ToString::to_string).collect();
            Row { name, words, marks, roles, bit_rate: None }
        };
        let timed = |name, words, bit_rate| Row { bit_rate, ..row(name, words, &["line"]) };
        let clocked = ["clock", "data"];
        match self {
            Protocol::Uart(config) => timed("uart", (Uart::WORDS, Uart::MARKS), config.bit_rate),
            Protocol::I2c(_) => row("i2c", (I2c::WORDS, I2c::MARKS), &clocked),
            Protocol::Spi(config) => {
                let select = config.select.map(|_| "select");
                let roles = ["clock"].into_iter().chain(select).chain(config.data.roles().iter().copied());
                row("spi", (Spi::WORDS, Spi::MARKS), &roles.collect::<Vec<_>>())
            }
            Protocol::Can(config) => timed("can", (Can::WORDS, Can::MARKS), Some(config.bit_rate)),
            Protocol::Jtag(config) => {
                let data = config.data.roles().iter().copied();
                let roles = ["tck", "tms"].into_iter().chain(data).chain(config.reset.then_some("trst"));
                row("jtag", (Jtag::WORDS, Jtag::MARKS), &roles.collect::<Vec<_>>())
            }
            Protocol::OneWire => row("one-wire", (OneWire::WORDS, OneWire::MARKS), &["line"]),
            Protocol::Clocked(config) => {
                let roles = clocked.into_iter().chain(config.enable.map(|_| "enable"));
                row("clocked", (Clocked::WORDS, Clocked::MARKS), &roles.collect::<Vec<_>>())
            }
            Protocol::Pulses(_) => row("pulses", (Pulses::WORDS, Pulses::MARKS), &["line"]),
            Protocol::Parallel(config) => {
                Row { roles: parallel(config), ..row("parallel", (Parallel::WORDS, Parallel::MARKS), &[]) }
            }
            Protocol::Lin(config) => timed("lin", (Lin::WORDS, Lin::MARKS), Some(config.bit_rate)),
            Protocol::I2s(_) => row("i2s", (I2s::WORDS, I2s::MARKS), &["clock", "select", "data"]),
            Protocol::Mdio => row("mdio", (Mdio::WORDS, Mdio::MARKS), &clocked),
            Protocol::Swd => row("swd", (Swd::WORDS, Swd::MARKS), &clocked),
            Protocol::Custom(own) => {
                Row { words: own.0.words(), ..row(own.0.name(), (&[], own.0.marks()), own.0.roles()) }
            }
        }
    }

    /// What it is called in a setup.
    pub fn name(&self) -> &'static str {
        self.row().name
    }

    /// The roles of its lines, in the decoder's order. Those of parallel data and addresses are numbered
    /// from the lowest: `data0`, `data1`.
    pub fn roles(&self) -> Vec<String> {
        self.row().roles
    }

    /// The words of its frames: kinds, fields, faults.
    pub fn words(&self) -> &[&'static str] {
        self.row().words
    }

    /// The names of its instants: `end` of a frame, `sample` where a bit is taken, and, depending on the
    /// protocol, where one `begin`s, starts, stops, is selected.
    ///
    /// ```
    /// use deep_tap_core::decode::{I2cConfig, Protocol};
    ///
    /// assert!(Protocol::I2c(I2cConfig::default()).marks().contains(&"restart"));
    /// ```
    pub fn marks(&self) -> &'static [&'static str] {
        self.row().marks
    }

    /// Bits of the widest value that a field of this name can have with these settings; `None` where there is no such
    /// field, or any value is possible.
    ///
    /// ```
    /// use deep_tap_core::decode::{Protocol, SpiConfig};
    ///
    /// let spi = Protocol::Spi(SpiConfig::new(0).bits(12));
    /// assert_eq!(spi.widest("mosi"), Some(12));
    /// assert_eq!(spi.widest("address"), None);
    /// ```
    pub fn widest(&self, field: &str) -> Option<u32> {
        Some(match (self, field) {
            (Protocol::Uart(config), "data") => config.data_bits,
            (Protocol::I2c(config), "address") => config.addresses.bits(),
            (Protocol::I2c(_) | Protocol::Can(_) | Protocol::Lin(_), "data") => 8,
            (Protocol::Spi(config), "mosi" | "miso" | "data") => config.bits,
            (Protocol::Can(_), "identifier") => 29,
            // Bytes, up to 64, of a flexible data-rate frame, and the longest of its checksums.
            (Protocol::Can(_), "length") => 7,
            (Protocol::Can(_), "crc") => 21,
            (Protocol::OneWire, "command") => 8,
            (Protocol::Clocked(config), "data") => config.bits,
            (Protocol::Pulses(config), "data") => config.bits,
            (Protocol::Parallel(config), "data") => config.data,
            // With a latch, the data lines carry a part of the address.
            (Protocol::Parallel(config), "address") if config.latch.is_none() => config.address,
            (Protocol::Lin(_), "identifier") => 6,
            (Protocol::Lin(_), "checksum") => 8,
            (Protocol::I2s(config), "data") => config.bits,
            (Protocol::Mdio, "phy" | "register" | "port" | "device") => 5,
            (Protocol::Mdio, "data") => 16,
            (Protocol::Swd, "ack") => 3,
            (Protocol::Swd, "address") => 4,
            (Protocol::Swd, "data") => 32,
            (Protocol::Custom(own), field) => return own.0.widest(field),
            _ => return None,
        })
    }

    /// What may have been meant by a value that a field cannot have.
    pub(crate) fn meant(&self, field: &str, value: u64) -> Option<String> {
        match (self, field) {
            (Protocol::I2c(config), "address") => config.addresses.meant(value),
            _ => None,
        }
    }

    /// Bits per second, where the time that they take is what tells them apart.
    pub fn bit_rate(&self) -> Option<Frequency> {
        self.row().bit_rate
    }

    /// Bits per second, of those that come fastest.
    fn fastest_bits(&self) -> Option<Frequency> {
        match self {
            Protocol::Can(config) => config.data_bit_rate.max(Some(config.bit_rate)),
            _ => self.bit_rate(),
        }
    }

    /// Ticks of rest without which a frame that begins a record is not read: a controller area network is joined
    /// where it is idle (ISO 11898-1, 10.5.1).
    pub(crate) fn rest_before(&self, base: TimeBase) -> u64 {
        /// Eleven recessive bits, and one for what begins and ends between ticks.
        const IDLE: i64 = 12;
        let Protocol::Can(config) = self else { return 0 };
        let bits =
            config.bit_rate.to_rational().recip().and_then(|bit| bit.checked_mul(Rational::from(IDLE)));
        let ticks = bits.and_then(|time| base.ticks_in(Time::from_rational(time))).map(Rational::ceil);
        ticks.and_then(|ticks| u64::try_from(ticks).ok()).unwrap_or(0)
    }

    /// A decoder for records with this time base. A record that is [exact](TimeBase::is_exact) is never too
    /// slow: its ticks are no samples.
    ///
    /// # Errors
    /// When the settings are wrong, or the record too slow for them.
    pub fn decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
        let decoder = match base.is_exact() {
            true => Finer::make(base, self.fastest_bits(), |base| self.decoder_of_ticks(base))?,
            false => self.decoder_of_ticks(base)?,
        };
        Ok(Spikes::watch(decoder, self.beat(base), base))
    }

    /// A decoder that says which of its frames are certain, in a record whose edges have this order. With
    /// `samples`, the places where bits are taken are marks, too.
    pub(super) fn proving(
        &self,
        base: TimeBase,
        order: Precedence,
        samples: bool,
    ) -> Result<Box<dyn Decoder>> {
        if let Protocol::Custom(own) = self
            && let Some(decoder) = own.0.certain_decoder(base, order)
        {
            return decoder;
        }
        Ok(Box::new(Certain::prove(self.decoder(base)?, self.beat(base), order, samples)))
    }

    /// What the length of its shortest pulse is known from.
    fn beat(&self, base: TimeBase) -> Beat {
        match self {
            Protocol::Uart(config) => config.bit_rate.map_or(Beat::Unknown, |rate| Beat::bit(rate, base)),
            Protocol::Can(_) => self.fastest_bits().map_or(Beat::Unknown, |rate| Beat::bit(rate, base)),
            Protocol::Lin(config) => Beat::bit(config.bit_rate, base),
            // The shortest low pulse has a microsecond.
            Protocol::OneWire => Rational::new(1, 1_000_000)
                .map_or(Beat::Unknown, |time| Beat::time(Time::from_rational(time), base)),
            // The shorter of the two pulses has about half of what tells them apart.
            Protocol::Pulses(config) => match config.threshold.to_rational().checked_div(Rational::from(2)) {
                Some(half) => Beat::time(Time::from_rational(half), base),
                None => Beat::Unknown,
            },
            Protocol::Custom(_) => Beat::Unknown,
            Protocol::I2c(_)
            | Protocol::Spi(_)
            | Protocol::Jtag(_)
            | Protocol::Clocked(_)
            | Protocol::Parallel(_)
            | Protocol::I2s(_)
            | Protocol::Mdio
            | Protocol::Swd => Beat::Clock(0),
        }
    }

    fn decoder_of_ticks(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
        Ok(match self {
            Protocol::Uart(config) => Box::new(Uart::new(*config, base)?),
            Protocol::I2c(config) => Box::new(I2c::new(*config)),
            Protocol::Spi(config) => Box::new(Spi::new(*config, base)?),
            Protocol::Can(config) => Box::new(Can::new(*config, base)?),
            Protocol::Jtag(config) => Box::new(Jtag::new(config.clone())?),
            Protocol::OneWire => Box::new(OneWire::new(base)?),
            Protocol::Clocked(config) => Box::new(Clocked::new(*config, base)?),
            Protocol::Pulses(config) => Box::new(Pulses::new(*config, base)?),
            Protocol::Parallel(config) => Box::new(Parallel::new(*config)?),
            Protocol::Lin(config) => Box::new(Lin::new(*config, base)?),
            Protocol::I2s(config) => Box::new(I2s::new(*config)?),
            Protocol::Mdio => Box::new(Mdio::new()),
            Protocol::Swd => Box::new(Swd::new()),
            Protocol::Custom(own) => own.0.decoder(base)?,
        })
    }
}

fn parallel(config: &ParallelConfig) -> Vec<String> {
    let strobes: [Option<&str>; 2] = match config.strobes {
        Strobes::Clock(_) => [Some("clock"), None],
        Strobes::Cycles { write, read } => [write.map(|_| "write"), read.map(|_| "read")],
    };
    let more = [config.select.map(|_| "select"), config.latch.map(|_| "latch")];
    let control = strobes.into_iter().chain(more).flatten().map(str::to_string);
    let data = (0..config.data).map(|bit| format!("data{bit}"));
    control.chain(data).chain((0..config.address).map(|bit| format!("address{bit}"))).collect()
}
