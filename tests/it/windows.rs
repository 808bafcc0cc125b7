//! A window of a record never changes what is read in it.

use deep_tap::bus::{BusMark, Frame, FrameSink};
use deep_tap::capture::Capture;
use deep_tap::decode::{ClockedConfig, I2cConfig, Protocol, SerialBus, SpiConfig, UartConfig};
use deep_tap::line::{Level, Line, LineId};
use deep_tap::quantity::Time;
use deep_tap::time::{Resolution, Tick};
use std::ops::{ControlFlow, Range};

use crate::buses::any_protocol;
use crate::senders::{BIT, Random, World, frequency};
use crate::support::toggles;

/// All that is read.
#[derive(Debug, Default, PartialEq)]
struct All {
    frames: Vec<Frame>,
    marks: Vec<BusMark>,
}

impl FrameSink for All {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.frames.push(frame);
        ControlFlow::Continue(())
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        self.marks.push(mark);
        ControlFlow::Continue(())
    }
}

fn read(bus: &SerialBus, capture: &Capture, window: Range<Tick>) -> All {
    let mut all = All::default();
    bus.decode(capture, window, &mut all).unwrap();
    all
}

/// Tells the first difference only.
fn alike<T: PartialEq + std::fmt::Debug>(found: &[T], wanted: &[T], what: &str) {
    let place = (0..found.len().max(wanted.len())).find(|place| found.get(*place) != wanted.get(*place));
    if let Some(place) = place {
        assert_eq!(found.get(place), wanted.get(place), "{what}: number {place} of {}", wanted.len());
    }
}

/// Holds windows of a record against the whole.
fn hold(random: &mut Random, bus: &SerialBus, capture: &Capture, windows: usize) {
    let whole = read(bus, capture, capture.range());
    let transfers: Vec<Frame> = bus.transfers(capture, capture.range()).unwrap().collect();
    for _ in 0..windows {
        // Often exactly where something begins or ends.
        let places: Vec<u64> = whole.frames.iter().flat_map(|frame| [frame.start.0, frame.end.0]).collect();
        let mut place = || match random.below(3) {
            0 | 1 if !places.is_empty() => places[random.below(places.len() as i64) as usize],
            _ => random.below(capture.len() as i64) as u64,
        };
        let (a, b) = (place(), place());
        let window = Tick(a.min(b))..Tick(a.max(b) + 1);
        let lies_in = |frame: &&Frame| {
            frame.start < window.end && (frame.end > window.start || frame.start >= window.start)
        };
        let found = read(bus, capture, window.clone());
        let frames: Vec<Frame> = whole.frames.iter().filter(lies_in).cloned().collect();
        let marks: Vec<BusMark> =
            whole.marks.iter().filter(|mark| window.contains(&mark.at)).copied().collect();
        let name = bus.protocol().name();
        alike(&found.frames, &frames, &format!("{name} in {window:?}"));
        alike(&found.marks, &marks, &format!("marks of {name} in {window:?}"));
        let found: Vec<Frame> = bus.transfers(capture, window.clone()).unwrap().collect();
        let wanted: Vec<Frame> = transfers.iter().filter(lies_in).cloned().collect();
        alike(&found, &wanted, &format!("transfers of {name} in {window:?}"));
    }
}

fn bus(protocol: Protocol, lines: &[usize]) -> SerialBus {
    SerialBus::of_lines("bus", protocol, lines.iter().map(|line| LineId(*line)).collect()).unwrap()
}

#[test]
fn what_senders_send_is_read_alike_in_every_window() {
    let mut random = Random(0xd1b5_4a32_d192_ed03);
    let gap: Time = "6 us".parse().unwrap();
    for round in 0..8 {
        let (mut world, bus) = match round % 4 {
            0 => (
                World::uart(&mut random, BIT, 3000),
                bus(Protocol::Uart(UartConfig::new(frequency(BIT))), &[0]),
            ),
            1 => (
                World::words(&mut random, 1, true, 3000),
                bus(Protocol::Spi(SpiConfig::new(1)), &[0, 1, 2, 3]),
            ),
            2 => (
                World::words(&mut random, 0, false, 3000),
                bus(Protocol::Clocked(ClockedConfig::new(8).gap(Some(gap))), &[0, 2]),
            ),
            _ => (World::two_wires(&mut random, 1500), bus(Protocol::I2c(I2cConfig::default()), &[0, 1])),
        };
        if round >= 4 {
            world.spikes(&mut random, 100, BIT * 2 / 5);
        }
        let capture = world.sampled(&mut random, BIT / 13, 0);
        hold(&mut random, &bus, &capture, 60);
    }
}

#[test]
fn any_edges_are_read_alike_in_every_window() {
    let mut random = Random(0x94d0_49bb_1331_11eb);
    for round in 0..42 {
        let protocol = any_protocol(round % 14);
        let pace = [40, 200, 900][round / 14];
        let lines = protocol.roles().len();
        let mut len = 0;
        let traces: Vec<Vec<u64>> = (0..lines)
            .map(|_| {
                let mut at = 0;
                let edges = (0..30_000).map(|_| {
                    // Now and then a rest, so that a bus may settle.
                    let rest = if random.below(500) == 0 { 40 * pace } else { pace };
                    at += 1 + random.below(rest) as u64;
                    at
                });
                let edges: Vec<u64> = edges.collect();
                len = len.max(at + 100);
                edges
            })
            .collect();
        for resolution in [Resolution::SAMPLED, Resolution::EXACT] {
            let base = deep_tap::time::TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
            let mut capture = Capture::builder(base, len).resolution(resolution);
            for (number, edges) in traces.iter().enumerate() {
                capture = capture.line(Line::named(format!("L{number}")), toggles(Level::High, edges, len));
            }
            let capture = capture.build().unwrap();
            let lines: Vec<usize> = (0..lines).collect();
            hold(&mut random, &bus(protocol.clone(), &lines), &capture, 6);
        }
    }
}
