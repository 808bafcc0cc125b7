//! Mistakes on buses with a clock of their own.

use deep_tap::decode::{ClockedConfig, I2sConfig, JtagConfig, ParallelConfig, Protocol, SpiConfig, Strobes};
use deep_tap::line::{BitOrder, Level};

use super::Case;
use crate::senders::{BIT, Random, World};

pub(super) fn cases(random: &mut Random) -> Vec<Case> {
    let mut all = selected(random);
    all.extend(paused(random));
    all.extend(plain_clock(random));
    all.extend(sound(random));
    all.extend(two_lines(random));
    all.extend(port(random));
    all.extend(parallel(random));
    all.extend(memory(random));
    all
}

const MODES: [&str; 4] = ["mode = 0", "mode = 1", "mode = 2", "mode = 3"];

fn selected(random: &mut Random) -> Vec<Case> {
    let case =
        |name: &str, world, lines: &[usize], config| Case::healthy(name, world, lines, Protocol::Spi(config));
    let all_lines = [0, 1, 2, 3];
    let mut all = Vec::new();
    for mode in 0..4u8 {
        let config = SpiConfig::new(mode);
        all.push(case("healthy", World::words(random, mode, true, 40), &all_lines, config));
        all.push(case(
            "healthy, 1 selection",
            World::words_of(random, mode, true, 4, 8, 8),
            &all_lines,
            config,
        ));
        for stated in (0..4u8).filter(|stated| *stated != mode) {
            let world = World::words(random, mode, true, 40);
            all.push(
                case("wrong mode", world, &all_lines, SpiConfig::new(stated))
                    .finds("mode", MODES[mode as usize]),
            );
            let world = World::words_of(random, mode, true, 4, 8, 8);
            let one = case("wrong mode, 1 selection", world, &all_lines, SpiConfig::new(stated));
            all.push(one.finds("mode", MODES[mode as usize]));
        }
        let mut cut = World::words(random, mode, true, 40);
        let (from, to) = (BIT * (23 + random.below(30)), cut.now - BIT * (25 + random.below(30)));
        cut.cut(from, to);
        all.push(case("healthy, begins and ends in a selection", cut, &all_lines, config));
        let world = World::words_of(random, mode, true, 40, 12, 1);
        all.push(case("12 bits, 8 stated", world, &all_lines, config).finds("word-length", "bits = 12"));
        let world = World::words_of(random, mode, true, 60, 8, 3);
        all.push(
            case("8 bits, 16 stated", world, &all_lines, config.bits(16)).finds("word-length", "bits = 8"),
        );
        let world = World::words_of(random, mode, true, 40, 16, 3);
        all.push(case("16 bits, 8 stated", world, &all_lines, config).unknowable(&[]));
        let other = config.select(Some(Level::High));
        let world = World::words(random, mode, true, 40);
        all.push(case("the select's other level", world, &all_lines, other).finds("select-active", "low"));
        for level in [true, false] {
            let mut world = World::words(random, mode, true, 40);
            world.stuck(1, level, 0);
            let name = if level { "the select is never active" } else { "the select is always active" };
            all.push(case(name, world, &all_lines, config).finds("select", "L1"));
        }
        for (name, lines, right) in [
            ("clock and select exchanged", [1, 0, 2, 3], "clock = \"L0\", select = \"L1\""),
            ("clock and data exchanged", [2, 1, 0, 3], "clock = \"L0\""),
            ("select and data exchanged", [0, 2, 1, 3], "select = \"L1\""),
        ] {
            let world = World::words(random, mode, true, 40);
            all.push(case(name, world, &lines, config).finds("swapped", right));
        }
        let world = World::words(random, mode, true, 40);
        all.push(case("the two data lines exchanged", world, &[0, 1, 3, 2], config).unknowable(&[]));
        let world = World::words(random, mode, true, 40);
        let order = config.order(BitOrder::LowestFirst);
        all.push(case("bits in the other order", world, &all_lines, order).unknowable(&["bit-order"]));
        for line in [2, 3] {
            let mut world = World::words(random, mode, true, 40);
            world.stuck(line, random.chance(50), 0);
            let name = if line == 2 { "the first data line is dead" } else { "the second data line is dead" };
            all.push(case(name, world, &all_lines, config).finds("silent", &format!("L{line}")));
        }
        let mut world = World::words(random, mode, true, 40);
        world.echo(0, 3);
        all.push(case("a lead is off and picks up the clock", world, &all_lines, config).finds("echo", "L3"));
        let mut world = World::words(random, mode, true, 40);
        world.stuck(0, mode & 2 != 0, 0);
        all.push(case("the clock never changes", world, &all_lines, config).finds("silent", "L0"));
        let mut world = World::words(random, mode, true, 40);
        let inside = world.now / 2;
        let place = world.toggles[1].iter().position(|at| *at > inside).unwrap() | 1;
        let inside = world.toggles[1][place] - BIT * 2;
        world.hung(inside);
        all.push(case("hangs in a selection", world, &all_lines, config).finds("hung", ""));
        let world = World::words(random, mode, true, 40);
        all.push(case("too slow a rate", world, &all_lines, config).at(&[2, 3]).finds("rate", "record at"));
        let mut world = World::words(random, mode, true, 40);
        world.no_ground(random);
        all.push(case("no ground", world, &all_lines, config).finds("noise", "ground"));
        let mut world = World::words(random, mode, true, 40);
        world.crosstalk(2, 0, BIT / 30);
        all.push(case("crosstalk on the clock", world, &all_lines, config).finds("noise", "L0"));
    }
    all
}

/// Words without a select, parted by pauses.
fn paused(random: &mut Random) -> Vec<Case> {
    let mut all = Vec::new();
    for mode in 0..4u8 {
        let config = SpiConfig::new(mode).select(None).gap(Some("6 us".parse().unwrap()));
        let case = |name: &str, world, lines: &[usize], config| {
            Case::healthy(&format!("{name} (no select)"), world, lines, Protocol::Spi(config))
        };
        let lines = [0, 2, 3];
        all.push(case("healthy", World::words(random, mode, false, 40), &lines, config));
        for stated in (0..4u8).filter(|stated| *stated != mode) {
            let world = World::words(random, mode, false, 40);
            all.push(
                case("wrong mode", world, &lines, config.mode(stated)).finds("mode", MODES[mode as usize]),
            );
        }
        let world = World::words_of(random, mode, false, 40, 12, 1);
        all.push(case("12 bits, 8 stated", world, &lines, config).finds("word-length", "bits = 12"));
        let world = World::words(random, mode, false, 40);
        all.push(
            case("clock and data exchanged", world, &[2, 0, 3], config).finds("swapped", "clock = \"L0\""),
        );
        let mut world = World::words(random, mode, false, 40);
        world.stuck(3, random.chance(50), 0);
        all.push(case("the second data line is dead", world, &lines, config).finds("silent", "L3"));
        let world = World::words(random, mode, false, 40);
        all.push(case("too slow a rate", world, &lines, config).at(&[2, 3]).finds("rate", "record at"));
    }
    all
}

fn plain_clock(random: &mut Random) -> Vec<Case> {
    let mut all = Vec::new();
    for mode in 0..4u8 {
        let rising = matches!(mode, 0 | 3);
        let config = ClockedConfig::new(8).gap(Some("6 us".parse().unwrap())).rising(rising);
        let case = |name: &str, world, lines: &[usize], config| {
            Case::healthy(name, world, lines, Protocol::Clocked(config))
        };
        all.push(case("healthy", World::words(random, mode, false, 40), &[0, 2], config));
        let world = World::words(random, mode, false, 40);
        let remedy = if rising { "edge = \"rises\"" } else { "edge = \"falls\"" };
        all.push(case("the other edge", world, &[0, 2], config.rising(!rising)).finds("edge", remedy));
        let world = World::words_of(random, mode, false, 40, 12, 1);
        all.push(case("12 bits, 8 stated", world, &[0, 2], config).finds("word-length", "bits = 12"));
        let world = World::words(random, mode, false, 40);
        all.push(case("clock and data exchanged", world, &[2, 0], config).finds("swapped", "clock = \"L0\""));
        for (line, name) in [(0, "the clock never changes"), (2, "the data line is dead")] {
            let mut world = World::words(random, mode, false, 40);
            let level = if line == 0 { mode & 2 != 0 } else { random.chance(50) };
            world.stuck(line, level, 0);
            all.push(case(name, world, &[0, 2], config).finds("silent", &format!("L{line}")));
        }
        let world = World::words(random, mode, false, 40);
        all.push(case("too slow a rate", world, &[0, 2], config).at(&[2, 3]).finds("rate", "record at"));
        let mut world = World::words(random, mode, false, 40);
        world.no_ground(random);
        all.push(case("no ground", world, &[0, 2], config).finds("noise", "ground"));
    }
    all
}

fn sound(random: &mut Random) -> Vec<Case> {
    let case = |name: &str, world, lines: &[usize], bits| {
        Case::healthy(name, world, lines, Protocol::I2s(I2sConfig::new(bits)))
    };
    let mut all = vec![
        case("healthy", World::sound(random, 40), &[0, 1, 2], 16),
        case("24 bits stated, 16 are sent", World::sound(random, 40), &[0, 1, 2], 24)
            .finds("word-length", "16"),
        case("clock and word select exchanged", World::sound(random, 40), &[1, 0, 2], 16)
            .finds("swapped", "clock = \"L0\""),
        case("clock and data exchanged", World::sound(random, 40), &[2, 1, 0], 16)
            .finds("swapped", "clock = \"L0\""),
        case("word select and data exchanged", World::sound(random, 40), &[0, 2, 1], 16)
            .finds("swapped", "select = \"L1\""),
        case("too slow a rate", World::sound(random, 40), &[0, 1, 2], 16)
            .at(&[2, 3])
            .finds("rate", "record at"),
    ];
    for line in 0..3 {
        let mut world = World::sound(random, 40);
        world.stuck(line, random.chance(50), 0);
        all.push(case("a line is dead", world, &[0, 1, 2], 16).finds("silent", &format!("L{line}")));
    }
    let mut world = World::sound(random, 40);
    world.no_ground(random);
    all.push(case("no ground", world, &[0, 1, 2], 16).finds("noise", "ground"));
    all
}

/// Management frames, and serial wire debug.
fn two_lines(random: &mut Random) -> Vec<Case> {
    type Send = fn(&mut Random, usize, bool) -> World;
    let mut all = Vec::new();
    for (send, protocol) in
        [(World::management as Send, Protocol::Mdio), (World::debug as Send, Protocol::Swd)]
    {
        let case = |name: &str, world, lines: &[usize]| Case::healthy(name, world, lines, protocol.clone());
        all.push(case("healthy", send(random, 20, true), &[0, 1]));
        all.push(case("healthy, 1 frame", send(random, 1, true), &[0, 1]));
        all.push(case("exchanged", send(random, 20, true), &[1, 0]).finds("swapped", "clock = \"L0\""));
        all.push(case("nobody answers", send(random, 20, false), &[0, 1]).finds("no-answer", "answer"));
        for line in 0..2 {
            let mut world = send(random, 20, true);
            world.stuck(line, random.chance(50), 0);
            all.push(case("a line is dead", world, &[0, 1]).finds("silent", &format!("L{line}")));
        }
        all.push(
            case("too slow a rate", send(random, 20, true), &[0, 1]).at(&[2, 3]).finds("rate", "record at"),
        );
        let mut world = send(random, 20, true);
        world.no_ground(random);
        all.push(case("no ground", world, &[0, 1]).finds("noise", "ground"));
    }
    all
}

fn port(random: &mut Random) -> Vec<Case> {
    let config = |chain: &[u32]| JtagConfig::default().chain(chain.to_vec());
    let case = |name: &str, world, lines: &[usize], config| {
        Case::healthy(name, world, lines, Protocol::Jtag(config))
    };
    let all_lines = [0, 1, 2, 3];
    let mut all = vec![
        case("healthy", World::port(random, 12), &all_lines, config(&[5, 4])),
        case("healthy, no chain stated", World::port(random, 12), &all_lines, config(&[])),
        case("another chain", World::port(random, 12), &all_lines, config(&[5])).finds("chain", "chain"),
        case("clock and mode exchanged", World::port(random, 12), &[1, 0, 2, 3], config(&[5, 4]))
            .finds("swapped", "tck = \"L0\""),
        case("mode and data exchanged", World::port(random, 12), &[0, 2, 1, 3], config(&[5, 4]))
            .finds("swapped", "tms = \"L1\""),
        case("the two data lines exchanged", World::port(random, 12), &[0, 1, 3, 2], config(&[5, 4]))
            .unknowable(&[]),
        case("too slow a rate", World::port(random, 12), &all_lines, config(&[5, 4]))
            .at(&[2, 3])
            .finds("rate", "record at"),
    ];
    for line in [0, 1, 3] {
        let mut world = World::port(random, 12);
        world.stuck(line, random.chance(50), 0);
        all.push(
            case("a line is dead", world, &all_lines, config(&[5, 4])).finds("silent", &format!("L{line}")),
        );
    }
    for level in [false, true] {
        let mut world = World::port(random, 12);
        world.stuck(2, level, 0);
        let dead = case("the line to the parts is dead", world, &all_lines, config(&[5, 4]));
        // A chain that is only bypassed is sent nothing but ones.
        all.push(if level { dead.unknowable(&["silent"]) } else { dead.finds("silent", "L2") });
    }
    let mut world = World::port(random, 12);
    world.no_ground(random);
    all.push(case("no ground", world, &all_lines, config(&[5, 4])).finds("noise", "ground"));
    all
}

fn parallel(random: &mut Random) -> Vec<Case> {
    let config = ParallelConfig::new(Strobes::Clock(true), 8);
    let case = |name: &str, world, lines: &[usize], config| {
        Case::healthy(&format!("{name} (clock)"), world, lines, Protocol::Parallel(config))
    };
    let lines: Vec<usize> = (0..9).collect();
    let mut all = vec![
        case("healthy", World::parallel(random, 60), &lines, config),
        case("the other edge", World::parallel(random, 60), &lines, config.strobes(Strobes::Clock(false)))
            .finds("edge", "rises"),
        case(
            "clock and a data line exchanged",
            World::parallel(random, 60),
            &[3, 1, 2, 0, 4, 5, 6, 7, 8],
            config,
        )
        .finds("swapped", "L0"),
        case("too slow a rate", World::parallel(random, 60), &lines, config)
            .at(&[2, 3])
            .finds("rate", "record at"),
    ];
    for line in [0, 4] {
        let mut world = World::parallel(random, 60);
        world.stuck(line, random.chance(50), 0);
        let name = if line == 0 { "the clock never changes" } else { "one data line is dead" };
        all.push(case(name, world, &lines, config).finds("silent", &format!("L{line}")));
    }
    let mut world = World::parallel(random, 60);
    world.no_ground(random);
    all.push(case("no ground", world, &lines, config).finds("noise", "ground"));
    all
}

fn memory(random: &mut Random) -> Vec<Case> {
    let low = Some(Level::Low);
    let config = ParallelConfig::new(Strobes::Cycles { write: low, read: low }, 8).address(4);
    let case = |name: &str, world, lines: &[usize], config| {
        Case::healthy(&format!("{name} (memory)"), world, lines, Protocol::Parallel(config))
    };
    let lines: Vec<usize> = (0..14).collect();
    let mut exchanged = lines.clone();
    exchanged.swap(0, 1);
    let high = Some(Level::High);
    let turned = config.strobes(Strobes::Cycles { write: high, read: high });
    let mut all = vec![
        case("healthy", World::memory(random, 60), &lines, config),
        case("strobes exchanged", World::memory(random, 60), &exchanged, config).unknowable(&["swapped"]),
        case("strobes of the other level", World::memory(random, 60), &lines, turned)
            .finds("strobe-active", "low"),
    ];
    let mut world = World::memory(random, 60);
    world.stuck(5, random.chance(50), 0);
    all.push(case("one data line is dead", world, &lines, config).finds("silent", "L5"));
    let mut world = World::memory(random, 60);
    world.no_ground(random);
    all.push(case("no ground", world, &lines, config).finds("noise", "ground"));
    all
}
