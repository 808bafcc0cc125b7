//! The pressure converter and the controller that talks to it over SPI, mode 0.

use super::node;
use crate::board::NodeId;
use crate::board::device::{Device, Queues};
use crate::instant::Instant;
use crate::random::Random;

const CS_N: NodeId = node("ADC_CS_N");
const SCLK: NodeId = node("ADC_SCLK");
const MOSI: NodeId = node("ADC_MOSI");
const MISO: NodeId = node("ADC_MISO");
const DRDY_N: NodeId = node("ADC_DRDY_N");

/// Half a clock period at 10 MHz.
const HALF: Instant = Instant::ns(50);
/// Select to first rising clock edge.
const LEAD: Instant = Instant::ns(62);
/// Last falling clock edge to select.
const TRAIL: Instant = Instant::ns(70);
/// From one start command to the next.
const CYCLE: Instant = Instant::us(450);

const START_CONVERSION: u64 = 0x08;
const READ_RESULT: u64 = 0x10;
const READ_GAIN: u64 = 0x12;
/// The conversions, counted from the first one, after which the gain is read in place of the result.
const ONE_WRONG_IN: u64 = 1000;

/// Of the data bits that change, one in this many comes late.
const ONE_LATE_IN: u64 = 250;
const LATE_DATA: Instant = Instant::ns(41);
/// The conversion, counted from the first one, that takes too long.
const LATE_CONVERSION: u64 = 11;

pub(super) struct Adc {
    start: Instant,
    random: Random,
    late_data: bool,
    late_conversion: bool,
    wrong_command: bool,
    conversions: u64,
    /// The pressure reading, which drifts with the tide.
    reading: i64,
    changes: u64,
}

impl Adc {
    pub(super) fn new(
        start: Instant,
        random: Random,
        late_data: bool,
        late_conversion: bool,
        wrong_command: bool,
    ) -> Self {
        let (conversions, reading, changes) = (0, 0x2f_5a30, 0);
        Adc { start, random, late_data, late_conversion, wrong_command, conversions, reading, changes }
    }

    /// When the converter puts a new bit out after the falling clock edge.
    fn data_delay(&mut self) -> Instant {
        self.changes += 1;
        let late = self.late_data && self.changes % ONE_LATE_IN == ONE_LATE_IN / 2;
        if late { LATE_DATA } else { Instant::ps(self.random.between(9_000, 12_000)) }
    }

    /// Shifts `count` bits out of the controller and, at the same time, out of the converter.
    /// Returns when select goes high again.
    fn transfer(&mut self, queues: &mut Queues, at: Instant, count: u32, sent: u64, answer: u64) -> Instant {
        queues.set(CS_N, at, false);
        let mut rise = at + LEAD;
        for bit in (0..count).rev() {
            let fall = rise - HALF;
            let jitter = Instant::ps(self.random.between(2_000, 4_000));
            queues.set(MOSI, fall.max(at) + jitter, sent >> bit & 1 == 1);
            let new = answer >> bit & 1 == 1;
            if queues.last[MISO.0] != deep_tap_core::line::Level::from(new) {
                // The first bit is put out by the select, each further one by a falling clock edge.
                let delay = self.data_delay();
                queues.set(MISO, fall.max(at) + delay, new);
            }
            queues.set(SCLK, rise, true);
            queues.set(SCLK, rise + HALF, false);
            rise = rise + HALF + HALF;
        }
        let end = rise - HALF + TRAIL;
        queues.set(CS_N, end, true);
        queues.set(MISO, end + Instant::ns(9), false);
        queues.set(MOSI, end + Instant::ns(3), false);
        end
    }
}

impl Device for Adc {
    fn next(&self) -> Instant {
        self.start
    }

    fn step(&mut self, queues: &mut Queues) {
        let started = self.transfer(queues, self.start, 8, START_CONVERSION, 0);
        let slow = self.late_conversion && self.conversions == LATE_CONVERSION;
        let wait = if slow {
            Instant::us(382)
        } else {
            Instant::us(260) + Instant::ps(self.random.between(0, 24_000_000))
        };
        let ready = started + wait;
        queues.set(DRDY_N, ready, false);
        self.reading += self.random.between(-900, 1_000);
        let answer = (self.reading & 0xff_ffff) as u64;
        let read = ready + Instant::us(6);
        let wrong = self.wrong_command && self.conversions % ONE_WRONG_IN == 617;
        let command = if wrong { READ_GAIN } else { READ_RESULT };
        let end = self.transfer(queues, read, 32, command << 24, answer);
        queues.set(DRDY_N, end + Instant::ns(40), true);
        self.conversions += 1;
        self.start = self.start + CYCLE;
    }
}
