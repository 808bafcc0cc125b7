//! Serial buses: from edges to frames.
//!
//! A [`Decoder`] is a state machine that is told of every change of its lines, in order of time, and
//! of time that passes without one. What it finds are [`Frame`]s: stretches with named
//! [fields](Field), and [faults](Fault) where the bus does not do what its standard says. A fault on
//! the wire is data, never an error.
//!
//! The same decoder works on stored captures ([`decode`]) and on samples as they arrive
//! ([`StreamDecoder`]); what it finds does not depend on how the samples are cut. One of your own
//! plugs in through the trait.

mod bus;
mod can;
mod clocked;
mod frame;
mod i2c;
mod i2s;
mod jtag;
mod lin;
mod mdio;
mod one_wire;
mod pace;
mod parallel;
mod protocol;
mod pulses;
mod registers;
mod run;
mod spi;
mod statistics;
mod swd;
mod uart;

pub use bus::{EventReader, SerialBus};
pub use can::{Can, CanConfig};
pub use clocked::{Clocked, ClockedConfig};
pub use frame::{Fault, Field, FieldKind, Frame};
pub use i2c::{I2c, I2cConfig};
pub use i2s::{I2s, I2sConfig};
pub use jtag::{Jtag, JtagConfig};
pub use lin::{Lin, LinConfig};
pub use mdio::Mdio;
pub use one_wire::OneWire;
pub use parallel::{Parallel, ParallelConfig, Strobes};
pub use protocol::Protocol;
pub use pulses::{Pulses, PulsesConfig};
pub use registers::{Access, Coding, Register, Registers};
pub use run::{Frames, StreamDecoder, decode};
pub use spi::{Spi, SpiConfig};
pub use statistics::{Gaps, Statistics};
pub use swd::Swd;
pub use uart::{Parity, StopBits, Uart, UartConfig};

use std::fmt;
use std::ops::ControlFlow;

use crate::line::Level;
use crate::time::Tick;

/// The levels of a decoder's lines, in its own order.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Levels {
    /// A one for each line that is high.
    pub high: u64,
    /// A one for each line whose level is not known.
    pub unknown: u64,
}

impl Levels {
    /// The level of a line, counted from 0.
    pub fn level(self, line: usize) -> Level {
        let bit = |word: u64| word.checked_shr(line as u32).unwrap_or(0) & 1 == 1;
        if bit(self.unknown) { Level::Unknown } else { Level::from(bit(self.high)) }
    }

    /// The same with another level for one line.
    #[must_use]
    pub fn with(self, line: usize, level: Level) -> Levels {
        let bit = 1u64.checked_shl(line as u32).unwrap_or(0);
        Levels {
            high: if level == Level::High { self.high | bit } else { self.high & !bit },
            unknown: if level == Level::Unknown { self.unknown | bit } else { self.unknown & !bit },
        }
    }
}

/// Takes what a decoder finds, in order of the frames' ends, and may say stop.
pub trait FrameSink {
    /// The next frame.
    fn frame(&mut self, frame: Frame) -> ControlFlow<()>;
}

/// Keeps all frames.
impl FrameSink for Vec<Frame> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.push(frame);
        ControlFlow::Continue(())
    }
}

/// A bus as a state machine over the changes of its lines.
///
/// For who implements it: `begin` comes first and once, then any number of `change` and `pass` with
/// rising ticks, then `end`. A frame is given out as soon as it is certain, at the latest with the
/// call whose tick lies behind its end: a frame that is known by a time that passes ends when that
/// is over. What is given out must depend on the levels over time only,
/// not on how often `pass` is called. Nothing panics on any sequence of levels.
///
/// `examples/own_decoder.rs` is a complete implementation.
pub trait Decoder: fmt::Debug + Send {
    /// How many lines it looks at, at most 64.
    fn lines(&self) -> usize;

    /// The levels at the first tick.
    fn begin(&mut self, at: Tick, levels: Levels);

    /// At this tick, at least one line has another level than before.
    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()>;

    /// The next tick by which it may give a frame out although nothing changes; `None` where only
    /// changes do that. Long stretches without a change are skipped up to there. Who has time in
    /// [`pass`](Decoder::pass) must have it here, too.
    fn due(&self) -> Option<Tick> {
        None
    }

    /// Up to before this tick, nothing has changed.
    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let _ = (until, out);
        ControlFlow::Continue(())
    }

    /// The record ends before this tick: what is under way is cut off.
    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()>;
}
