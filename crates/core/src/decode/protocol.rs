//! The decoders that come along, by what they decode.

use super::{
    Can, CanConfig, Clocked, ClockedConfig, Decoder, I2c, I2cConfig, I2s, I2sConfig, Jtag, JtagConfig, Lin,
    LinConfig, Mdio, OneWire, Parallel, ParallelConfig, Pulses, PulsesConfig, Spi, SpiConfig, Swd, Uart,
    UartConfig,
};
use crate::error::Result;
use crate::time::{Frequency, TimeBase};

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
}

impl Protocol {
    /// What it is called in a setup.
    pub fn name(&self) -> &'static str {
        match self {
            Protocol::Uart(_) => "uart",
            Protocol::I2c(_) => "i2c",
            Protocol::Spi(_) => "spi",
            Protocol::Can(_) => "can",
            Protocol::Jtag(_) => "jtag",
            Protocol::OneWire => "one-wire",
            Protocol::Clocked(_) => "clocked",
            Protocol::Pulses(_) => "pulses",
            Protocol::Parallel(_) => "parallel",
            Protocol::Lin(_) => "lin",
            Protocol::I2s(_) => "i2s",
            Protocol::Mdio => "mdio",
            Protocol::Swd => "swd",
        }
    }

    /// Bits per second, where the time that they take is what tells them apart.
    pub fn bit_rate(&self) -> Option<Frequency> {
        match self {
            Protocol::Uart(config) => config.bit_rate,
            Protocol::Can(config) => Some(config.bit_rate),
            Protocol::Lin(config) => Some(config.bit_rate),
            _ => None,
        }
    }

    /// The words of its frames: kinds, fields, faults.
    pub fn words(&self) -> &'static [&'static str] {
        match self {
            Protocol::Uart(_) => Uart::WORDS,
            Protocol::I2c(_) => I2c::WORDS,
            Protocol::Spi(_) => Spi::WORDS,
            Protocol::Can(_) => Can::WORDS,
            Protocol::Jtag(_) => Jtag::WORDS,
            Protocol::OneWire => OneWire::WORDS,
            Protocol::Clocked(_) => Clocked::WORDS,
            Protocol::Pulses(_) => Pulses::WORDS,
            Protocol::Parallel(_) => Parallel::WORDS,
            Protocol::Lin(_) => Lin::WORDS,
            Protocol::I2s(_) => I2s::WORDS,
            Protocol::Mdio => Mdio::WORDS,
            Protocol::Swd => Swd::WORDS,
        }
    }

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// When the settings are wrong, or the record too slow for them.
    pub fn decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
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
        })
    }
}
