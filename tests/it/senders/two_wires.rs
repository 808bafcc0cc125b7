//! Senders on two wires.

use super::{BIT, Ps, Random, World};

/// A transfer: the address, whether it is acknowledged, and how many bytes follow.
#[derive(Clone, Copy)]
pub(crate) struct Asked {
    pub(crate) address: u64,
    pub(crate) answers: bool,
    pub(crate) bytes: usize,
}

impl World {
    /// Transfers of random bytes, a few of which are not acknowledged, addresses as well.
    pub(crate) fn two_wires(random: &mut Random, frames: usize) -> World {
        let mut world = World::new(&[true, true], BIT);
        let hold = World::hold(random);
        let mut open = false;
        for frame in 1..=frames {
            let at = world.start(open, hold);
            let mut data = Vec::new();
            for number in 0..1 + random.below(4) {
                let byte = random.next() & 0xff;
                let byte = if number == 0 { byte.clamp(0x10, 0xe0) } else { byte };
                data.push(if number == 0 { byte >> 1 } else { byte });
                let refused = random.chance(20);
                world.nine(byte << 1 | u64::from(refused), hold);
            }
            world.sent.push(super::Sent { at, data });
            open = random.chance(30) && frame < frames;
            if !open {
                world.stop(random, hold);
            }
        }
        world
    }

    /// These transfers, one after the other, some after a repeated start.
    pub(crate) fn asked(random: &mut Random, asked: &[Asked]) -> World {
        let mut world = World::new(&[true, true], BIT);
        let hold = World::hold(random);
        let mut open = false;
        for (number, Asked { address, answers, bytes }) in asked.iter().enumerate() {
            let at = world.start(open, hold);
            let reads = random.chance(50) && *answers;
            world.nine(address << 2 | u64::from(reads) << 1 | u64::from(!answers), hold);
            let mut data = vec![*address];
            for number in 1..=if *answers { *bytes } else { 0 } {
                let byte = random.next() & 0xff;
                data.push(byte);
                // The last byte that is read is not asked for another.
                world.nine(byte << 1 | u64::from(reads && number == *bytes), hold);
            }
            world.sent.push(super::Sent { at, data });
            open = random.chance(30) && number + 1 < asked.len();
            if !open {
                world.stop(random, hold);
            }
        }
        world
    }

    fn hold(random: &mut Random) -> Ps {
        BIT * (50 + random.below(250)) / 1000
    }

    /// A start, or a repeated one: data up while the clock is low, clock up, data down.
    fn start(&mut self, open: bool, hold: Ps) -> Ps {
        if open {
            self.set(1, true, self.now + hold);
            self.wait(500);
            self.set(0, true, self.now);
            self.wait(400);
        }
        self.set(1, false, self.now);
        let at = self.now;
        self.wait(500);
        self.set(0, false, self.now);
        at
    }

    /// Eight bits and the answer.
    fn nine(&mut self, bits: u64, hold: Ps) {
        for place in (0..9).rev() {
            self.set(1, bits >> place & 1 == 1, self.now + hold);
            self.wait(550);
            self.set(0, true, self.now);
            self.wait(450);
            self.set(0, false, self.now);
        }
    }

    fn stop(&mut self, random: &mut Random, hold: Ps) {
        self.set(1, false, self.now + hold);
        self.wait(500);
        self.set(0, true, self.now);
        self.wait(500);
        self.set(1, true, self.now);
        let rest = 700 + random.below(9000);
        self.wait(rest);
    }
}
