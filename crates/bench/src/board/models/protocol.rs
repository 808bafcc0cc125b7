//! Senders of protocols. They are written for themselves, and share nothing with what decodes them.

use super::{Beat, NEVER};
use crate::board::NodeId;
use crate::board::device::{Device, Queues};
use crate::instant::Instant;

/// A controller that writes to a target, and reads from it if there is something to read, on two
/// open-drain lines (UM10204, I2C-bus specification, 3.1).
#[derive(Clone)]
pub(crate) struct I2c {
    pub(crate) clock: NodeId,
    pub(crate) data: NodeId,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    /// One clock period.
    pub(crate) bit: Beat,
    pub(crate) address: u8,
    pub(crate) write: Vec<u8>,
    pub(crate) read: Vec<u8>,
    /// Every so many transactions the target does not acknowledge its address; 1 for never.
    pub(crate) missing: Option<u64>,
    /// How long the target holds the clock low after its address.
    pub(crate) stretch: Instant,
    pub(crate) done: u64,
}

/// Where a transaction on the two lines stands.
pub(crate) struct TwoWires<'a> {
    pub(crate) queues: &'a mut Queues,
    pub(crate) clock: NodeId,
    pub(crate) data: NodeId,
    pub(crate) at: Instant,
    pub(crate) quarter: Instant,
}

impl TwoWires<'_> {
    /// Goes on by quarters of a clock period.
    fn pass(&mut self, quarters: u32) {
        (0..quarters).for_each(|_| self.at = self.at + self.quarter);
    }

    /// From an idle bus, at once.
    pub(crate) fn begin(&mut self) {
        self.queues.set(self.data, self.at, false);
        self.pass(1);
    }

    /// From a low or a high clock, and leaves it high with the data low.
    pub(crate) fn start(&mut self) {
        self.queues.set(self.data, self.at, true);
        self.pass(1);
        self.queues.set(self.clock, self.at, true);
        self.pass(1);
        self.queues.set(self.data, self.at, false);
        self.pass(1);
    }

    fn bit(&mut self, high: bool) {
        self.queues.set(self.clock, self.at, false);
        self.pass(1);
        self.queues.set(self.data, self.at, high);
        self.pass(1);
        self.queues.set(self.clock, self.at, true);
        self.pass(2);
    }

    pub(crate) fn byte(&mut self, byte: u8, acknowledged: bool) {
        (0..8).rev().for_each(|place| self.bit(byte >> place & 1 == 1));
        self.bit(!acknowledged);
    }

    pub(crate) fn low_clock(&mut self) {
        self.queues.set(self.clock, self.at, false);
        self.pass(1);
    }

    pub(crate) fn stop(&mut self) {
        self.low_clock();
        self.queues.set(self.data, self.at, false);
        self.pass(1);
        self.queues.set(self.clock, self.at, true);
        self.pass(1);
        self.queues.set(self.data, self.at, true);
    }
}

impl Device for I2c {
    fn next(&self) -> Instant {
        self.start + self.every.times(self.done)
    }

    fn step(&mut self, queues: &mut Queues) {
        self.done += 1;
        let at = self.start + self.every.times(self.done - 1);
        let quarter = Instant(self.bit.times(1).0 / 4);
        let mut bus = TwoWires { queues, clock: self.clock, data: self.data, at, quarter };
        let answers = self.missing.is_none_or(|one_in| !self.done.is_multiple_of(one_in.max(1)));
        // Without anything to write, it begins with the read.
        let only_reads = self.write.is_empty() && !self.read.is_empty();
        bus.start();
        bus.byte(self.address << 1 | u8::from(only_reads), answers);
        if answers {
            bus.low_clock();
            bus.at = bus.at + self.stretch;
            self.write.iter().for_each(|byte| bus.byte(*byte, true));
            if let Some((last, before)) = self.read.split_last() {
                if !only_reads {
                    bus.low_clock();
                    bus.start();
                    bus.byte(self.address << 1 | 1, true);
                }
                before.iter().for_each(|byte| bus.byte(*byte, true));
                // The controller ends it by not acknowledging the last byte.
                bus.byte(*last, false);
            }
        }
        bus.stop();
    }
}

/// A node of a CAN bus, and another one that acknowledges (ISO 11898-1, 10.4): dominant is low.
#[derive(Clone)]
pub(crate) struct Can {
    pub(crate) node: NodeId,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    pub(crate) bit: Beat,
    pub(crate) identifier: u32,
    pub(crate) extended: bool,
    pub(crate) data: Vec<u8>,
    pub(crate) acknowledged: bool,
    pub(crate) done: u64,
}

impl Can {
    /// All bits of the frame on the wire.
    fn bits(&self) -> Vec<bool> {
        let mut bits = vec![false];
        let put = |bits: &mut Vec<bool>, value: u32, width: u32| {
            (0..width).rev().for_each(|place| bits.push(value >> place & 1 == 1));
        };
        if self.extended {
            put(&mut bits, self.identifier >> 18, 11);
            // Substitute remote request and identifier extension, both recessive.
            put(&mut bits, 0b11, 2);
            put(&mut bits, self.identifier, 18);
            put(&mut bits, 0b000, 3);
        } else {
            put(&mut bits, self.identifier, 11);
            put(&mut bits, 0b000, 3);
        }
        put(&mut bits, self.data.len() as u32, 4);
        self.data.iter().for_each(|byte| put(&mut bits, u32::from(*byte), 8));
        // x^15 + x^14 + x^10 + x^8 + x^7 + x^4 + x^3 + 1 (10.4.2.6).
        let mut crc = 0u32;
        for bit in &bits {
            let next = *bit != (crc >> 14 & 1 == 1);
            crc = crc << 1 & 0x7fff;
            if next {
                crc ^= 0x4599;
            }
        }
        put(&mut bits, crc, 15);
        let mut wire = Vec::new();
        let (mut last, mut equal) = (true, 0);
        for bit in bits {
            equal = if bit == last { equal + 1 } else { 1 };
            last = bit;
            wire.push(bit);
            if equal == 5 {
                last = !bit;
                equal = 1;
                wire.push(last);
            }
        }
        wire
    }

    /// What follows the checksum: delimiter, acknowledge, delimiter, end of frame; or, of a node that is alone,
    /// an error flag, which is recessive once it is passive, and its delimiter (10.4.4). Then the intermission.
    fn ending(&self, passive: bool) -> Vec<bool> {
        let mut wire = vec![true, !self.acknowledged];
        if self.acknowledged {
            wire.extend([true; 8]);
        } else {
            wire.extend([passive; 6]);
            wire.extend([true; 8]);
        }
        wire.extend([true; 3]);
        wire
    }
}

/// How often a node that is alone tries again, if there is time; and the failures after which it is passive: each
/// adds 8 to a count that must stay below 128 (12.1.4).
const TRIES: u64 = 8;
const PASSIVE: u64 = 16;

impl Device for Can {
    fn next(&self) -> Instant {
        self.start + self.every.times(self.done)
    }

    fn step(&mut self, queues: &mut Queues) {
        let (begin, frame) = (self.next(), self.bits());
        self.done += 1;
        let tries = if self.acknowledged { 1 } else { TRIES };
        let mut place = 0u64;
        for number in 0..tries {
            let failures = (self.done - 1) * tries + number;
            let ending = self.ending(failures >= PASSIVE);
            let length = (frame.len() + ending.len()) as u64;
            if number > 0 && begin + self.bit.times(place + length) > self.next() {
                break;
            }
            for bit in frame.iter().chain(&ending) {
                queues.set(self.node, begin + self.bit.times(place), *bit);
                place += 1;
            }
        }
    }
}

/// A controller of a JTAG port that resets it, scans an instruction, and scans data (IEEE 1149.1,
/// figure 6-1).
#[derive(Clone)]
pub(crate) struct Jtag {
    pub(crate) clock: NodeId,
    pub(crate) mode: NodeId,
    pub(crate) to_part: NodeId,
    pub(crate) from_part: NodeId,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    pub(crate) bit: Beat,
    /// The instruction and its bits, then what goes in and comes out of the data register, and its
    /// bits.
    pub(crate) instruction: (u64, u32),
    pub(crate) data: (u64, u64, u32),
    pub(crate) done: u64,
}

impl Device for Jtag {
    fn next(&self) -> Instant {
        self.start + self.every.times(self.done)
    }

    fn step(&mut self, queues: &mut Queues) {
        let begin = self.next();
        let mut count = 0u64;
        let half = Instant(self.bit.times(1).0 / 2);
        let mut clock = |mode: bool, into: bool, out: bool| {
            // Everything moves with the falling edge, and is taken with the rising one.
            let at = begin + self.bit.times(count);
            queues.set(self.clock, at, false);
            queues.set(self.mode, at, mode);
            queues.set(self.to_part, at, into);
            queues.set(self.from_part, at, out);
            queues.set(self.clock, at + half, true);
            count += 1;
        };
        let bit = |value: u64, place: u32| value >> place & 1 == 1;
        // Test-logic reset, then run-test/idle.
        (0..5).for_each(|_| clock(true, false, false));
        clock(false, false, false);
        // Select DR, select IR, capture IR, shift IR.
        [true, true, false, false].into_iter().for_each(|mode| clock(mode, false, false));
        let (instruction, bits) = self.instruction;
        // The captured instruction register ends in 01.
        (0..bits).for_each(|place| clock(place + 1 == bits, bit(instruction, place), bit(0b01, place)));
        // Update IR, select DR, capture DR, shift DR.
        [true, true, false, false].into_iter().for_each(|mode| clock(mode, false, false));
        let (into, out, bits) = self.data;
        (0..bits).for_each(|place| clock(place + 1 == bits, bit(into, place), bit(out, place)));
        // Update DR, run-test/idle.
        [true, false].into_iter().for_each(|mode| clock(mode, false, false));
        self.done += 1;
    }
}

/// A controller and a sensor on one line with a pull-up: reset, presence, and bytes, the lowest bit
/// first, at standard speed.
#[derive(Clone)]
pub(crate) struct OneWire {
    pub(crate) node: NodeId,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    pub(crate) bytes: Vec<u8>,
    /// Whether the sensor is there.
    pub(crate) present: bool,
    pub(crate) done: u64,
}

impl Device for OneWire {
    fn next(&self) -> Instant {
        self.start + self.every.times(self.done)
    }

    fn step(&mut self, queues: &mut Queues) {
        let mut at = self.next();
        let mut low = |at: Instant, length: i64| {
            queues.set(self.node, at, false);
            queues.set(self.node, at + Instant::us(length), true);
        };
        low(at, 490);
        if self.present {
            low(at + Instant::us(490 + 30), 120);
        }
        at = at + Instant::us(490 + 490);
        if self.present {
            for bit in self.bytes.iter().flat_map(|byte| (0..8).map(move |place| byte >> place & 1 == 1)) {
                low(at, if bit { 6 } else { 60 });
                at = at + Instant::us(70);
            }
        }
        self.done += 1;
    }
}

/// Sends the colours of a chain of lights: the length of each pulse is a bit, the highest first, and
/// a long low resets the chain.
#[derive(Clone)]
pub(crate) struct Lights {
    pub(crate) node: NodeId,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    pub(crate) bytes: Vec<u8>,
    /// From one pulse to the next, and how long the pulse of a zero and of a one is.
    pub(crate) period: Instant,
    pub(crate) zero: Instant,
    pub(crate) one: Instant,
    pub(crate) done: u64,
}

impl Device for Lights {
    fn next(&self) -> Instant {
        if self.bytes.is_empty() { NEVER } else { self.start + self.every.times(self.done) }
    }

    fn step(&mut self, queues: &mut Queues) {
        let mut at = self.next();
        for bit in self.bytes.iter().flat_map(|byte| (0..8).rev().map(move |place| byte >> place & 1 == 1)) {
            queues.set(self.node, at, true);
            queues.set(self.node, at + if bit { self.one } else { self.zero }, false);
            at = at + self.period;
        }
        self.done += 1;
    }
}
