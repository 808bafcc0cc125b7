//! Serial buses into frames.

use deep_tap::bus::{Frame, FrameSink};
use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::decode::{I2cConfig, Protocol, SerialBus, SpiConfig, UartConfig};
use deep_tap::line::{Level, Line, LineId};
use deep_tap::time::{Tick, TimeBase};
use std::ops::ControlFlow;

use crate::figure::{Case, Figures, shortest};

/// Counts frames and lets them go.
#[derive(Default)]
struct Count(u64);

impl FrameSink for Count {
    fn frame(&mut self, _: Frame) -> ControlFlow<()> {
        self.0 += 1;
        ControlFlow::Continue(())
    }
}

/// Lines that are put together edge by edge.
struct Wires(Vec<TraceBuilder>);

impl Wires {
    fn set(&mut self, line: usize, tick: u64, high: bool) {
        let line = &mut self.0[line];
        if line.level() != Level::from(high) {
            line.push_edge(Tick(tick), Level::from(high)).expect("ticks rise");
        }
    }

    fn capture(self, len: u64) -> Capture {
        let base = TimeBase::from_rate("100 MS/s".parse().expect("a rate")).expect("a clock");
        let lines = self.0.into_iter().enumerate();
        let lines = lines.fold(Capture::builder(base, len), |capture, (number, line)| {
            capture.line(Line::named(format!("L{number}")), line.finish(len))
        });
        lines.build().expect("lines of one length")
    }
}

fn byte(number: u64) -> u64 {
    number.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 56
}

/// Bytes on one line, 10 ticks a bit.
fn uart(bytes: u64) -> Capture {
    let mut wires = Wires(vec![TraceBuilder::new(Level::High)]);
    for number in 0..bytes {
        let start = 50 + number * 103;
        wires.set(0, start, false);
        (0..8).for_each(|bit| wires.set(0, start + 10 * (bit + 1), byte(number) >> bit & 1 == 1));
        wires.set(0, start + 90, true);
    }
    wires.capture(bytes * 103 + 200)
}

/// Words of eight bits both ways, 10 ticks a bit.
fn spi(bytes: u64) -> Capture {
    let levels = [Level::Low, Level::High, Level::Low, Level::Low];
    let mut wires = Wires(levels.into_iter().map(TraceBuilder::new).collect());
    for number in 0..bytes {
        let start = 50 + number * 100;
        wires.set(1, start, false);
        for bit in 0..8 {
            let at = start + 5 + 10 * bit;
            wires.set(2, at - 3, byte(number) >> bit & 1 == 1);
            wires.set(3, at - 2, byte(number + 7) >> bit & 1 == 1);
            wires.set(0, at, true);
            wires.set(0, at + 5, false);
        }
        wires.set(1, start + 90, true);
    }
    wires.capture(bytes * 100 + 200)
}

/// Transfers of an address and three bytes on two wires, 8 ticks a bit.
fn i2c(bytes: u64) -> Capture {
    let mut wires = Wires(vec![TraceBuilder::new(Level::High), TraceBuilder::new(Level::High)]);
    for number in 0..bytes / 4 {
        let mut at = 50 + number * 340;
        wires.set(1, at, false);
        wires.set(0, at + 2, false);
        for bit in 0..36 {
            at += 8;
            // Every ninth bit acknowledges.
            wires.set(1, at, bit % 9 != 8 && byte(number * 4 + bit / 9) >> (bit % 9) & 1 == 1);
            wires.set(0, at + 2, true);
            wires.set(0, at + 6, false);
        }
        wires.set(1, at + 8, false);
        wires.set(0, at + 10, true);
        wires.set(1, at + 12, true);
    }
    wires.capture(bytes / 4 * 340 + 200)
}

pub(crate) fn measure(figures: &mut Figures) {
    let bytes = 1_000_000;
    let config = UartConfig::new("10 MHz".parse().expect("a frequency"));
    let (uart, spi, i2c) = (uart(bytes), spi(bytes), i2c(bytes));
    let mut run = |name: &'static str, capture: &Capture, protocol: Protocol| {
        let lines: Vec<LineId> = (0..capture.lines().len()).map(LineId).collect();
        let bus = SerialBus::of_lines("bus", protocol, lines).expect("as many lines as roles");
        let mut frames = Count::default();
        let seconds = shortest(3, || {
            frames = Count::default();
            bus.decode(capture, capture.range(), &mut frames).expect("a bus that can be decoded");
        });
        assert!(frames.0 >= bytes / 4, "{name} finds its frames");
        let edges = capture.edge_count() as f64 / seconds / 1e6;
        let case = Case { samples: capture.len() as usize, activity: format!("{bytes} bytes"), cores: 1 };
        figures.against(name, &case, (edges, "M/s"), ("50 M edges/s", edges / 50.0, 1.0));
    };
    run("decoding asynchronous serial", &uart, Protocol::Uart(config));
    run("decoding clocked serial", &spi, Protocol::Spi(SpiConfig::new(0)));
    run("decoding two wires", &i2c, Protocol::I2c(I2cConfig::default()));
}
