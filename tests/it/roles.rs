//! Which line is what: buses of all kinds, their lines in any order among others, against what is said of them.

use deep_tap::capture::{Capture, Trace};
use deep_tap::diagnose::Sureness;
use deep_tap::line::{Level, Line, LineId};
use deep_tap::roles::{Roles, roles};
use deep_tap::time::Tick;

use crate::senders::{BIT, Random, World};
use crate::support::toggles;

/// What a record truly has: the kind, and the lines by role, those of data together.
struct Truth {
    kind: &'static str,
    clock: Option<usize>,
    select: Option<usize>,
    data: Vec<usize>,
    mode: Option<u8>,
}

/// Lines of which somebody else knows what they are, in another order, with idle ones and some that have
/// nothing to do with them.
fn shuffled(random: &mut Random, record: &Capture) -> (Capture, Vec<usize>) {
    let mut lines: Vec<Option<usize>> = (0..record.lines().len()).map(Some).collect();
    lines.extend([None, None, None]);
    for place in (1..lines.len()).rev() {
        lines.swap(place, random.below(place as i64 + 1) as usize);
    }
    let len = record.len();
    let mut capture = Capture::builder(record.base(), len).resolution(*record.resolution());
    let mut places = vec![0; record.lines().len()];
    for (place, line) in lines.iter().enumerate() {
        let trace: Trace = match line {
            Some(line) => {
                places[*line] = place;
                let trace = record.trace(LineId(*line));
                let edges: Vec<u64> = trace.edges(record.range()).map(|edge| edge.tick.0).collect();
                toggles(trace.level_at(Tick(0)), &edges, len)
            }
            None if random.below(2) == 0 => toggles(Level::from(random.below(2) == 0), &[], len),
            None => {
                // Edges at random, as noise or somebody's button makes them.
                let mut at = 0;
                let count = random.below(300);
                let pace = (len as i64 / (count + 2)).max(2);
                let edges = (0..count).map(|_| {
                    at += 1 + random.below(2 * pace - 1) as u64;
                    at
                });
                let edges: Vec<u64> = edges.filter(|at| *at < len).collect();
                toggles(Level::Low, &edges, len)
            }
        };
        capture = capture.line(Line::named(format!("L{place}")), trace);
    }
    (capture.build().unwrap(), places)
}

/// Whether what was found is the truth, and whether anything that is sure is wrong.
fn judge(found: &Roles, truth: &Truth, places: &[usize]) -> (bool, bool) {
    let place = |line: usize| LineId(places[line]);
    let right = found.buses.first().is_some_and(|guess| {
        let bus = &guess.bus;
        let of = |names: &[&str]| -> Vec<LineId> { names.iter().filter_map(|name| bus.line(name)).collect() };
        let mut data = of(&["data", "mosi", "miso", "line"]);
        let mut wanted: Vec<LineId> = truth.data.iter().map(|line| place(*line)).collect();
        data.sort_unstable();
        wanted.sort_unstable();
        let mode = match bus.protocol() {
            deep_tap::decode::Protocol::Spi(config) => Some(config.mode),
            _ => None,
        };
        bus.protocol().name() == truth.kind
            && bus.line("clock") == truth.clock.map(place)
            && bus.line("select") == truth.select.map(place)
            && data == wanted
            && (truth.mode.is_none() || mode == truth.mode)
    });
    let sure = |guess: &deep_tap::roles::BusGuess| guess.sureness == Sureness::Certain;
    let wrong = found.buses.iter().skip(usize::from(right)).any(sure);
    (right, wrong)
}

#[test]
fn buses_are_told_whatever_their_lines_are_called() {
    let mut random = Random(0x853c_49e6_748f_ea9b);
    let (mut all, mut right) = ([0; 4], [0; 4]);
    let mut wrong = Vec::new();
    for round in 0..240 {
        let kind = round % 4;
        let mode = (round / 4 % 4) as u8;
        let frames = 20 + random.below(60) as usize;
        let per_bit = 8 + random.below(40);
        let bit = [1_000_000, 1_736_111, 8_680_556][random.below(3) as usize];
        let (world, truth) = match kind {
            0 => (
                World::uart(&mut random, bit, frames),
                Truth { kind: "uart", clock: None, select: None, data: vec![0], mode: None },
            ),
            1 => (
                World::words(&mut random, mode, true, frames),
                Truth { kind: "spi", clock: Some(0), select: Some(1), data: vec![2, 3], mode: Some(mode) },
            ),
            2 => (
                World::words(&mut random, mode, false, frames),
                Truth { kind: "spi", clock: Some(0), select: None, data: vec![2, 3], mode: Some(mode) },
            ),
            _ => (
                World::two_wires(&mut random, frames),
                Truth { kind: "i2c", clock: Some(0), select: None, data: vec![1], mode: None },
            ),
        };
        let own = if kind == 0 { bit } else { BIT };
        let record = world.sampled(&mut random, own / per_bit, 0);
        let (record, places) = shuffled(&mut random, &record);
        let found = roles(&record);
        let (is_right, is_wrong) = judge(&found, &truth, &places);
        all[kind] += 1;
        right[kind] += usize::from(is_right);
        if is_wrong || !is_right {
            let told: Vec<String> = found
                .buses
                .iter()
                .map(|guess| {
                    format!(
                        "{} {:?} {}: {:?}",
                        guess.bus.protocol().name(),
                        guess.bus.lines(),
                        guess.sureness,
                        guess.reasons
                    )
                })
                .collect();
            println!("{} mode {mode}, {frames} frames, {per_bit} per bit, {places:?}: {told:#?}", truth.kind);
        }
        if is_wrong {
            wrong.push(round);
        }
    }
    println!("{right:?} of {all:?}");
    assert_eq!(wrong, Vec::<usize>::new(), "sure and wrong");
    let (right, all): (usize, usize) = (right.iter().sum(), all.iter().sum());
    assert!(right * 100 >= all * 95, "{right} of {all}");
}

/// The kinds and lines of what was found, with how sure it is.
fn told(found: &Roles, capture: &Capture) -> Vec<String> {
    let name = |line: &LineId| capture.line(*line).name.clone();
    let guess = |guess: &deep_tap::roles::BusGuess| {
        let lines: Vec<String> = guess.bus.lines().iter().map(name).collect();
        format!("{} {}: {}", guess.sureness, guess.bus.protocol().name(), lines.join(" "))
    };
    found.buses.iter().map(guess).collect()
}

#[test]
fn the_boards_of_the_bench_and_other_peoples_models_are_told() {
    let (_, buses) = crate::acquisition::waited(&crate::acquisition::buses());
    let buses = buses.unwrap();
    let found = roles(&buses);
    let wanted = [
        "certain can: CAN_RX",
        "certain i2c: RTC_SCL RTC_SDA",
        "likely pulses: LAMPS",
        "likely uart: GNSS_TX",
    ];
    assert_eq!(told(&found, &buses), wanted);
    assert!(found.idle.iter().any(|left| buses.line(left.line).name == "MEM_OE_N"));
    let (_, gauge) = crate::support::demo("", None);
    assert_eq!(told(&roles(&gauge), &gauge), ["certain spi: ADC_SCLK ADC_CS_N ADC_MOSI ADC_MISO"]);
    let dump =
        std::fs::read(crate::support::root().join("tests/fixtures/bus-models/bus_models.vcd")).unwrap();
    let models = deep_tap::format::vcd::read(&dump, std::path::Path::new("m")).unwrap();
    let seen = told(&roles(&models), &models);
    for wanted in
        ["certain i2c: top.scl top.sda", "certain spi: top.sclk top.cs top.mosi", "likely uart: top.tx"]
    {
        assert!(seen.iter().any(|told| told == wanted), "{wanted}: {seen:?}");
    }
    let sure = seen.iter().filter(|told| told.starts_with("certain"));
    assert!(sure.clone().all(|told| told.contains("scl") || told.contains("sclk")), "{seen:?}");
}

#[test]
fn what_is_found_becomes_a_setup_that_reads_it() {
    let mut random = Random(0x2545_f491_4f6c_dd1d);
    for round in 0..8 {
        let world = match round % 4 {
            0 => World::uart(&mut random, BIT, 60),
            1 => World::words(&mut random, 3, true, 60),
            2 => World::words(&mut random, 0, false, 60),
            _ => World::two_wires(&mut random, 60),
        };
        let record = world.sampled(&mut random, BIT / 20, 0);
        let (record, _) = shuffled(&mut random, &record);
        let found = roles(&record);
        let text = found.setup(&record);
        let setup = crate::support::setup(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
        let frames = found.buses[0].frames;
        let named = setup.apply(record).unwrap();
        let read = setup.serial[0].frames(&named, named.range()).unwrap();
        let whole = read.filter(|frame| frame.faults.iter().all(|fault| fault.kind == "order")).count();
        assert!(whole >= frames, "{whole} of {frames}: {text}");
    }
}

#[test]
fn nothing_is_sure_where_there_is_nothing() {
    let mut random = Random(0x9e6c_63d0_876a_68ee);
    for round in 0..60 {
        let len = 200_000;
        let base = deep_tap::time::TimeBase::from_rate("10 MS/s".parse().unwrap()).unwrap();
        let mut capture = Capture::builder(base, len);
        for number in 0..1 + round % 6 {
            let pace = [2, 20, 300, 5000][random.below(4) as usize];
            let mut at = 0;
            let edges = (0..3000).map(|_| {
                at += 1 + random.below(pace) as u64;
                at
            });
            let edges: Vec<u64> = edges.filter(|at| *at < len).collect();
            let first = Level::from(random.below(2) == 0);
            capture = capture.line(Line::named(format!("L{number}")), toggles(first, &edges, len));
        }
        let capture = capture.build().unwrap();
        let found = roles(&capture);
        let sure = found.buses.iter().filter(|guess| guess.sureness == Sureness::Certain);
        assert_eq!(sure.count(), 0, "{:?}", told(&found, &capture));
        crate::support::setup(&found.setup(&capture)).unwrap();
    }
}
