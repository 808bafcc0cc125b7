//! Senders of all kinds in continuous time, instruments that look at them, and what can be wrong with
//! either.

mod clocked;
mod faults;
mod single;
mod two_wires;

use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::line::{Level, Line};
use deep_tap::quantity::{Frequency, Rational, Time};
use deep_tap::time::{Resolution, Tick, TimeBase};

pub(crate) use single::{Byte, CanSender};
pub(crate) use two_wires::Asked;

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

    pub(crate) fn chance(&mut self, percent: i64) -> bool {
        self.below(100) < percent
    }
}

/// What was truly sent: when it began, and its data.
#[derive(Debug, PartialEq)]
pub(crate) struct Sent {
    pub(crate) at: Ps,
    pub(crate) data: Vec<u64>,
}

/// Lines in continuous time, each resting high or low, and what they carry.
pub(crate) struct World {
    rests: Vec<bool>,
    pub(crate) toggles: Vec<Vec<Ps>>,
    pub(crate) sent: Vec<Sent>,
    pub(crate) now: Ps,
    /// Length of a bit of this sender.
    bit: Ps,
}

impl World {
    /// Lines that toggle at random, no closer than `closest`.
    pub(crate) fn random(random: &mut Random, lines: usize, length: Ps, closest: Ps) -> World {
        let mut world = World::new(&vec![false; lines], BIT);
        for toggles in &mut world.toggles {
            let pace = closest + random.below(8 * closest);
            let mut at = random.below(10 * closest);
            while at < length {
                toggles.push(at);
                at += closest + random.below(pace);
            }
        }
        world.now = length;
        world
    }

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

    fn sent_now(&mut self, data: Vec<u64>) {
        self.sent.push(Sent { at: self.now, data });
    }

    fn wait(&mut self, thousandths: Ps) {
        self.now += self.bit * thousandths / 1000;
    }

    /// What an instrument records with a tick of so many picoseconds, and so much skew.
    pub(crate) fn sampled(&self, random: &mut Random, tick: Ps, skew: Ps) -> Capture {
        let resolution = Resolution { skew: time(skew), ..Resolution::SAMPLED };
        let phase = random.below(tick);
        let offs: Vec<Ps> = self.rests.iter().map(|_| phase + random.below(skew + 1)).collect();
        self.seen(tick, &offs, resolution)
    }

    /// Every edge in its own place, to a nanosecond.
    pub(crate) fn exact(&self) -> Capture {
        self.exact_to(1000)
    }

    /// The same to so many picoseconds.
    pub(crate) fn exact_to(&self, tick: Ps) -> Capture {
        self.seen(tick, &vec![0; self.rests.len()], Resolution::EXACT)
    }

    fn seen(&self, tick: Ps, offs: &[Ps], resolution: Resolution) -> Capture {
        let (base, len) = (TimeBase::from_tick(time(tick)).unwrap(), (self.now + 20 * BIT) / tick);
        let mut capture = Capture::builder(base, len as u64).resolution(resolution);
        for (line, (toggles, off)) in self.toggles.iter().zip(offs).enumerate() {
            let mut builder = TraceBuilder::new(Level::from(self.rests[line]));
            let mut level = self.rests[line];
            let ticks = toggles.iter().map(|at| (at + off + tick - 1) / tick);
            let ticks: Vec<Ps> = ticks.filter(|at| *at < len).collect();
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

fn time(ps: Ps) -> Time {
    Time::from_rational(Rational::new(ps.into(), 1_000_000_000_000).unwrap())
}

pub(crate) fn frequency(ps: Ps) -> Frequency {
    Frequency::from_rational(Rational::new(1_000_000_000_000, ps.into()).unwrap())
}
