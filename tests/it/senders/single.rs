//! Senders on one line.

use super::{BIT, Ps, Random, World};

/// How bytes of asynchronous serial are sent.
#[derive(Clone, Copy)]
pub(crate) struct Byte {
    pub(crate) bits: u32,
    /// Whether the number of ones is made even, or odd.
    pub(crate) parity: Option<bool>,
    pub(crate) inverted: bool,
}

impl Byte {
    pub(crate) const PLAIN: Byte = Byte { bits: 8, parity: None, inverted: false };
}

/// A node of a controller area network.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum CanSender {
    Heard,
    /// Nobody acknowledges: it repeats, first with active error flags, then with passive ones.
    Alone,
}

impl World {
    fn bits(&mut self, bits: impl IntoIterator<Item = bool>) {
        for bit in bits {
            self.set(0, bit, self.now);
            self.wait(1000);
        }
    }

    pub(crate) fn byte(&mut self, byte: u64, how: Byte) {
        self.sent_now(vec![byte]);
        let data = (0..how.bits).map(|place| byte >> place & 1 == 1);
        let parity = how.parity.map(|even| (byte.count_ones() % 2 == 1) == even);
        let bits: Vec<bool> = [false].into_iter().chain(data).chain(parity).chain([true]).collect();
        self.bits(bits.into_iter().map(|bit| bit != how.inverted));
    }

    pub(crate) fn uart(random: &mut Random, bit: Ps, frames: usize) -> World {
        let bytes: Vec<u64> = (0..frames).map(|_| random.next() & 0xff).collect();
        World::bytes(random, bit, &bytes, Byte::PLAIN)
    }

    /// These bytes, many of them directly behind each other.
    pub(crate) fn bytes(random: &mut Random, bit: Ps, bytes: &[u64], how: Byte) -> World {
        let mut world = World::new(&[!how.inverted], bit);
        for byte in bytes {
            world.byte(*byte, how);
            if random.chance(60) {
                let gap = random.below(25_000);
                world.wait(gap);
            }
        }
        world
    }

    /// Frames of the controller area network, behind a transceiver.
    pub(crate) fn can(random: &mut Random, bit: Ps, frames: usize, sender: CanSender) -> World {
        let mut world = World::new(&[true], bit);
        for number in 0..frames {
            let alone = sender == CanSender::Alone;
            let identifier = random.next() & 0x7ff;
            let data: Vec<u64> = (0..random.below(9)).map(|_| random.next() & 0xff).collect();
            let repeats = if alone { 6 } else { 1 };
            for repeat in 0..repeats {
                world.sent_now([identifier].into_iter().chain(data.iter().copied()).collect());
                world.can_frame(identifier, &data, !alone);
                // Sixteen lost frames make it passive.
                let passive = number * repeats + repeat >= 16;
                let flag = if alone && !passive { 6 } else { 0 };
                world.bits(std::iter::repeat_n(false, flag));
                world.bits(std::iter::repeat_n(true, if alone { 11 } else { 10 }));
            }
            let rest = random.below(60_000);
            world.wait(rest);
        }
        world
    }

    fn can_frame(&mut self, identifier: u64, data: &[u64], acknowledged: bool) {
        let mut bits = vec![false];
        let mut put = |value: u64, count: u32| {
            bits.extend((0..count).rev().map(|place| value >> place & 1 == 1));
        };
        put(identifier, 11);
        put(0, 3);
        put(data.len() as u64, 4);
        data.iter().for_each(|byte| put(*byte, 8));
        let crc = bits.iter().fold(0u64, |crc, bit| {
            let next = crc << 1 & 0x7fff;
            if *bit != (crc >> 14 & 1 == 1) { next ^ 0x4599 } else { next }
        });
        bits.extend((0..15).rev().map(|place| crc >> place & 1 == 1));
        let (mut sent, mut run) = (Vec::new(), (true, 0));
        for bit in bits {
            run = if run.0 == bit { (bit, run.1 + 1) } else { (bit, 1) };
            sent.push(bit);
            if run.1 == 5 {
                sent.push(!bit);
                run = (!bit, 1);
            }
        }
        self.bits(sent);
        // Where nobody acknowledges, the error flag follows at once.
        self.bits([true].into_iter().chain(acknowledged.then_some(false)).chain([true]));
    }

    /// Headers of the local interconnect network, and answers to all of them or to none.
    pub(crate) fn lin(random: &mut Random, bit: Ps, frames: usize, classic: bool, answered: bool) -> World {
        let mut world = World::new(&[true], bit);
        for _ in 0..frames {
            world.bits(std::iter::repeat_n(false, 13).chain([true]));
            let identifier = random.below(0x3c) as u64;
            let of = |places: [u64; 4]| places.iter().fold(0, |sum, place| sum ^ identifier >> place & 1);
            let whole = identifier | of([0, 1, 2, 4]) << 6 | (of([1, 3, 4, 5]) ^ 1) << 7;
            let data: Vec<u64> = (0..1 + random.below(8)).map(|_| random.next() & 0xff).collect();
            let sum = data.iter().fold(if classic { 0 } else { whole }, |sum, byte| {
                let sum = sum + byte;
                if sum > 255 { sum - 255 } else { sum }
            });
            let header = [0x55, whole];
            header.iter().for_each(|byte| world.byte(*byte, Byte::PLAIN));
            if answered {
                world.wait(2000);
                data.iter().chain([&(!sum & 0xff)]).for_each(|byte| world.byte(*byte, Byte::PLAIN));
            }
            let rest = 50_000 + random.below(80_000);
            world.wait(rest);
        }
        world
    }

    /// Resets of a one-wire bus, and bytes after each.
    pub(crate) fn one_wire(random: &mut Random, exchanges: usize, present: bool) -> World {
        let mut world = World::new(&[true], BIT);
        let us = |us: i64| us * 1000;
        for _ in 0..exchanges {
            world.low(us(500));
            if present {
                world.wait(us(30));
                world.low(us(120));
                world.wait(us(350));
            } else {
                world.wait(us(500));
            }
            let bytes = [0xcc, random.next() & 0xff, random.next() & 0xff, random.next() & 0xff];
            for bit in bytes.iter().flat_map(|byte| (0..8).map(move |place| byte >> place & 1 == 1)) {
                let (low, rest) = if bit { (6, 64) } else { (60, 10) };
                world.low(us(low));
                world.wait(us(rest));
            }
            let rest = us(300 + random.below(2000));
            world.wait(rest);
        }
        world
    }

    fn low(&mut self, thousandths: Ps) {
        self.set(0, false, self.now);
        self.wait(thousandths);
        self.set(0, true, self.now);
    }

    /// Chains of pulses of two widths, of so many words of 24 bits each.
    pub(crate) fn lights(random: &mut Random, chains: usize, words: usize) -> World {
        let mut world = World::new(&[false], BIT);
        for _ in 0..chains {
            for _ in 0..24 * words {
                let width = if random.chance(50) { 800 } else { 400 };
                world.set(0, true, world.now);
                world.wait(width);
                world.set(0, false, world.now);
                world.wait(1250 - width);
            }
            let rest = 80_000 + random.below(80_000);
            world.wait(rest);
        }
        world
    }

    /// Flexible data-rate frames with so many bytes, whose data comes so many times as fast (ISO 11898-1:2015).
    pub(crate) fn flexible(random: &mut Random, bit: Ps, lengths: &[usize], faster: Ps) -> World {
        let mut world = World::new(&[true], bit);
        for length in lengths {
            let (identifier, extended) = (random.next() & 0x1fff_ffff, random.chance(50));
            let data: Vec<u64> =
                (0..*length).map(|_| random.next() & [0xff, 0, 0xf0][random.below(3) as usize]).collect();
            world.sent_now(data.clone());
            let codes = [12, 16, 20, 24, 32, 48, 64];
            let code = codes.iter().position(|bytes| bytes == length).map_or(*length, |place| 9 + place);
            let mut plain: Vec<(bool, bool)> = Vec::new();
            let mut put = |value: u64, count: u32, fast: bool| {
                plain.extend((0..count).rev().map(|place| (value >> place & 1 == 1, fast)));
            };
            put(0, 1, false);
            if extended {
                put(identifier >> 18, 11, false);
                put(0b11, 2, false);
                put(identifier & 0x3_ffff, 18, false);
            } else {
                put(identifier & 0x7ff, 11, false);
                put(0, 1, false);
                put(0, 1, false);
            }
            if extended {
                put(0, 1, false);
            }
            // The format, a reserved bit, the switch; then the sender's state, the length, the data.
            put(0b10, 2, false);
            put(u64::from(faster > 1), 1, false);
            put(0, 1, true);
            put(code as u64, 4, true);
            data.iter().for_each(|byte| put(*byte, 8, true));
            let (mut wire, mut stuffed, mut run) = (Vec::new(), 0u64, (true, 0));
            let last = plain.len() - 1;
            for (place, (level, fast)) in plain.iter().enumerate() {
                run = if run.0 == *level { (*level, run.1 + 1) } else { (*level, 1) };
                wire.push((*level, *fast));
                if run.1 == 5 && place != last {
                    wire.push((!level, *fast));
                    (stuffed, run) = (stuffed + 1, (!level, 1));
                }
            }
            let gray = (stuffed % 8) ^ (stuffed % 8) >> 1;
            let count: Vec<bool> = (0..3).rev().map(|place| gray >> place & 1 == 1).collect();
            let count: Vec<bool> = count.iter().copied().chain([gray.count_ones() % 2 == 1]).collect();
            let (bits, polynomial) = if *length > 16 { (21, 0x30_2899u64) } else { (17, 0x3_685b) };
            let divided = wire.iter().map(|(level, _)| *level).chain(count.iter().copied());
            let crc = divided.fold(1u64 << (bits - 1), |crc, level| {
                let crc = crc << 1 ^ u64::from(level) << bits;
                if crc >> bits & 1 == 1 { crc ^ polynomial } else { crc }
            });
            let checks = count.into_iter().chain((0..bits).rev().map(|place| crc >> place & 1 == 1));
            for (place, level) in checks.enumerate() {
                if place % 4 == 0 {
                    let before = wire.last().is_some_and(|(level, _)| *level);
                    wire.push((!before, true));
                }
                wire.push((level, true));
            }
            world.at_two_rates(&wire, faster);
            let rest = 11_000 + random.below(20_000);
            world.wait(rest);
        }
        world
    }

    /// Bits at two rates, each change of the rate at three quarters of a bit; then the delimiter, the acknowledge
    /// and the end of a frame.
    fn at_two_rates(&mut self, wire: &[(bool, bool)], faster: Ps) {
        let first = wire.iter().position(|(_, fast)| *fast).unwrap_or(0);
        for (place, (level, fast)) in wire.iter().enumerate() {
            self.set(0, *level, self.now);
            let quick = 1000 / faster;
            self.wait(match fast {
                true => quick,
                false if place + 1 == first => 750 + quick / 4,
                false => 1000,
            });
        }
        self.set(0, true, self.now);
        self.wait(750 / faster + 250);
        self.bits([false].into_iter().chain([true; 8]));
    }
}
