//! A decoder of one's own: a made-up interface where a number is sent as that many pulses on one line
//! while another one, the gate, is high.
//!
//! ```sh
//! cargo run --example own_decoder
//! ```

use std::ops::ControlFlow;

use deep_tap::bus::{Decoder, Fault, Field, FieldKind, Frame, FrameSink};
use deep_tap::capture::{Capture, Trace};
use deep_tap::decode::{CustomProtocol, Protocol, SerialBus};
use deep_tap::event::{Meaning, Program, Scope};
use deep_tap::line::{Level, Levels};
use deep_tap::time::{Tick, TimeBase};

const GATE: usize = 0;
const PULSES: usize = 1;

/// Counts pulses while the gate is high; 1 to 15 of them are a number.
#[derive(Debug, Default)]
struct PulseCount {
    levels: Levels,
    /// Where the gate went high, and the pulses since; `None` while it is low, or was not seen to rise.
    open: Option<(Tick, u64)>,
}

impl Decoder for PulseCount {
    fn lines(&self) -> usize {
        2
    }

    fn begin(&mut self, _: Tick, levels: Levels) {
        self.levels = levels;
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let before = std::mem::replace(&mut self.levels, levels);
        let rises = |line| before.level(line) == Level::Low && levels.level(line) == Level::High;
        let falls = |line| before.level(line) == Level::High && levels.level(line) == Level::Low;
        if let Some((_, count)) = &mut self.open {
            *count += u64::from(rises(PULSES));
        }
        if rises(GATE) {
            self.open = Some((at, 0));
        }
        if falls(GATE)
            && let Some((start, count)) = self.open.take()
        {
            let mut faults = Vec::new();
            if !(1..=15).contains(&count) {
                let what = format!("{count} pulses are no number: 1 to 15 are");
                faults.push(Fault { kind: "count", at, what });
            }
            let (name, kind) = ("number", FieldKind::Data);
            let fields = vec![Field { name, start, end: at, value: count, bits: 4, kind }];
            out.frame(Frame { fields, faults, ..Frame::new("number", start..at) })?;
        }
        ControlFlow::Continue(())
    }

    fn end(&mut self, _: Tick, _: &mut dyn FrameSink) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
}

/// The protocol: its lines by role, the words of its frames, and its decoder.
#[derive(Debug)]
struct Counter;

impl CustomProtocol for Counter {
    fn name(&self) -> &'static str {
        "pulse-count"
    }

    fn roles(&self) -> &[&'static str] {
        &["gate", "pulses"]
    }

    fn words(&self) -> &'static [&'static str] {
        &["number", "count"]
    }

    fn decoder(&self, _: TimeBase) -> deep_tap::Result<Box<dyn Decoder>> {
        Ok(Box::<PulseCount>::default())
    }
}

fn main() -> deep_tap::Result<()> {
    let line = |ticks: &[u64]| Trace::toggling(Level::Low, ticks.iter().copied(), 200);
    let capture = Capture::builder(TimeBase::from_rate("1 MS/s".parse()?)?, 200)
        .line("GATE", line(&[10, 60, 100, 150])?)
        .line("PULSES", line(&[20, 22, 30, 32, 40, 42, 70, 72])?)
        .build()?;
    let lines = [("gate", capture.line_named("GATE")?), ("pulses", capture.line_named("PULSES")?)];
    let bus = SerialBus::new("counter", Protocol::custom(Counter), lines)?;
    let frames: Vec<_> = bus.frames(&capture, capture.range())?.collect();
    for frame in &frames {
        let number = frame.field("number").map_or(0, |field| field.value);
        let faults: Vec<&str> = frame.faults.iter().map(|fault| fault.what.as_str()).collect();
        println!("tick {}: {number} {}", frame.start.0, faults.join(", "));
    }
    let numbers: Vec<_> =
        frames.iter().map(|f| (f.field("number").map(|n| n.value), f.faults.len())).collect();
    assert_eq!(numbers, [(Some(3), 0), (Some(0), 1)]);
    // Its frames are searched for, and triggered on, like those of any other bus.
    let mut scope = Scope::of(&capture);
    scope.define("counter", Meaning::Frames(bus));
    let three = Program::compile("counter has number == 3 then counter has count within 1 ms", &scope)?;
    let hits: Vec<Tick> =
        three.at(capture.base())?.hits(&capture, capture.range()).map(|hit| hit.tick).collect();
    assert_eq!(hits, [Tick(150)]);
    Ok(())
}
