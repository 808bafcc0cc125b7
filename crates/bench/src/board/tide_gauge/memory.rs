//! The parallel memory and the controller that writes into it.

use super::node;
use crate::board::NodeId;
use crate::board::device::{Device, Queues};
use crate::electric::{Shape, Slope};
use crate::instant::Instant;
use crate::random::Random;

const CE_N: NodeId = node("MEM_CE_N");
const WE_N: NodeId = node("MEM_WE_N");
const FIRST_ADDRESS: NodeId = node("A0");
const ADDRESS_LINES: usize = 4;
const FIRST_DATA: NodeId = node("D0");
const DATA_LINES: usize = 8;

pub(super) const TIDE_OUT: NodeId = node("TIDE_OUT");

/// The output of the converter behind the memory, for a chart recorder.
pub(super) const OUTPUT: Shape = Shape {
    low: 0.0,
    high: FULL_SCALE,
    rise: Slope::Rc(Instant::ns(400)),
    fall: Slope::Rc(Instant::ns(400)),
};
/// What it puts out for the value 255.
const FULL_SCALE: f64 = 2.55;
/// Write enable going high to the output beginning to move.
const OUTPUT_DELAY: Instant = Instant::ns(180);

/// From one write to the next.
const CYCLE: Instant = Instant::us(18);
/// Address and data to write enable.
const ADDRESS_LEAD: Instant = Instant::ns(14);
const WRITE_PULSE: Instant = Instant::ns(50);
const SHORT_PULSE: Instant = Instant::ns(22);
const HOLD: Instant = Instant::ns(26);
const SHORT_HOLD: Instant = Instant::ns(8);
/// The writes, counted from the first one, that go wrong.
const ONE_SHORT_IN: u64 = 300;
const ONE_SHORT_HOLD_IN: u64 = 1000;

pub(super) struct Memory {
    next: Instant,
    random: Random,
    short_write: bool,
    short_hold: bool,
    writes: u64,
}

impl Memory {
    pub(super) fn new(start: Instant, random: Random, short_write: bool, short_hold: bool) -> Self {
        Memory { next: start + Instant::us(5), random, short_write, short_hold, writes: 0 }
    }

    /// Sets a group of lines, each with its own small delay after `at`.
    fn set_group(&mut self, queues: &mut Queues, first: NodeId, count: usize, at: Instant, value: u64) {
        for bit in 0..count {
            let spread = Instant::ps(self.random.between(0, 900));
            queues.set(NodeId(first.0 + bit), at + spread, value >> bit & 1 == 1);
        }
    }
}

impl Device for Memory {
    fn next(&self) -> Instant {
        self.next
    }

    fn step(&mut self, queues: &mut Queues) {
        let short = self.short_write && self.writes % ONE_SHORT_IN == 140;
        let hold = if self.short_hold && self.writes % ONE_SHORT_HOLD_IN == 523 { SHORT_HOLD } else { HOLD };
        let address = self.writes % (1 << ADDRESS_LINES);
        // Never all high: the bus is pulled up when nobody drives it, and each write shall show.
        let data = self.random.below(0xff);
        let at = self.next;
        self.set_group(queues, FIRST_ADDRESS, ADDRESS_LINES, at, address);
        self.set_group(queues, FIRST_DATA, DATA_LINES, at + Instant::ns(1), data);
        queues.set(CE_N, at + Instant::ns(4), false);
        let write = at + ADDRESS_LEAD + Instant::ps(self.random.between(0, 1_000));
        queues.set(WE_N, write, false);
        let end = write + if short { SHORT_PULSE } else { WRITE_PULSE };
        queues.set(WE_N, end, true);
        queues.set(CE_N, end + Instant::ns(40), true);
        queues.drive(TIDE_OUT, end + OUTPUT_DELAY, data as f64 / 255.0 * FULL_SCALE);
        self.set_group(queues, FIRST_DATA, DATA_LINES, end + hold, (1 << DATA_LINES) - 1);
        self.writes += 1;
        // The controller's loop takes a little more or less each time.
        self.next = at + CYCLE + Instant::ps(self.random.between(-40_000, 40_000));
    }
}
