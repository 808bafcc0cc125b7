//! Senders with a clock of their own.

use super::{BIT, Ps, Random, Sent, World};

impl World {
    /// Words of eight bits with a select (line 1), from (2) and to (3) the controller; or without a select.
    pub(crate) fn words(random: &mut Random, mode: u8, selected: bool, frames: usize) -> World {
        World::words_of(random, mode, selected, frames, 8, 4)
    }

    /// The same with words of so many bits, up to so many of them in one selection.
    pub(crate) fn words_of(
        random: &mut Random,
        mode: u8,
        selected: bool,
        frames: usize,
        bits: u32,
        most: i64,
    ) -> World {
        let (polarity, phase) = (mode >> 1 & 1 == 1, mode & 1 == 1);
        let mut world = World::new(&[polarity, true, false, false], BIT);
        let delay = random.below(200);
        let mut left = frames;
        while left > 0 {
            if selected {
                world.set(1, false, world.now);
            }
            let settle = 500 + random.below(2000);
            world.wait(settle);
            for _ in 0..(1 + random.below(most)).min(left as i64) {
                left -= 1;
                let mask = u64::MAX >> (64 - bits);
                let values = [random.next() & mask, random.next() & mask];
                for place in (0..bits).rev() {
                    let levels = [values[0] >> place & 1 == 1, values[1] >> place & 1 == 1];
                    // Data is put out half a period before the edge that takes it.
                    if phase {
                        world.set(0, !polarity, world.now);
                    }
                    for (line, level) in levels.into_iter().enumerate() {
                        world.set(2 + line, level, world.now + BIT * delay / 1000);
                    }
                    world.wait(500);
                    if place == bits - 1 {
                        world.sent.push(Sent { at: world.now, data: values.to_vec() });
                    }
                    world.set(0, if phase { polarity } else { !polarity }, world.now);
                    if !phase {
                        world.wait(500);
                        world.set(0, polarity, world.now);
                    } else {
                        world.wait(500);
                    }
                }
                let pause = if random.chance(30) { random.below(1500) } else { 0 };
                world.wait(pause);
            }
            world.wait(700);
            if selected {
                world.set(1, true, world.now);
            }
            let rest = 8000 + random.below(9000);
            world.wait(rest);
        }
        world
    }

    /// A bit on each line behind the clock (line 0), which rises in the middle of it.
    fn tick(&mut self, bits: &[bool], delay: Ps) {
        for (line, bit) in bits.iter().enumerate() {
            self.set(1 + line, *bit, self.now + delay);
        }
        self.wait(500);
        self.set(0, true, self.now);
        self.wait(500);
        self.set(0, false, self.now);
    }

    fn clocked(random: &mut Random, rests: &[bool]) -> (World, Ps) {
        (World::new(rests, BIT), BIT * random.below(200) / 1000)
    }

    /// Sound of two sides: words of 16 bits, the first bit a clock after the word select.
    pub(crate) fn sound(random: &mut Random, samples: usize) -> World {
        let (mut world, delay) = World::clocked(random, &[false, true, false]);
        let mut last = false;
        for number in 0..samples {
            let word = random.next() & 0xffff;
            for place in (0..16).rev() {
                world.tick(&[number % 2 == 1, last], delay);
                last = word >> place & 1 == 1;
            }
        }
        world
    }

    /// Management frames: reads and writes of transceiver 1.
    pub(crate) fn management(random: &mut Random, frames: usize, answered: bool) -> World {
        let (mut world, delay) = World::clocked(random, &[false, true]);
        for _ in 0..frames {
            let (reads, register) = (random.chance(70), random.next() & 0x1f);
            let value = if reads && !answered { 0xffff } else { random.next() & 0xffff };
            let turn = if reads && !answered { 0b11 } else { 0b10 };
            let bits = u64::from(u32::MAX) << 32
                | 1 << 30
                | if reads { 0b10 } else { 0b01 } << 28
                | 1 << 23
                | register << 18
                | turn << 16
                | value;
            (0..64).rev().for_each(|place| world.tick(&[bits >> place & 1 == 1], delay));
            world.set(1, true, world.now + delay);
            let rest = 2000 + random.below(20_000);
            world.wait(rest);
        }
        world
    }

    /// Serial wire debug: a reset, then reads and writes.
    pub(crate) fn debug(random: &mut Random, transfers: usize, answered: bool) -> World {
        let (mut world, delay) = World::clocked(random, &[false, true]);
        let mut bits: Vec<bool> = vec![true; 55];
        bits.extend([false; 4]);
        for _ in 0..transfers {
            let (reads, access, address) = (random.chance(50), random.chance(50), random.below(4));
            let value = random.next() & u64::from(u32::MAX);
            let place = |value: i64, place: i64| value >> place & 1 == 1;
            let [low, high] = [place(address, 0), place(address, 1)];
            let parity = access ^ reads ^ low ^ high;
            bits.extend([true, access, reads, low, high, parity, false, true]);
            // A turnaround; then the answer OK, or a line that is pulled up.
            bits.extend(if answered { [true, true, false, false] } else { [true; 4] });
            if !answered {
                bits.extend([true; 60]);
                bits.extend([false; 4]);
                continue;
            }
            if !reads {
                bits.push(true);
            }
            bits.extend((0..32).map(|place| value >> place & 1 == 1));
            bits.push(value.count_ones() % 2 == 1);
            if reads {
                bits.push(true);
            }
            bits.extend([false; 3]);
        }
        bits.iter().for_each(|bit| world.tick(&[*bit], delay));
        world
    }

    /// A test port: a reset, then instruction and data scans of a chain with 5 and 4 bits. Lines are TCK,
    /// TMS, TDI, TDO.
    pub(crate) fn port(random: &mut Random, scans: usize) -> World {
        let (mut world, delay) = World::clocked(random, &[false, true, false, true]);
        let step = |world: &mut World, random: &mut Random, mode: bool| {
            world.tick(&[mode, random.chance(50), random.chance(50)], delay);
        };
        (0..6).for_each(|_| step(&mut world, random, true));
        for number in 0..scans {
            let (path, count): (&[bool], _) = match number % 2 {
                0 => (&[false, true, true, false, false], 9),
                _ => (&[false, true, false, false], 32),
            };
            path.iter().for_each(|mode| step(&mut world, random, *mode));
            (1..=count).for_each(|place| step(&mut world, random, place == count));
            step(&mut world, random, true);
            step(&mut world, random, false);
        }
        world
    }

    /// Eight data lines (1 to 8) that change after the falling edge of a clock, which then rests a little.
    pub(crate) fn parallel(random: &mut Random, words: usize) -> World {
        let (mut world, _) = World::clocked(random, &[false; 9]);
        let delay = 60_000 + random.below(60_000);
        for _ in 0..words {
            let word = random.next();
            let bits: Vec<bool> = (0..8).map(|place| word >> place & 1 == 1).collect();
            world.tick(&bits, delay);
        }
        world
    }

    /// A memory: a write strobe and a read strobe (lines 0 and 1, active low), eight data and four address
    /// lines.
    pub(crate) fn memory(random: &mut Random, cycles: usize) -> World {
        let mut rests = [false; 14];
        (rests[0], rests[1]) = (true, true);
        let (mut world, _) = World::clocked(random, &rests);
        for _ in 0..cycles {
            let (strobe, value, address) = (usize::from(random.chance(40)), random.next(), random.next());
            for place in 0..4 {
                world.set(10 + place, address >> place & 1 == 1, world.now);
            }
            // Written data is there before the strobe's end, read data some time after its beginning.
            world.wait(200);
            world.set(strobe, false, world.now);
            for place in 0..8 {
                world.set(2 + place, value >> place & 1 == 1, world.now + BIT * 300 / 1000);
            }
            world.wait(1000);
            world.set(strobe, true, world.now);
            let rest = 400 + random.below(1500);
            world.wait(rest);
        }
        world
    }
}
