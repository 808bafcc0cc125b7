//! Certain frames: true signals in continuous time, sampled at any rate and phase, with skew, spikes and
//! senders that are off, against what is read of them.

use deep_tap::bus::{FieldKind, Frame};
use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::decode::{ClockedConfig, I2cConfig, Protocol, SerialBus, SpiConfig, UartConfig};
use deep_tap::line::{Level, Line, LineId};
use deep_tap::quantity::{Frequency, Rational, Time};
use deep_tap::time::{Resolution, Tick, TimeBase};

/// Picoseconds.
pub(crate) type Ps = i64;

/// A bit of every bus here.
pub(crate) const BIT: Ps = 1_000_000;

pub(crate) struct Random(pub(crate) u64);

impl Random {
    pub(crate) fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    pub(crate) fn below(&mut self, end: i64) -> i64 {
        (self.next() % end.max(1) as u64) as i64
    }

    fn chance(&mut self, percent: i64) -> bool {
        self.below(100) < percent
    }
}

/// What was truly sent: when it began, and its data.
#[derive(Debug, PartialEq)]
struct Sent {
    at: Ps,
    data: Vec<u64>,
}

/// Lines in continuous time, each resting high or low, and what they carry.
pub(crate) struct World {
    rests: Vec<bool>,
    toggles: Vec<Vec<Ps>>,
    sent: Vec<Sent>,
    now: Ps,
    /// Length of a bit of this sender.
    bit: Ps,
}

impl World {
    fn new(rests: &[bool], bit: Ps) -> World {
        let toggles = rests.iter().map(|_| Vec::new()).collect();
        World { rests: rests.to_vec(), toggles, sent: Vec::new(), now: 20 * BIT, bit }
    }

    fn level(&self, line: usize) -> bool {
        self.rests[line] ^ (self.toggles[line].len() % 2 == 1)
    }

    fn set(&mut self, line: usize, level: bool, at: Ps) {
        if self.level(line) != level {
            self.toggles[line].push(at);
        }
    }

    fn wait(&mut self, thousandths: Ps) {
        self.now += self.bit * thousandths / 1000;
    }

    fn byte(&mut self, byte: u64) {
        let sent = Sent { at: self.now, data: vec![byte] };
        self.sent.push(sent);
        for place in 0..10 {
            let level = place == 9 || (place > 0 && byte >> (place - 1) & 1 == 1);
            self.set(0, level, self.now);
            self.wait(1000);
        }
    }

    pub(crate) fn uart(random: &mut Random, bit: Ps, frames: usize) -> World {
        let mut world = World::new(&[true], bit);
        for _ in 0..frames {
            world.byte(random.next() & 0xff);
            if random.chance(60) {
                let gap = random.below(25_000);
                world.wait(gap);
            }
        }
        world
    }

    /// Words of eight bits with a select (line 1), from (2) and to (3) the controller; or without a select.
    pub(crate) fn words(random: &mut Random, mode: u8, selected: bool, frames: usize) -> World {
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
            for _ in 0..(1 + random.below(4)).min(left as i64) {
                left -= 1;
                let values = [random.next() & 0xff, random.next() & 0xff];
                for place in (0..8).rev() {
                    let bits = [values[0] >> place & 1 == 1, values[1] >> place & 1 == 1];
                    // Data is put out half a period before the edge that takes it.
                    if phase {
                        world.set(0, !polarity, world.now);
                    }
                    for (line, bit) in bits.into_iter().enumerate() {
                        world.set(2 + line, bit, world.now + BIT * delay / 1000);
                    }
                    world.wait(500);
                    if place == 7 {
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

    pub(crate) fn two_wires(random: &mut Random, frames: usize) -> World {
        let mut world = World::new(&[true, true], BIT);
        let hold = 50 + random.below(250);
        let mut open = false;
        for frame in 1..=frames {
            if open {
                // A repeated start: data up while the clock is low, clock up, data down.
                world.set(1, true, world.now + BIT * hold / 1000);
                world.wait(500);
                world.set(0, true, world.now);
                world.wait(400);
            }
            world.set(1, false, world.now);
            let at = world.now;
            world.wait(500);
            world.set(0, false, world.now);
            let mut data = Vec::new();
            for number in 0..1 + random.below(4) {
                let byte = random.next() & 0xff;
                let byte = if number == 0 { byte.clamp(0x10, 0xe0) } else { byte };
                data.push(if number == 0 { byte >> 1 } else { byte });
                for place in (0..9).rev() {
                    let bit = if place == 0 { random.chance(20) } else { byte >> (place - 1) & 1 == 1 };
                    world.set(1, bit, world.now + BIT * hold / 1000);
                    world.wait(550);
                    world.set(0, true, world.now);
                    world.wait(450);
                    world.set(0, false, world.now);
                }
            }
            world.sent.push(Sent { at, data });
            open = random.chance(30) && frame < frames;
            if !open {
                world.set(1, false, world.now + BIT * hold / 1000);
                world.wait(500);
                world.set(0, true, world.now);
                world.wait(500);
                world.set(1, true, world.now);
                let rest = 700 + random.below(9000);
                world.wait(rest);
            }
        }
        world
    }

    /// Pulses shorter than an eighth of the shortest element, anywhere.
    pub(crate) fn spikes(&mut self, random: &mut Random, count: i64, element: Ps) {
        for _ in 0..count {
            let line = random.below(self.toggles.len() as i64) as usize;
            let at = random.below(self.now);
            let width = 1 + random.below(element / 8 - 1);
            let toggles = &mut self.toggles[line];
            let place = toggles.partition_point(|toggle| *toggle < at);
            // Not over an edge: that would only move it.
            let free = |toggle: Option<&Ps>| toggle.is_none_or(|toggle| *toggle > at + width + element / 8);
            if free(toggles.get(place)) && (place == 0 || toggles[place - 1] + element / 8 < at) {
                toggles.splice(place..place, [at, at + width]);
            }
        }
    }

    /// What an instrument records with a tick of so many picoseconds, and so much skew.
    pub(crate) fn sampled(&self, random: &mut Random, tick: Ps, skew: Ps) -> Capture {
        let (phase, len) = (random.below(tick), (self.now + 20 * BIT) / tick);
        let time = |ps: Ps| Time::from_rational(Rational::new(ps.into(), 1_000_000_000_000).unwrap());
        let base = TimeBase::from_tick(time(tick)).unwrap();
        let resolution = Resolution { skew: time(skew), ..Resolution::SAMPLED };
        let mut capture = Capture::builder(base, len as u64).resolution(resolution);
        for (line, toggles) in self.toggles.iter().enumerate() {
            let off = random.below(skew + 1);
            let mut builder = TraceBuilder::new(Level::from(self.rests[line]));
            let mut level = self.rests[line];
            let ticks: Vec<Ps> = toggles.iter().map(|at| (at + off + phase + tick - 1) / tick).collect();
            for (place, at) in ticks.iter().enumerate() {
                level = !level;
                // Of several changes between two samples, the last one is seen.
                if ticks.get(place + 1) != Some(at) {
                    let _ = builder.push_edge(Tick(*at as u64), Level::from(level));
                }
            }
            capture = capture.line(Line::named(format!("L{line}")), builder.finish(len as u64));
        }
        capture.build().unwrap()
    }
}

fn payload(frame: &Frame) -> Vec<u64> {
    let carried = |kind| matches!(kind, FieldKind::Data | FieldKind::Address);
    frame.fields.iter().filter(|field| carried(field.kind)).map(|field| field.value).collect()
}

#[derive(Debug, Default)]
struct Score {
    sent: u64,
    certain: u64,
    wrong: Vec<String>,
}

/// Reads a world, and counts frames that are certain, and those of them that were never sent.
fn read(
    world: &World,
    protocol: &Protocol,
    lines: &[usize],
    record: &Capture,
    phase: &str,
    score: &mut Score,
) {
    let lines = lines.iter().map(|line| LineId(*line)).collect();
    let bus = SerialBus::of_lines("bus", protocol.clone(), lines).unwrap();
    let tick = (record.base().tick().to_f64() * 1e12).round() as Ps;
    score.sent += world.sent.len() as u64;
    for frame in bus.frames(record, record.range()).unwrap().filter(|frame| frame.certain) {
        let at = frame.start.0 as Ps * tick;
        let near = |sent: &&Sent| (sent.at - at).abs() < BIT / 2 + 3 * tick;
        let as_sent = world.sent.iter().filter(near).any(|sent| sent.data == payload(&frame));
        score.certain += u64::from(as_sent);
        if !as_sent {
            score.wrong.push(format!("{phase}: {frame} at {at} ps"));
        }
    }
}

/// How a round is disturbed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Round {
    /// A sender within 2 %, eight samples per bit or more.
    Calm,
    /// A sender within 6 %, any rate.
    Off,
    /// The same with spikes.
    Spikes,
}

pub(crate) fn frequency(ps: Ps) -> Frequency {
    Frequency::from_rational(Rational::new(1_000_000_000_000, ps.into()).unwrap())
}

fn rounds(round: Round, frames: u64) -> Score {
    let mut score = Score::default();
    let mut random = Random(0x9e37_79b9_7f4a_7c15 ^ round as u64);
    while score.sent < frames {
        let percent = if round == Round::Calm { 20 } else { 60 };
        let bit = BIT + BIT * (random.below(2 * percent + 1) - percent) / 1000;
        let per_bit = match round {
            Round::Calm => 8000 + random.below(32_000),
            Round::Off | Round::Spikes => 1500 + random.below(40_000),
        };
        let tick = BIT * 1000 / per_bit;
        let skew = if random.chance(50) { random.below(tick / 2) } else { 0 };
        let kind = random.below(4);
        let mode = random.below(4) as u8;
        let spi = Protocol::Spi(SpiConfig::new(mode));
        let gap = Time::from_rational(Rational::new(6, 1_000_000).unwrap());
        let clocked = ClockedConfig::new(8).gap(Some(gap)).rising(matches!(mode, 0 | 3));
        let (mut world, protocol, lines, element): (World, _, &[usize], _) = match kind {
            0 => (
                World::uart(&mut random, bit, 40),
                Protocol::Uart(UartConfig::new(frequency(BIT))),
                &[0],
                BIT * 9 / 10,
            ),
            1 => (World::words(&mut random, mode, true, 40), spi, &[0, 1, 2, 3], BIT / 2),
            2 => (World::words(&mut random, mode, false, 40), Protocol::Clocked(clocked), &[0, 2], BIT / 2),
            _ => {
                (World::two_wires(&mut random, 40), Protocol::I2c(I2cConfig::default()), &[0, 1], BIT * 2 / 5)
            }
        };
        if round == Round::Spikes {
            let count = random.below(8);
            world.spikes(&mut random, count, element);
        }
        if kind == 2 {
            world.sent.iter_mut().for_each(|sent| sent.data.truncate(1));
        }
        let record = world.sampled(&mut random, tick, skew);
        let name =
            format!("{round:?} {} mode {mode}, {per_bit} per thousand bits, skew {skew}", protocol.name());
        // A bus that is too slow to be decoded has no frames at all.
        if protocol.decoder(record.base()).is_ok() {
            read(&world, &protocol, lines, &record, &name, &mut score);
        }
    }
    score
}

/// `FRAMES=1000000 cargo test --release --test it certain` is the proof.
fn wanted() -> u64 {
    std::env::var("FRAMES").ok().and_then(|frames| frames.parse().ok()).unwrap_or(60_000) / 3
}

#[test]
fn a_certain_frame_is_never_wrong() {
    for round in [Round::Off, Round::Spikes] {
        let score = rounds(round, wanted());
        println!("{round:?}: {} of {} certain, {} wrong", score.certain, score.sent, score.wrong.len());
        assert_eq!(score.wrong.len(), 0, "{:#?}", &score.wrong[..score.wrong.len().min(10)]);
        assert!(score.certain * 3 > score.sent, "{} of {}", score.certain, score.sent);
    }
}

#[test]
fn what_is_sampled_well_and_undisturbed_is_certain() {
    let score = rounds(Round::Calm, wanted());
    println!("calm: {} of {} certain, {} wrong", score.certain, score.sent, score.wrong.len());
    assert_eq!(score.wrong, Vec::<String>::new());
    assert!(score.certain * 1000 >= score.sent * 999, "{} of {}", score.certain, score.sent);
}
