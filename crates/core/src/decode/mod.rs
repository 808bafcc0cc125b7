//! Serial buses: from edges to frames.
//!
//! Each [`Protocol`] makes a [`Decoder`](crate::bus::Decoder), which finds
//! [frames](crate::bus::Frame).
//!
//! The same decoder works on stored captures ([`decode`]) and on samples as they arrive
//! ([`StreamDecoder`]); what it finds does not depend on how the samples are cut. One of your own
//! plugs in through [`Protocol::Custom`].

/// Settings that are given one after the other.
macro_rules! settable {
    ($name:ident { $($field:ident: $kind:ty),* }) => {
        impl $name {
            $(
                #[doc = concat!("The same with this for [`", stringify!($field), "`](field@Self::", stringify!($field), ").")]
                #[must_use]
                pub fn $field(mut self, value: $kind) -> Self {
                    self.$field = value;
                    self
                }
            )*
        }
    };
}

mod can;
mod certain;
mod clocked;
mod field_names;
mod finer;
mod i2c;
mod i2s;
mod jtag;
mod lin;
mod mdio;
mod one_wire;
mod pace;
mod parallel;
mod pick;
mod protocol;
mod pulses;
mod registers;
mod run;
mod serial;
mod spi;
mod spikes;
mod statistics;
mod swd;
mod tempo;
#[cfg(test)]
mod tests;
mod transfers;
mod uart;
mod window;

pub use can::{Can, CanConfig};
pub use clocked::{Clocked, ClockedConfig};
pub use field_names::FieldNames;
pub use i2c::{I2c, I2cAddresses, I2cConfig};
pub use i2s::{I2s, I2sConfig};
pub use jtag::{Jtag, JtagConfig, JtagData};
pub use lin::{Lin, LinConfig};
pub use mdio::Mdio;
pub use one_wire::OneWire;
pub use parallel::{Parallel, ParallelConfig, Strobes};
pub use pick::{Pick, Picked};
pub use protocol::{Custom, CustomProtocol, Protocol};
pub use pulses::{Pulses, PulsesConfig};
pub use registers::{Access, Coding, Register, Registers};
pub(crate) use run::Onward;
pub use run::{StreamDecoder, decode};
pub use serial::SerialBus;
pub use spi::{Spi, SpiConfig, SpiData};
pub use statistics::{FrameStatistics, Gaps};
pub use swd::Swd;
pub use transfers::TransferEnds;
pub use uart::{Parity, StopBits, Uart, UartConfig};
pub use window::Frames;
pub(crate) use window::{Reading, Reads};
