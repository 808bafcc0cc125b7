//! What else talks on the board: the clock chip on two wires, the satellite receiver with its pulse per
//! second, the modem on the controller area network, and the chain of status lights.

use super::node;
use crate::board::NodeId;
use crate::board::device::{Device, Queues};
use crate::board::models::{Beat, Can, Lights, Parity, Sender, Square, TwoWires};
use crate::instant::Instant;
use crate::random::Random;

const SCL: NodeId = node("RTC_SCL");
const SDA: NodeId = node("RTC_SDA");

/// A quarter of a clock period at 350 kHz.
const QUARTER: Instant = Instant::ps(714_000);
/// From one reading of the time to the next.
const CYCLE: Instant = Instant::us(5_000);
const ADDRESS: u8 = 0x51;
/// How long the chip does not answer while it stores its control register.
const BUSY: Instant = Instant::us(300);
/// When the controller asks for its status: after that, or too early.
const ASKS: Instant = Instant::us(400);
const ASKS_EARLY: Instant = Instant::us(150);
/// From a stop to the next start; the short one is below the 1.3 us of fast mode.
const FREE: Instant = Instant::us(5);
const SHORT_FREE: Instant = Instant::ns(900);

/// The controller of the clock chip and the chip: reads the time, stores a control register, asks for
/// the status.
pub(super) struct ClockChip {
    start: Instant,
    asks_early: bool,
    short_free: bool,
    /// Readings so far.
    done: u64,
}

impl ClockChip {
    pub(super) fn new(running: Instant, asks_early: bool, short_free: bool) -> Self {
        ClockChip { start: running + Instant::us(150), asks_early, short_free, done: 0 }
    }
}

/// Two digits in one byte.
fn digits(value: u64) -> u8 {
    (value / 10 % 10 * 16 + value % 10) as u8
}

impl Device for ClockChip {
    fn next(&self) -> Instant {
        self.start
    }

    fn step(&mut self, queues: &mut Queues) {
        let mut bus = TwoWires { queues, clock: SCL, data: SDA, at: self.start, quarter: QUARTER };
        // Seconds, minutes and hours from register 2 on: the buoy woke up at six.
        bus.begin();
        bus.byte(ADDRESS << 1, true);
        bus.byte(0x02, true);
        bus.low_clock();
        bus.start();
        bus.byte(ADDRESS << 1 | 1, true);
        bus.byte(digits(self.done), true);
        bus.byte(digits(0), true);
        bus.byte(digits(6), false);
        bus.stop();
        // Control register 7: store.
        let short = self.short_free && self.done % 3 == 1;
        bus.at = bus.at + if short { SHORT_FREE } else { FREE };
        bus.begin();
        [ADDRESS << 1, 0x07, 0x80].into_iter().for_each(|byte| bus.byte(byte, true));
        bus.stop();
        let stored = bus.at;
        // Status, register 0.
        let wait = if self.asks_early { ASKS_EARLY } else { ASKS };
        bus.at = stored + wait;
        bus.begin();
        let answers = wait >= BUSY;
        bus.byte(ADDRESS << 1, answers);
        if answers {
            bus.byte(0x00, true);
            bus.low_clock();
            bus.start();
            bus.byte(ADDRESS << 1 | 1, true);
            bus.byte(0x08, false);
        }
        bus.stop();
        self.done += 1;
        self.start = self.start + CYCLE;
    }
}

/// The others.
pub(super) fn others(running: Instant) -> Vec<Box<dyn Device>> {
    let after = |us: i64| running + Instant::us(us);
    let receiver = Sender {
        node: node("GNSS_TX"),
        start: after(2_500),
        every: Beat::per_second(1),
        bit: Beat::per_second(57_600),
        bytes: b"FIX 3D 06:00:00.000 N54.1 E07.9\r\n".to_vec(),
        data_bits: 8,
        parity: Parity::None,
        stop_bits: 1,
        again: true,
        done: 0,
    };
    let pulse = Square {
        node: node("PPS"),
        start: after(2_000),
        until: Instant(i64::MAX / 4),
        period: Beat::per_second(1),
        duty: 1,
        jitter: Instant(0),
        random: Random::new(0),
        done: 0,
    };
    let modem = Can {
        node: node("CAN_RX"),
        start: after(700),
        every: Beat::per_second(500),
        bit: Beat::per_second(250_000),
        identifier: 0x2a1,
        extended: false,
        data: vec![0x11, 0x42, 0x17, 0x00, 0xff],
        acknowledged: true,
        done: 0,
    };
    let lights = Lights {
        node: node("LAMPS"),
        start: after(1_000),
        every: Beat::per_second(250),
        bytes: vec![0x20, 0x00, 0x00, 0x00, 0x20, 0x00, 0x00, 0x10, 0x10],
        period: Instant::ns(1_250),
        zero: Instant::ns(400),
        one: Instant::ns(850),
        done: 0,
    };
    vec![Box::new(receiver), Box::new(pulse), Box::new(modem), Box::new(lights)]
}
