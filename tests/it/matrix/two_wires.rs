//! Mistakes on two wires.

use deep_tap::decode::{I2cConfig, Protocol};

use super::Case;
use crate::senders::{Asked, BIT, Random, World};

fn asked(random: &mut Random, count: usize, addresses: &[u64]) -> Vec<Asked> {
    let one = |random: &mut Random| {
        let address = addresses[random.below(addresses.len() as i64) as usize];
        Asked { address, answers: true, bytes: 1 + random.below(4) as usize }
    };
    (0..count).map(|_| one(random)).collect()
}

pub(super) fn cases(random: &mut Random) -> Vec<Case> {
    let protocol = Protocol::I2c(I2cConfig::default());
    let case = |name: &str, world| Case::healthy(name, world, &[0, 1], protocol.clone());
    let healthy = |random: &mut Random| {
        let asked = asked(random, 30, &[0x51, 0x68, 0x1d]);
        World::asked(random, &asked)
    };
    let mut all = vec![case("healthy", healthy(random))];
    for (count, name) in [(1, "healthy, 1 transfer"), (3, "healthy, 3 transfers")] {
        let few = asked(random, count, &[0x51]);
        all.push(case(name, World::asked(random, &few)));
    }
    let mut cut = healthy(random);
    let (from, to) = (BIT * (30 + random.below(60)), cut.now - BIT * (15 + random.below(60)));
    cut.cut(from, to);
    all.push(case("healthy, begins and ends in a transfer", cut));
    all.push(
        Case::healthy("exchanged", healthy(random), &[1, 0], protocol.clone())
            .finds("swapped", "clock = \"L0\""),
    );
    let few = asked(random, 1, &[0x51]);
    let few = World::asked(random, &few);
    all.push(
        Case::healthy("exchanged, 1 transfer", few, &[1, 0], protocol.clone())
            .finds("swapped", "clock = \"L0\""),
    );
    let none: Vec<Asked> = [0x51, 0x68, 0x51, 0x1d]
        .repeat(4)
        .iter()
        .map(|address| Asked { address: *address, answers: false, bytes: 0 })
        .collect();
    all.push(case("no part answers", World::asked(random, &none)).finds("no-answer", "no address"));
    let mut absent = asked(random, 20, &[0x51, 0x1d]);
    for place in 0..10 {
        absent.insert(place * 3, Asked { address: 0x68, answers: false, bytes: 0 });
    }
    all.push(case("one part does not answer", World::asked(random, &absent)).finds("no-answer", "0x68"));
    // 0x51 is written as 0xA2 on the wire: taken for seven bits, that is 0x22.
    let mut shifted = asked(random, 20, &[0x51, 0x1d]);
    for place in 0..6 {
        shifted.insert(place * 3, Asked { address: 0x22, answers: false, bytes: 0 });
    }
    all.push(
        case("an address with its direction bit", World::asked(random, &shifted)).finds("shifted", "0x51"),
    );
    let scan: Vec<Asked> = (0x08..0x78)
        .map(|address| Asked { address, answers: [0x1d, 0x51, 0x68].contains(&address), bytes: 0 })
        .collect();
    all.push(case("a scan over all addresses", World::asked(random, &scan)).finds("scan", "109 of 112"));
    let empty: Vec<Asked> = (0x08..0x78).map(|address| Asked { address, answers: false, bytes: 0 }).collect();
    all.push(case("a scan that finds nobody", World::asked(random, &empty)).finds("no-answer", "112"));
    for line in [0, 1] {
        let names = ["the clock never changes", "the data line never changes"];
        for level in [false, true] {
            let mut world = healthy(random);
            world.stuck(line, level, 0);
            let word = if level { "lead" } else { "pull-up" };
            all.push(case(names[line], world).finds("silent", word));
        }
        let mut world = healthy(random);
        let half = world.now / 2;
        world.stuck(line, false, half);
        let names = ["the clock hangs low from the middle on", "the data line hangs low from the middle on"];
        all.push(case(names[line], world).finds("hung", &format!("L{line}")));
    }
    all.push(
        case("too slow a rate", healthy(random))
            .at(&[1, 2])
            .finds("rate", "record at")
            .finds("noise", "record faster"),
    );
    let mut world = healthy(random);
    world.no_ground(random);
    all.push(case("no ground", world).finds("noise", "ground"));
    let mut world = healthy(random);
    world.crosstalk(1, 0, BIT / 40);
    all.push(case("crosstalk on the clock", world).finds("noise", "L0"));
    all
}
