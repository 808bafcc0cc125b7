//! The decoders that come along, by what they decode.

use super::{
    Can, CanConfig, Clocked, ClockedConfig, Decoder, I2c, I2cConfig, Jtag, JtagConfig, OneWire, Parallel,
    ParallelConfig, Pulses, PulsesConfig, Spi, SpiConfig, Uart, UartConfig,
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
        }
    }

    /// Bits per second, where the time that they take is what tells them apart.
    pub fn bit_rate(&self) -> Option<Frequency> {
        match self {
            Protocol::Uart(config) => config.bit_rate,
            Protocol::Can(config) => Some(config.bit_rate),
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
        })
    }
}
