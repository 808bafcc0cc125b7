//! What an instrument sends out while it records.

use crate::quantity::{Frequency, Percent, Time};

/// An output of an instrument.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Output {
    /// What is printed beside it.
    pub name: String,
    /// Fastest pulses it can send; `None` when it sends none.
    pub pulses: Option<Frequency>,
    /// Fastest bit rate at which it can send bytes, in bits per second; `None` when it sends none.
    pub bytes: Option<Frequency>,
}

/// Something to send out during a recording.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stimulus {
    /// The output, by its number.
    pub output: u32,
    /// When it begins.
    pub begins: Begins,
    /// What is sent.
    pub signal: Waveform,
}

/// When a stimulus begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Begins {
    /// So long after the instrument was armed.
    AfterArming(Time),
    /// So long after the trigger, where the instrument itself waits for it.
    AfterTrigger(Time),
}

impl Begins {
    /// How long after.
    pub fn delay(self) -> Time {
        match self {
            Begins::AfterArming(time) | Begins::AfterTrigger(time) => time,
        }
    }
}

/// What is sent.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Waveform {
    /// Pulses; the output rests low.
    Pulses {
        /// How often.
        frequency: Frequency,
        /// The share of a period that they are high.
        duty: Percent,
        /// For how long; until the end of the recording when not stated.
        length: Option<Time>,
    },
    /// Bytes with a start and a stop bit, the lowest bit first; the output rests high.
    Bytes {
        /// The bytes.
        bytes: Vec<u8>,
        /// Bits per second.
        bit_rate: Frequency,
    },
}
