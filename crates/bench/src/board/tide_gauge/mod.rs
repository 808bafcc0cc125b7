//! The demo board: the main board of an ocean tide-gauge buoy, revision B.
//!
//! **Made up**, like every part on it. It has a 3.3 V rail with a supervisor, a 24-bit pressure
//! converter on SPI with a data-ready line, a small parallel memory with a converter that puts out what
//! is written, a clock chip on two wires, a satellite receiver with a pulse per second, a modem on the
//! controller area network, and a chain of status lights. It misbehaves in ways that bring-up
//! really meets; each fault can be switched off.

mod adc;
mod memory;
mod power;
mod talk;

use std::fmt;
use std::str::FromStr;

use deep_tap_core::line::Level;
use deep_tap_core::{Error, ErrorKind, Result};

use super::device::{Device, Queues};
use super::{Board, Change, Emit, NodeId};
use crate::electric::Shape;
use crate::instant::Instant;
use crate::random::Random;

/// A way in which the board misbehaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum BoardFault {
    /// Now and then the converter's data comes 41 ns after the clock, where 25 ns are allowed.
    LateData,
    /// A conversion is answered after 382 us, where 350 us are allowed.
    LateConversion,
    /// Reset is released 0.9 ms after power is good, where 2 ms are required.
    EarlyReset,
    /// Now and then a write pulse lasts 22 ns, where 35 ns are required.
    ShortWrite,
    /// Once in about a thousand writes data is held for 8 ns, where 18 ns are required.
    ShortHold,
    /// A spike of 12 ns on write enable while the rail ramps up.
    RampSpike,
    /// The 3.3 V rail dips to 2.7 V for 40 us while the modem transmits.
    RailDip,
    /// The clock chip is asked while it is busy, and does not acknowledge.
    MissingAck,
    /// Now and then the clock chip's bus is free for 0.9 us, where 1.3 us are required.
    BusFree,
    /// Once in about a thousand conversions the controller reads another register of the converter than the
    /// result.
    WrongCommand,
}

impl BoardFault {
    /// All faults with their names.
    pub const ALL: [(BoardFault, &'static str); 10] = [
        (BoardFault::LateData, "late-data"),
        (BoardFault::LateConversion, "late-conversion"),
        (BoardFault::EarlyReset, "early-reset"),
        (BoardFault::ShortWrite, "short-write"),
        (BoardFault::ShortHold, "short-hold"),
        (BoardFault::RampSpike, "ramp-spike"),
        (BoardFault::RailDip, "rail-dip"),
        (BoardFault::MissingAck, "missing-ack"),
        (BoardFault::BusFree, "bus-free"),
        (BoardFault::WrongCommand, "wrong-command"),
    ];
}

impl fmt::Display for BoardFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(Self::ALL.iter().find(|(fault, _)| fault == self).map_or("?", |(_, name)| name))
    }
}

impl FromStr for BoardFault {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        Self::ALL.iter().find(|(_, name)| *name == text).map(|(fault, _)| *fault).ok_or_else(|| {
            let names: Vec<&str> = Self::ALL.iter().map(|(_, name)| *name).collect();
            Error::new(ErrorKind::Instrument, format!("the tide gauge has no fault '{text}'"))
                .with_help(format!("it has all, none, or a list of: {}", names.join(", ")))
        })
    }
}

/// Digital nodes, in the order in which the demo's leads are wired.
const DIGITAL: usize = 32;

/// The nodes: the digital ones, and the analog ones in the order of the analog inputs.
const NODES: [&str; DIGITAL + 2] = [
    "PGOOD",
    "RESET_N",
    "ADC_CS_N",
    "ADC_SCLK",
    "ADC_MOSI",
    "ADC_MISO",
    "ADC_DRDY_N",
    "MEM_CE_N",
    "MEM_OE_N",
    "MEM_WE_N",
    "A0",
    "A1",
    "A2",
    "A3",
    "D0",
    "D1",
    "D2",
    "D3",
    "D4",
    "D5",
    "D6",
    "D7",
    "CAL_IN",
    "CAL_ACK",
    "HOST_RX",
    "HOST_TX",
    "RTC_SCL",
    "RTC_SDA",
    "GNSS_TX",
    "PPS",
    "CAN_RX",
    "LAMPS",
    "VDD33",
    "TIDE_OUT",
];

/// Looks a node up by its name in [`NODES`]; every caller passes one of them.
const fn node(name: &str) -> NodeId {
    let mut i = 0;
    while i < NODES.len() {
        if equal(NODES[i].as_bytes(), name.as_bytes()) {
            return NodeId(i);
        }
        i += 1;
    }
    panic!("unreachable: evaluated at compile time, where a misspelt node stops the build")
}

const fn equal(a: &[u8], b: &[u8]) -> bool {
    let mut i = 0;
    while i < a.len() && i < b.len() && a[i] == b[i] {
        i += 1;
    }
    i == a.len() && i == b.len()
}

/// The calibration input and its acknowledge, and the console, which repeats what it is sent: driven
/// by the instrument's outputs.
const CAL_IN: NodeId = node("CAL_IN");
const CAL_ACK: NodeId = node("CAL_ACK");
const HOST_RX: NodeId = node("HOST_RX");
const HOST_TX: NodeId = node("HOST_TX");
/// Calibration input to acknowledge, going high and going low.
const CAL_ON: Instant = Instant::ns(3_200);
const CAL_OFF: Instant = Instant::ns(900);
const CONSOLE_DELAY: Instant = Instant::us(25);

/// When power is switched on.
const POWER_ON: Instant = Instant::us(3_000);
/// When the rail is good.
const POWER_GOOD: Instant = Instant::us(4_200);

/// The demo board. See the module for what is on it.
pub struct TideGauge {
    names: Vec<String>,
    seed: u64,
    faults: Vec<BoardFault>,
    devices: Vec<Box<dyn Device>>,
    queues: Queues,
}

impl std::fmt::Debug for TideGauge {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("TideGauge")
            .field("seed", &self.seed)
            .field("faults", &self.faults)
            .finish_non_exhaustive()
    }
}

impl TideGauge {
    /// A board with these faults, the same again for the same seed.
    pub fn new(seed: u64, faults: &[BoardFault]) -> Self {
        let names = NODES.iter().map(ToString::to_string).collect();
        let queues = Queues::default();
        let mut board = TideGauge { names, seed, faults: faults.to_vec(), devices: Vec::new(), queues };
        board.restart(0);
        board
    }

    /// Whether a node is high before anything happens.
    fn rests_high(node: usize) -> bool {
        let name = NODES[node];
        let talks = ["HOST_RX", "HOST_TX", "RTC_SCL", "RTC_SDA", "GNSS_TX", "CAN_RX"];
        name.ends_with("_N") && name != "RESET_N" || name.starts_with('D') || talks.contains(&name)
    }
}

impl Board for TideGauge {
    fn describe(&self) -> String {
        let faults = match self.faults.len() {
            0 => "healthy".to_string(),
            n if n == BoardFault::ALL.len() => "with all its faults".to_string(),
            n => format!("with {n} of its faults"),
        };
        format!("tide-gauge buoy main board rev B (made up), {faults}, seed {}", self.seed)
    }

    fn nodes(&self) -> &[String] {
        &self.names
    }

    fn initial(&self, node: NodeId) -> Change {
        match node.0 {
            0..DIGITAL => Change::Level(Level::from(Self::rests_high(node.0))),
            _ => Change::Volts(0.0),
        }
    }

    fn shape(&self, node: NodeId) -> Option<Shape> {
        Some(match node {
            power::VDD33 => power::RAIL,
            memory::TIDE_OUT => memory::OUTPUT,
            _ => Shape::LOGIC_3V3,
        })
    }

    fn wiring(&self) -> Vec<NodeId> {
        (0..DIGITAL).map(NodeId).collect()
    }

    fn outputs(&self) -> Vec<NodeId> {
        vec![CAL_IN, HOST_RX]
    }

    fn drive(&mut self, node: NodeId, at: Instant, change: Change) {
        let Change::Level(level) = change else { return };
        let high = level == Level::High;
        self.queues.set(node, at, high);
        match node {
            CAL_IN => self.queues.set(CAL_ACK, at + if high { CAL_ON } else { CAL_OFF }, high),
            HOST_RX => self.queues.set(HOST_TX, at + CONSOLE_DELAY, high),
            _ => {}
        }
    }

    fn analog_wiring(&self) -> Vec<NodeId> {
        (DIGITAL..NODES.len()).map(NodeId).collect()
    }

    fn advance(&mut self, until: Instant, emit: &mut Emit<'_>) {
        self.queues.advance(&mut self.devices, until, emit);
    }

    fn restart(&mut self, run: u64) {
        let has = |fault: BoardFault| self.faults.contains(&fault);
        let random = match run {
            0 => Random::new(self.seed),
            run => Random::new(self.seed).split(0x7e57 + run),
        };
        let power = power::Power::new(
            has(BoardFault::EarlyReset),
            has(BoardFault::RampSpike),
            has(BoardFault::RailDip),
        );
        let running = power.released() + Instant::us(300);
        let adc = adc::Adc::new(
            running,
            random.split(1),
            has(BoardFault::LateData),
            has(BoardFault::LateConversion),
            has(BoardFault::WrongCommand),
        );
        let memory = memory::Memory::new(
            running,
            random.split(2),
            has(BoardFault::ShortWrite),
            has(BoardFault::ShortHold),
        );
        let clock = talk::ClockChip::new(running, has(BoardFault::MissingAck), has(BoardFault::BusFree));
        self.devices = vec![Box::new(power), Box::new(adc), Box::new(memory), Box::new(clock)];
        self.devices.extend(talk::others(running));
        self.queues = Queues::new((0..NODES.len()).map(|n| Level::from(Self::rests_high(n))).collect());
    }
}
