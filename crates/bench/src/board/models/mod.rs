//! Device models that boards are composed of.

mod protocol;

pub(crate) use protocol::{Can, I2c, Jtag, Lights, OneWire, TwoWires};

use deep_tap_core::quantity::{Percent, Rational};

use super::NodeId;
use super::device::{Device, Queues};
use crate::instant::Instant;
use crate::random::Random;

/// Never again.
const NEVER: Instant = Instant(i64::MAX);

/// A device as it is described, from which one is made each time the board is switched on.
pub(crate) trait Model: Send {
    fn switched_on(&self, chance: Random) -> Box<dyn Device>;
}

impl<D: Device + Clone + 'static> Model for D {
    fn switched_on(&self, chance: Random) -> Box<dyn Device> {
        let mut device = self.clone();
        device.chance(chance);
        Box::new(device)
    }
}

/// A number of equal stretches of time, exact over any length.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Beat {
    /// Femtoseconds, as a fraction.
    num: i128,
    den: i128,
}

impl Beat {
    /// From a time in seconds; `None` when it is not above zero, or beyond an hour.
    pub(crate) fn new(seconds: Rational) -> Option<Self> {
        let femto = seconds.checked_mul(Rational::power_of_ten(15)?)?;
        let fits = femto > Rational::ZERO && femto.floor() < 3_600 * 1_000_000_000_000_000;
        fits.then(|| Beat { num: femto.numerator(), den: femto.denominator() })
    }

    /// So many a second.
    pub(crate) fn per_second(count: u32) -> Self {
        Beat { num: 1_000_000_000_000_000, den: i128::from(count.max(1)) }
    }

    /// So many of them.
    pub(crate) fn times(self, count: u64) -> Instant {
        let total = i128::from(count).saturating_mul(self.num) / self.den;
        Instant(i64::try_from(total).unwrap_or(i64::MAX / 2))
    }
}

/// A square wave: a clock, or pulses of a given width.
#[derive(Clone)]
pub(crate) struct Square {
    pub(crate) node: NodeId,
    pub(crate) start: Instant,
    pub(crate) until: Instant,
    pub(crate) period: Beat,
    /// Of a period, in thousandths.
    pub(crate) duty: u64,
    /// Largest jitter of an edge to either side.
    pub(crate) jitter: Instant,
    pub(crate) random: Random,
    pub(crate) done: u64,
}

impl Square {
    /// A duty cycle as it is kept.
    pub(crate) fn thousandths(duty: Percent) -> u64 {
        let thousandths = duty.to_fraction().checked_mul(Rational::from(1000));
        thousandths.map_or(0, |duty| duty.round().clamp(0, 1000) as u64)
    }
}

impl Device for Square {
    fn chance(&mut self, random: Random) {
        self.random = random;
    }

    fn next(&self) -> Instant {
        let at = self.start + self.period.times(self.done) - self.jitter;
        if at > self.until { NEVER } else { at }
    }

    fn step(&mut self, queues: &mut Queues) {
        let begin = self.start + self.period.times(self.done);
        let length = self.period.times(self.done + 1) - self.period.times(self.done);
        let high = Instant((i128::from(length.0) * i128::from(self.duty) / 1000) as i64);
        let mut jitter = || Instant(self.random.between(-self.jitter.0, self.jitter.0));
        queues.set(self.node, begin + jitter(), true);
        queues.set(self.node, begin + high + jitter(), false);
        self.done += 1;
    }
}

/// A node that goes from one voltage to the next.
#[derive(Clone)]
pub(crate) struct Steps {
    pub(crate) node: NodeId,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    pub(crate) volts: Vec<f64>,
    /// Whether it begins anew.
    pub(crate) again: bool,
    pub(crate) done: u64,
}

impl Device for Steps {
    fn next(&self) -> Instant {
        let over = !self.again && self.done >= self.volts.len() as u64;
        if over || self.volts.is_empty() { NEVER } else { self.start + self.every.times(self.done) }
    }

    fn step(&mut self, queues: &mut Queues) {
        let volts = self.volts[(self.done % self.volts.len() as u64) as usize];
        queues.drive(self.node, self.next(), volts);
        self.done += 1;
    }
}

/// One line after another is high, and none at the same time.
#[derive(Clone)]
pub(crate) struct OneHot {
    pub(crate) nodes: Vec<NodeId>,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    pub(crate) again: bool,
    pub(crate) done: u64,
}

impl Device for OneHot {
    fn next(&self) -> Instant {
        let over = !self.again && self.done >= self.nodes.len() as u64;
        if over || self.nodes.is_empty() { NEVER } else { self.start + self.every.times(self.done) }
    }

    fn step(&mut self, queues: &mut Queues) {
        let (at, count) = (self.next(), self.nodes.len() as u64);
        if self.done > 0 {
            queues.set(self.nodes[((self.done - 1) % count) as usize], at, false);
        }
        queues.set(self.nodes[(self.done % count) as usize], at, true);
        self.done += 1;
    }
}

/// One pulse.
#[derive(Clone)]
pub(crate) struct Pulse {
    pub(crate) node: NodeId,
    pub(crate) at: Instant,
    pub(crate) width: Instant,
    pub(crate) high: bool,
    pub(crate) done: bool,
}

impl Device for Pulse {
    fn next(&self) -> Instant {
        if self.done { NEVER } else { self.at }
    }

    fn step(&mut self, queues: &mut Queues) {
        queues.set(self.node, self.at, self.high);
        queues.set(self.node, self.at + self.width, !self.high);
        self.done = true;
    }
}

/// The parity bit of a byte.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Parity {
    None,
    Even,
    Odd,
}

/// Sends bytes with start and stop bits, the lowest bit first, and rests high.
#[derive(Clone)]
pub(crate) struct Sender {
    pub(crate) node: NodeId,
    pub(crate) start: Instant,
    /// From one message to the next.
    pub(crate) every: Beat,
    pub(crate) bit: Beat,
    pub(crate) bytes: Vec<u8>,
    pub(crate) data_bits: u32,
    pub(crate) parity: Parity,
    pub(crate) stop_bits: u64,
    pub(crate) again: bool,
    pub(crate) done: u64,
}

impl Sender {
    /// Bits of one byte on the wire.
    fn frame(&self) -> u64 {
        1 + u64::from(self.data_bits) + u64::from(self.parity != Parity::None) + self.stop_bits
    }
}

impl Device for Sender {
    fn next(&self) -> Instant {
        if !self.again && self.done > 0 { NEVER } else { self.start + self.every.times(self.done) }
    }

    fn step(&mut self, queues: &mut Queues) {
        let begin = self.next();
        for (number, byte) in self.bytes.iter().enumerate() {
            let first = number as u64 * self.frame();
            let at = |bit: u64| begin + self.bit.times(first + bit);
            let byte = byte & (0xffu16 >> (8 - self.data_bits.clamp(5, 8))) as u8;
            queues.set(self.node, at(0), false);
            for bit in 0..self.data_bits {
                queues.set(self.node, at(1 + u64::from(bit)), byte >> bit & 1 == 1);
            }
            let mut next = 1 + u64::from(self.data_bits);
            if self.parity != Parity::None {
                let odd_ones = byte.count_ones() % 2 == 1;
                queues.set(self.node, at(next), odd_ones == (self.parity == Parity::Even));
                next += 1;
            }
            queues.set(self.node, at(next), true);
        }
        self.done += 1;
    }
}

/// Shifts words out with a clock while selected: data changes with one clock edge, and is taken with
/// the other.
#[derive(Clone)]
pub(crate) struct Shifter {
    pub(crate) clock: NodeId,
    pub(crate) data: NodeId,
    pub(crate) select: NodeId,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    pub(crate) bit: Beat,
    pub(crate) words: Vec<u64>,
    pub(crate) bits: u32,
    /// The level of the clock at rest, and whether data is taken with the second edge.
    pub(crate) rests_high: bool,
    pub(crate) second_edge: bool,
    pub(crate) done: u64,
}

impl Device for Shifter {
    fn next(&self) -> Instant {
        if self.words.is_empty() { NEVER } else { self.start + self.every.times(self.done) }
    }

    fn step(&mut self, queues: &mut Queues) {
        let begin = self.next();
        let word = self.words[(self.done % self.words.len() as u64) as usize];
        let half = Instant(self.bit.times(1).0 / 2);
        queues.set(self.select, begin, false);
        for bit in 0..u64::from(self.bits) {
            let slot = begin + self.bit.times(bit + 1);
            let value = word >> (u64::from(self.bits) - 1 - bit) & 1 == 1;
            // Data moves half a clock before the edge that takes it.
            let moves = if self.second_edge { slot } else { slot - half };
            queues.set(self.data, moves.max(begin), value);
            queues.set(self.clock, slot, !self.rests_high);
            queues.set(self.clock, slot + half, self.rests_high);
        }
        queues.set(self.select, begin + self.bit.times(u64::from(self.bits) + 1), true);
        self.done += 1;
    }
}

/// Writes counting values to counting addresses.
#[derive(Clone)]
pub(crate) struct Writer {
    pub(crate) address: Vec<NodeId>,
    pub(crate) data: Vec<NodeId>,
    pub(crate) write: NodeId,
    pub(crate) start: Instant,
    pub(crate) every: Beat,
    pub(crate) setup: Instant,
    pub(crate) pulse: Instant,
    pub(crate) hold: Instant,
    pub(crate) done: u64,
}

impl Device for Writer {
    fn next(&self) -> Instant {
        self.start + self.every.times(self.done)
    }

    fn step(&mut self, queues: &mut Queues) {
        let begin = self.next();
        let end = begin + self.setup + self.pulse;
        let bit = |value: u64, place: usize| value.checked_shr(place as u32).unwrap_or(0) & 1 == 1;
        // Most significant first, as they are listed.
        for (place, node) in self.address.iter().rev().enumerate() {
            queues.set(*node, begin, bit(self.done, place));
        }
        let value = self.done.wrapping_mul(0x9e37_79b9).wrapping_add(1);
        for (place, node) in self.data.iter().rev().enumerate() {
            queues.set(*node, begin, bit(value, place));
            queues.set(*node, end + self.hold, true);
        }
        queues.set(self.write, begin + self.setup, false);
        queues.set(self.write, end, true);
        self.done += 1;
    }
}
