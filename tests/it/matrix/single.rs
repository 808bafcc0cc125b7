//! Mistakes on one line.

use deep_tap::decode::{CanConfig, LinConfig, Parity, Protocol, PulsesConfig, UartConfig};
use deep_tap::line::BitOrder;
use deep_tap::line::Level;

use super::Case;
use crate::senders::{BIT, Byte, CanSender, Ps, Random, World, frequency};

/// The ratios of a stated rate to the true one.
const RATIOS: [(i64, i64); 20] = [
    (1, 32),
    (1, 16),
    (1, 10),
    (1, 8),
    (1, 6),
    (1, 4),
    (1, 3),
    (1, 2),
    (2, 3),
    (3, 4),
    (4, 3),
    (3, 2),
    (2, 1),
    (3, 1),
    (4, 1),
    (6, 1),
    (8, 1),
    (10, 1),
    (16, 1),
    (32, 1),
];

pub(super) fn cases(random: &mut Random) -> Vec<Case> {
    let mut all = uart(random);
    all.extend(can(random));
    all.extend(lin(random));
    all.extend(one_wire(random));
    all.extend(lights(random));
    all
}

const TEXT: &str = "level 4.217 m, 11.3 degC, 3.29 V, 0 faults\r\n";

fn uart(random: &mut Random) -> Vec<Case> {
    let plain = UartConfig::new(frequency(BIT));
    let bytes: Vec<u64> = (0..60).map(|_| random.next() & 0xff).collect();
    let text: Vec<u64> = TEXT.bytes().map(u64::from).collect();
    let send = |random: &mut Random, bytes: &[u64], how| World::bytes(random, BIT, bytes, how);
    let case = |name: &str, world, config| Case::healthy(name, world, &[0], Protocol::Uart(config));
    let even = Byte { parity: Some(true), ..Byte::PLAIN };
    let odd = Byte { parity: Some(false), ..Byte::PLAIN };
    let seven = |parity| Byte { bits: 7, parity, ..Byte::PLAIN };
    let turned = Byte { inverted: true, ..Byte::PLAIN };
    let mut all = vec![
        case("healthy", send(random, &bytes, Byte::PLAIN), plain),
        case("healthy, text", send(random, &text, Byte::PLAIN), plain),
        case("healthy, parity", send(random, &bytes, even), plain.parity(Parity::Even)),
        case(
            "healthy, 7 bits",
            send(random, &text, seven(Some(false))),
            plain.data_bits(7).parity(Parity::Odd),
        ),
        case("healthy, inverted", send(random, &bytes, turned), plain.inverted(true)),
        case("healthy, 3 bytes", send(random, &bytes[..3], Byte::PLAIN), plain),
        case("healthy, 1 byte", send(random, &bytes[..1], Byte::PLAIN), plain),
    ];
    for byte in [0x00, 0xff, 0x55, 0xf0, 0x0f, 0x33, 0x80, 0xfe, 0xc0] {
        let same = vec![byte; 40];
        all.push(case("healthy, one byte again and again", send(random, &same, Byte::PLAIN), plain));
    }
    for error in [-15, 15] {
        let world = World::bytes(random, BIT + BIT * error / 1000, &bytes, Byte::PLAIN);
        all.push(case("healthy, sender 1.5 % off", world, plain));
    }
    let mut cut = send(random, &bytes, Byte::PLAIN);
    let (from, to) = (BIT * (30 + random.below(100)), cut.now - BIT * (20 + random.below(60)));
    cut.cut(from, to);
    all.push(case("healthy, begins and ends in a byte", cut, plain).unknowable(&["start"]));
    for (stated, real) in RATIOS {
        let config = UartConfig::new(frequency(BIT * real / stated));
        for (name, bytes) in [
            ("wrong bit rate", &bytes[..]),
            ("wrong bit rate, text", &text),
            ("wrong bit rate, 6 bytes", &bytes[..6]),
        ] {
            let case = case(name, send(random, bytes, Byte::PLAIN), config);
            all.push(case.finds("bit-rate", "1 MHz").finds("bit-rate", "00 kHz").finds("bit-rate", "99"));
        }
    }
    for error in [-70i64, -50, 50, 70] {
        let world = World::bytes(random, BIT + BIT * error / 1000, &bytes, Byte::PLAIN);
        let bit: Ps = BIT + BIT * error / 1000;
        let word = if error > 0 { "longer" } else { "shorter" };
        all.push(
            case("sender off by 5 or 7 %", world, plain)
                .bit(bit)
                .finds("bit-rate", word)
                .finds("bit-rate", "setup says"),
        );
    }
    let formats = [
        ("parity is sent, none is stated", even, plain, "parity = \"even\""),
        ("parity is stated, none is sent", Byte::PLAIN, plain.parity(Parity::Even), "parity = \"none\""),
        ("the other parity", odd, plain.parity(Parity::Even), "parity = \"odd\""),
        ("8 bits, 7 stated", Byte::PLAIN, plain.data_bits(7), "data-bits = 8"),
        ("7 bits, 8 stated", seven(None), plain, "data-bits = 7"),
        ("7 bits and parity, 8 stated", seven(Some(true)), plain, "data-bits = 7, parity = \"even\""),
        ("9 bits, 8 stated", Byte { bits: 9, ..Byte::PLAIN }, plain, "data-bits = 9"),
    ];
    for (name, how, config, remedy) in formats {
        let nine: Vec<u64> = (0..60).map(|_| random.next() & 0x1ff).collect();
        let mask = (1 << how.bits) - 1;
        let own: Vec<u64> = nine.iter().map(|byte| byte & mask).collect();
        all.push(case(name, send(random, &own, how), config).finds("format", remedy));
    }
    all.push(case("inverted", send(random, &bytes, turned), plain).finds("inverted", "inverted = true"));
    all.push(
        case("inverted, text", send(random, &text, Byte::PLAIN), plain.inverted(true))
            .finds("inverted", "inverted = false"),
    );
    let order = plain.order(BitOrder::HighestFirst);
    all.push(
        case("bits in the other order", send(random, &bytes, Byte::PLAIN), order).unknowable(&["bit-order"]),
    );
    all.push(
        case("bits in the other order, text", send(random, &text, Byte::PLAIN), order)
            .finds("bit-order", "lowest-first"),
    );
    all.push(
        case("too slow a rate", send(random, &bytes, Byte::PLAIN), plain)
            .at(&[2, 3])
            .finds("rate", "record at"),
    );
    for level in [false, true] {
        let mut world = send(random, &bytes, Byte::PLAIN);
        world.stuck(0, level, 0);
        all.push(case("nothing is sent, or the lead is off", world, plain).finds("silent", "never changes"));
    }
    let mut world = send(random, &bytes, Byte::PLAIN);
    let half = world.now / 2;
    world.stuck(0, false, half);
    all.push(case("hangs low from the middle on", world, plain).finds("hung", "low"));
    let mut world = send(random, &bytes, Byte::PLAIN);
    world.no_ground(random);
    all.push(case("no ground", world, plain).finds("noise", "ground"));
    let mut world = send(random, &bytes, Byte::PLAIN);
    let length = world.now;
    world.spikes(random, length / BIT / 10, BIT);
    all.push(case("spikes", world, plain).finds("noise", ""));
    all
}

fn can(random: &mut Random) -> Vec<Case> {
    let plain = CanConfig::new(frequency(BIT));
    let case = |name: &str, world, config| Case::healthy(name, world, &[0], Protocol::Can(config));
    let mut all = vec![
        case("healthy", World::can(random, BIT, 20, CanSender::Heard), plain),
        case("healthy, 2 frames", World::can(random, BIT, 2, CanSender::Heard), plain),
        case("healthy, sender 0.5 % off", World::can(random, BIT * 1005 / 1000, 20, CanSender::Heard), plain),
    ];
    let mut cut = World::can(random, BIT, 20, CanSender::Heard);
    let (from, to) = (BIT * (60 + random.below(100)), cut.now - BIT * (40 + random.below(60)));
    cut.cut(from, to);
    all.push(case("healthy, begins and ends in a frame", cut, plain));
    let flexible = World::flexible(random, BIT, &[8, 3, 64, 0, 12, 1, 20, 7], 4);
    let fast = plain.data_bit_rate(Some(frequency(BIT / 4)));
    all.push(case("healthy, flexible data rate", flexible, fast).at(&[40, 100]));
    for (stated, real) in RATIOS {
        let config = CanConfig::new(frequency(BIT * real / stated));
        let case = case("wrong bit rate", World::can(random, BIT, 20, CanSender::Heard), config);
        all.push(case.finds("bit-rate", "1 MHz"));
    }
    all.push(
        case("inverted", World::can(random, BIT, 20, CanSender::Heard), plain.inverted(true))
            .finds("inverted", "false"),
    );
    all.push(
        case("nobody acknowledges", World::can(random, BIT, 6, CanSender::Alone), plain)
            .finds("no-answer", "alone"),
    );
    all.push(
        case("too slow a rate", World::can(random, BIT, 20, CanSender::Heard), plain)
            .at(&[2, 3])
            .finds("rate", "record at"),
    );
    let mut world = World::can(random, BIT, 20, CanSender::Heard);
    world.stuck(0, random.chance(50), 0);
    all.push(case("nothing is sent, or the lead is off", world, plain).finds("silent", "never changes"));
    let mut world = World::can(random, BIT, 20, CanSender::Heard);
    let half = world.now / 2;
    world.stuck(0, false, half);
    all.push(case("hangs dominant from the middle on", world, plain).finds("hung", "low"));
    let mut world = World::can(random, BIT, 20, CanSender::Heard);
    world.no_ground(random);
    all.push(case("no ground", world, plain).finds("noise", "ground"));
    let mut world = World::can(random, BIT, 20, CanSender::Heard);
    let length = world.now;
    world.spikes(random, length / BIT / 10, BIT);
    all.push(case("spikes", world, plain).finds("noise", ""));
    all
}

fn lin(random: &mut Random) -> Vec<Case> {
    let plain = LinConfig::new(frequency(BIT));
    let case = |name: &str, world, config| Case::healthy(name, world, &[0], Protocol::Lin(config));
    let send =
        |random: &mut Random, frames, classic, answered| World::lin(random, BIT, frames, classic, answered);
    let mut all = vec![
        case("healthy", send(random, 12, false, true), plain),
        case("healthy, classic", send(random, 12, true, true), plain.classic(true)),
        case("healthy, 1 frame", send(random, 1, false, true), plain),
    ];
    for (stated, real) in RATIOS {
        let config = LinConfig::new(frequency(BIT * real / stated));
        all.push(case("wrong bit rate", send(random, 12, false, true), config).finds("bit-rate", "1 MHz"));
    }
    all.push(case("the other checksum", send(random, 12, true, true), plain).finds("checksum", "classic"));
    all.push(case("nobody answers", send(random, 12, false, false), plain).finds("no-answer", "answers"));
    all.push(
        case("too slow a rate", send(random, 12, false, true), plain).at(&[2, 3]).finds("rate", "record at"),
    );
    let mut world = send(random, 12, false, true);
    world.stuck(0, random.chance(50), 0);
    all.push(case("nothing is sent, or the lead is off", world, plain).finds("silent", "never changes"));
    let mut world = send(random, 12, false, true);
    let half = world.now / 2;
    world.stuck(0, false, half);
    all.push(case("hangs low from the middle on", world, plain).finds("hung", "low"));
    let mut world = send(random, 12, false, true);
    world.no_ground(random);
    all.push(case("no ground", world, plain).finds("noise", "ground"));
    all
}

fn one_wire(random: &mut Random) -> Vec<Case> {
    let case = |name: &str, world| Case::healthy(name, world, &[0], Protocol::OneWire);
    let mut all = vec![
        case("healthy", World::one_wire(random, 8, true)),
        case("healthy, 1 exchange", World::one_wire(random, 1, true)),
        case("no part", World::one_wire(random, 8, false)).finds("no-answer", "part"),
        // Its pulses take 6 us: twelve bits' samples are two of them.
    ];
    let mut cut = World::one_wire(random, 6, true);
    let (from, to) = (BIT * (900 + random.below(2000)), cut.now - BIT * random.below(300));
    cut.cut(from, to);
    all.push(case("healthy, begins and ends in an exchange", cut));
    let mut world = World::one_wire(random, 8, true);
    world.stuck(0, true, 0);
    all.push(case("nothing is sent, or the lead is off", world).finds("silent", "never changes"));
    let mut world = World::one_wire(random, 8, true);
    world.stuck(0, false, 0);
    all.push(case("held low", world).finds("silent", "pull-up"));
    let mut world = World::one_wire(random, 8, true);
    let half = world.now / 2;
    world.stuck(0, false, half);
    all.push(case("hangs low from the middle on", world).finds("hung", "low"));
    let mut world = World::one_wire(random, 8, true);
    world.no_ground(random);
    all.push(case("no ground", world).finds("noise", "ground"));
    all
}

fn lights(random: &mut Random) -> Vec<Case> {
    let time = |text: &str| text.parse().unwrap();
    let plain = PulsesConfig::new(time("600 ns"), time("50 us"), 24);
    let case =
        |name: &str, world, config| Case::healthy(name, world, &[0], Protocol::Pulses(config)).bit(BIT / 2);
    let mut all = vec![
        case("healthy", World::lights(random, 6, 5), plain),
        case("healthy, 1 chain", World::lights(random, 1, 3), plain),
    ];
    for (threshold, name) in [("1 us", "the threshold is too long"), ("200 ns", "the threshold is too short")]
    {
        let config = PulsesConfig::new(time(threshold), time("50 us"), 24);
        all.push(
            case(name, World::lights(random, 6, 5), config)
                .finds("threshold", "600 ns")
                .finds("threshold", "6"),
        );
    }
    let long = PulsesConfig::new(time("600 ns"), time("5 ms"), 24);
    all.push(case("the rest is too long", World::lights(random, 6, 5), long).finds("rest", "below"));
    all.push(case("inverted", World::lights(random, 6, 5), plain.inverted(true)).finds("inverted", "false"));
    all.push(case("other words", World::lights(random, 6, 5), plain.bits(32)).finds("word-length", "24"));
    let mut world = World::lights(random, 6, 5);
    world.stuck(0, Level::from(random.chance(50)) == Level::High, 0);
    all.push(case("nothing is sent, or the lead is off", world, plain).finds("silent", "never changes"));
    let mut world = World::lights(random, 6, 5);
    world.no_ground(random);
    all.push(case("no ground", world, plain).finds("noise", "ground"));
    all
}
