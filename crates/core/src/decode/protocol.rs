//! The decoders that come along, by what they decode.

use super::{Decoder, I2c, Spi, SpiConfig, Uart, UartConfig};
use crate::error::Result;
use crate::time::TimeBase;

/// What is spoken on a bus, with its settings.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Protocol {
    /// Asynchronous serial, one direction.
    Uart(UartConfig),
    /// The two-wire bus of UM10204.
    I2c,
    /// Clocked serial with a select.
    Spi(SpiConfig),
}

impl Protocol {
    /// What it is called in a setup.
    pub fn name(&self) -> &'static str {
        match self {
            Protocol::Uart(_) => "uart",
            Protocol::I2c => "i2c",
            Protocol::Spi(_) => "spi",
        }
    }

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// When the settings are wrong, or the record too slow for them.
    pub fn decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
        Ok(match self {
            Protocol::Uart(config) => Box::new(Uart::new(*config, base)?),
            Protocol::I2c => Box::new(I2c::new()),
            Protocol::Spi(config) => Box::new(Spi::new(*config, base)?),
        })
    }
}
