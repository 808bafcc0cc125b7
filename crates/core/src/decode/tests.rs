//! Units that are read at once against the same decoders told of every edge.

use std::ops::ControlFlow;

use proptest::prelude::*;

use super::transfers::Gathering;
use super::{I2cConfig, Parity, Protocol, SpiConfig, SpiData, StopBits, TransferEnds, UartConfig, decode};
use crate::bus::{Ahead, BusMark, Decoder, Frame, FrameSink};
use crate::capture::{Capture, TraceBuilder};
use crate::known::{Precision, Rule};
use crate::line::{BitOrder, Level, Levels, Line, LineId, Signal};
use crate::quantity::{Frequency, Rational, Time, Voltage};
use crate::time::{Resolution, Tick, TimeBase};

/// Counts the edges that a decoder is told of, and may keep it from reading ahead.
#[derive(Debug)]
struct Told {
    decoder: Box<dyn Decoder>,
    ahead: bool,
    edges: u64,
}

impl Decoder for Told {
    fn lines(&self) -> usize {
        self.decoder.lines()
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        self.decoder.begin(at, levels);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.edges += 1;
        self.decoder.change(at, levels, out)
    }

    fn due(&self) -> Option<Tick> {
        self.decoder.due()
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.pass(until, out)
    }

    fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        if self.ahead { self.decoder.read_plain(ahead, out) } else { ControlFlow::Continue(false) }
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.end(at, out)
    }
}

#[derive(Debug, PartialEq)]
enum Said {
    Frame(Frame),
    Mark(BusMark),
    Settled(Tick),
}

#[derive(Debug, Default)]
struct All(Vec<Said>);

impl FrameSink for All {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.0.push(Said::Frame(frame));
        ControlFlow::Continue(())
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        self.0.push(Said::Mark(mark));
        ControlFlow::Continue(())
    }

    fn settled(&mut self, at: Tick) {
        self.0.push(Said::Settled(at));
    }
}

struct Random(u64);

impl Random {
    fn below(&mut self, end: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % end.max(1)
    }

    fn any<T: Copy>(&mut self, of: &[T]) -> T {
        of[self.below(of.len() as u64) as usize]
    }

    /// Below any of these.
    fn within(&mut self, ends: &[u64]) -> u64 {
        let end = self.any(ends);
        self.below(end)
    }

    fn one_in(&mut self, count: u64) -> bool {
        count > 0 && self.below(count) == 0
    }
}

/// Lines whose edges may come at any tick, in any order, and what is wrong with them.
struct Wires {
    random: Random,
    edges: Vec<Vec<u64>>,
    rests: Vec<Level>,
    levels: Vec<bool>,
    /// One edge in so many is a few ticks off; none for 0.
    loose: u64,
    /// A pulse of a few ticks for so many edges; none for 0.
    spikes: u64,
}

impl Wires {
    fn new(seed: u64, calm: bool, rests: &[bool]) -> Self {
        let mut random = Random(seed | 1);
        let (loose, spikes) = if calm { (0, 0) } else { (5 + random.below(60), 20 + random.below(400)) };
        let (edges, levels) = (vec![Vec::new(); rests.len()], rests.to_vec());
        Wires {
            random,
            edges,
            rests: rests.iter().copied().map(Level::from).collect(),
            levels,
            loose,
            spikes,
        }
    }

    fn set(&mut self, line: usize, at: u64, level: bool) {
        if self.levels[line] == level {
            return;
        }
        self.levels[line] = level;
        let off = if self.random.one_in(self.loose) { self.random.below(9) as i64 - 4 } else { 0 };
        self.edges[line].push(at.saturating_add_signed(off));
        if self.random.one_in(self.spikes) {
            let (line, at) =
                (self.random.below(self.edges.len() as u64) as usize, at + self.random.below(40));
            let width = 1 + self.random.below(4);
            self.edges[line].extend([at, at + width]);
        }
    }

    /// Ticks at which an even number of edges come have none.
    fn capture(mut self, resolution: Resolution) -> Capture {
        let len = self.edges.iter().flatten().max().map_or(10, |last| last + self.random.below(60) + 1);
        let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
        let mut capture = Capture::builder(base, len).resolution(resolution);
        let dark = if self.loose > 0 && self.random.one_in(4) { 300 } else { 0 };
        for (number, edges) in self.edges.iter_mut().enumerate() {
            edges.sort_unstable();
            let mut trace = TraceBuilder::new(self.rests[number]);
            let mut level = self.rests[number];
            for tick in edges.chunk_by(|a, b| a == b).filter(|ticks| ticks.len() % 2 == 1) {
                level = level.opposite();
                let shown = if self.random.one_in(dark) { Level::Unknown } else { level };
                if tick[0] > 0 && trace.level() != shown {
                    trace.push_edge(Tick(tick[0]), shown).unwrap();
                }
            }
            capture = capture.line(Line::named(format!("L{number}")), trace.finish(len));
        }
        capture.build().unwrap()
    }
}

fn uart(seed: u64, calm: bool, frames: u64) -> (Wires, Protocol) {
    let mut random = Random(seed ^ 0x9e37_79b9_7f4a_7c15 | 1);
    let inverted = random.one_in(3);
    let mut wires = Wires::new(seed, calm, &[!inverted]);
    // In thousandths of a tick.
    let slowest = if calm { 16_000 } else { 3000 };
    let bit = slowest + random.within(&[2000, 10_000, 60_000]);
    let sent = bit + bit * random.below(41) / 1000 - bit / 50;
    let rate = Frequency::from_rational(Rational::new(1_000_000_000, i128::from(bit)).unwrap());
    let data_bits = 5 + random.below(5) as u32;
    let parity = random.any(&[Parity::None, Parity::Even, Parity::Odd]);
    let stop_bits = random.any(&[StopBits::One, StopBits::OneAndHalf, StopBits::Two]);
    let order = random.any(&[BitOrder::LowestFirst, BitOrder::HighestFirst]);
    let config = UartConfig::new(rate).data_bits(data_bits).parity(parity).stop_bits(stop_bits);
    let mut at = 20 * bit;
    for _ in 0..frames {
        let data = random.below(1 << data_bits);
        let mut bits = vec![false];
        bits.extend((0..data_bits).map(|bit| data >> bit & 1 == 1));
        bits.extend(parity.wanted(data.count_ones()).map(|bit| bit ^ !calm && random.one_in(60)));
        bits.push(calm || !random.one_in(80));
        for level in bits {
            wires.set(0, at / 1000, level != inverted);
            at += sent;
        }
        wires.set(0, at / 1000, !inverted);
        at += sent * (1 + random.below(3))
            + if random.one_in(7) { bit * random.below(30) } else { random.below(3000) };
    }
    (wires, Protocol::Uart(config.inverted(inverted).order(order)))
}

fn spi(seed: u64, calm: bool, words: u64) -> (Wires, Protocol) {
    let mut random = Random(seed ^ 0x9e37_79b9_7f4a_7c15 | 1);
    let mode = random.below(4) as u8;
    let data = random.any(&[SpiData::Both, SpiData::Mosi, SpiData::Miso, SpiData::Dual]);
    let bits = 2 * (1 + random.within(&[4, 16, 32]) as u32);
    let selected = !random.one_in(3);
    let order = random.any(&[BitOrder::LowestFirst, BitOrder::HighestFirst]);
    let config = SpiConfig::new(mode).bits(bits).data(data).order(order);
    let config = if selected { config } else { config.select(None).gap(Some("60 us".parse().unwrap())) };
    let first = 1 + usize::from(selected);
    let high = mode >= 2;
    let mut rests = vec![high, true, false, false];
    rests.drain(first.min(2)..2);
    rests.truncate(first + data.roles().len());
    let mut wires = Wires::new(seed, calm, &rests);
    let mut at = 100;
    let half = 2 + random.below(12);
    let late = random.below(half);
    for _ in 0..words {
        let begins = random.one_in(3);
        if selected && (begins || wires.levels[1]) {
            wires.set(1, at, true);
            at += 1 + random.below(30);
            wires.set(1, at, false);
            at += 1 + random.below(30);
        }
        at += if begins { random.below(200) } else { random.below(half) };
        let count = if data == SpiData::Dual { bits / 2 } else { bits };
        let count = if !calm && random.one_in(40) { count.saturating_sub(1) } else { count };
        for _ in 0..count {
            // In odd modes, data changes with the first edge, otherwise before it.
            let changes = if mode % 2 == 1 { at + late } else { (at + late).saturating_sub(half) };
            for line in first..rests.len() {
                let level = random.one_in(2);
                wires.set(line, changes, level);
            }
            wires.set(0, at, !high);
            wires.set(0, at + half, high);
            at += 2 * half;
        }
    }
    (wires, Protocol::Spi(config))
}

fn i2c(seed: u64, calm: bool, bytes: u64) -> (Wires, Protocol) {
    let mut random = Random(seed ^ 0x9e37_79b9_7f4a_7c15 | 1);
    let mut wires = Wires::new(seed, calm, &[true, true]);
    let (clock, data) = (0, 1);
    let (mut at, half) = (100, 3 + random.below(12));
    let hold = random.below(half);
    let mut left = 0;
    for _ in 0..bytes {
        if left == 0 {
            // A stop if the clock is low, and a start.
            wires.set(data, at + hold, random.one_in(3));
            wires.set(clock, at + half, true);
            wires.set(data, at + 2 * half, true);
            at += 2 * half + random.below(100);
            wires.set(data, at + half, false);
            wires.set(clock, at + 2 * half, false);
            at += 2 * half;
            left = 1 + random.below(12);
        }
        left -= 1;
        for _ in 0..if !calm && random.one_in(50) { 5 } else { 9 } {
            let level = random.one_in(2);
            wires.set(data, at + hold, level);
            wires.set(clock, at + half, true);
            wires.set(clock, at + 2 * half, false);
            at += 2 * half;
        }
    }
    (wires, Protocol::I2c(I2cConfig::default()))
}

/// All that is said, and of how many edges the decoder was told.
fn read(capture: &Capture, ahead: bool, make: impl Fn() -> Box<dyn Decoder>) -> (Vec<Said>, u64) {
    let lines: Vec<LineId> = (0..capture.lines().len()).map(LineId).collect();
    let mut decoder = Told { decoder: make(), ahead, edges: 0 };
    let mut all = All::default();
    decode(capture, &lines, capture.range(), &mut decoder, &mut all).unwrap();
    (all.0, decoder.edges)
}

/// Reads both ways; of how many edges the decoder was told in each.
fn alike((wires, protocol): (Wires, Protocol), seed: u64) -> [u64; 2] {
    let mut random = Random(seed ^ 0xd1b5_4a32_d192_ed03 | 1);
    let skew = Time::from_rational(Rational::new(random.below(4).into(), 1_000_000).unwrap());
    let resolution =
        if random.one_in(4) { Resolution::EXACT } else { Resolution { skew, ..Resolution::SAMPLED } };
    let capture = wires.capture(resolution);
    let signals: Vec<Signal> = (0..capture.lines().len()).map(|line| Signal::from(&LineId(line))).collect();
    let order = Precision::of(&capture, Rule::Proven).order(&signals, Voltage::ZERO);
    let base = capture.base();
    let proving = || protocol.proving(base, order, false).unwrap();
    let gathering = || Gathering::gather(proving(), &protocol, TransferEnds::default(), base, 3);
    let makes: [&dyn Fn() -> Box<dyn Decoder>; 3] =
        [&proving, &gathering, &|| protocol.decoder(base).unwrap()];
    let told = makes.map(|make| {
        let ((fast, few), (slow, all)) = (read(&capture, true, make), read(&capture, false, make));
        let differs = (0..fast.len().max(slow.len())).find(|place| fast.get(*place) != slow.get(*place));
        if let Some(place) = differs {
            assert_eq!(
                fast.get(place),
                slow.get(place),
                "{protocol:?} {resolution:?}, {place} of {}",
                slow.len()
            );
        }
        [few, all]
    });
    told[0]
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(400) })]

    #[test]
    fn what_is_read_at_once_is_what_is_read_edge_by_edge(seed: u64) {
        let calm = seed.is_multiple_of(3);
        alike(uart(seed, calm, 60), seed);
        alike(spi(seed, calm, 40), seed);
        alike(i2c(seed, calm, 60), seed);
    }
}

/// Of edges without anything special about them, a decoder is told of few.
#[test]
fn most_is_read_at_once() {
    for make in [uart, spi, i2c] {
        let mut told = [0, 0];
        for seed in 0..60 {
            let [few, all] = alike(make(seed, true, 100), seed);
            told = [told[0] + few, told[1] + all];
        }
        assert!(told[0] * 2 < told[1], "{told:?}");
    }
}
