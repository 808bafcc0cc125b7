//! Boards composed of the device models, as a bench file describes them.

use std::sync::Arc;

use deep_tap_core::line::Level;
use deep_tap_core::quantity::{Frequency, Rational, Time, Voltage};
use deep_tap_core::{Result, suggest};
use toml::Spanned;

use super::bench_file::{BenchFile, FileNode, Given, Name, Source};
use super::device::{Device, Queues};
use super::models::{
    Beat, Can, I2c, Jtag, Lights, OneHot, OneWire, Parity, Pulse, Sender, Shifter, Square, Steps, Writer,
};
use super::{Board, Change, Emit, NodeId};
use crate::electric::{Shape, Slope};
use crate::instant::Instant;
use crate::random::Random;

/// A board composed of device models.
pub(crate) struct Composed {
    title: String,
    names: Vec<String>,
    shapes: Vec<Shape>,
    rests: Vec<Change>,
    digital: Vec<NodeId>,
    analog: Vec<NodeId>,
    outputs: Vec<NodeId>,
    /// Nodes that follow others: leader, follower, how much later.
    followers: Vec<(NodeId, NodeId, Instant)>,
    file: Arc<BenchFile>,
    seed: u64,
    devices: Vec<Box<dyn Device>>,
    queues: Queues,
}

impl Composed {
    pub(super) fn new(file: BenchFile, source: &Source, seed: u64) -> Result<Self> {
        let names: Vec<String> = file.node.iter().map(|node| node.name.get_ref().clone()).collect();
        for (number, node) in file.node.iter().enumerate() {
            if names[..number].contains(node.name.get_ref()) {
                let message = format!("two nodes are called '{}'", node.name.get_ref());
                return Err(source.wrong(node.name.span(), message, "rename one"));
            }
        }
        let shape = |node: &FileNode| {
            let slope =
                |straight: &Option<Given<Time>>, curved: &Option<Given<Time>>| match (straight, curved) {
                    (_, Some(time)) => Slope::Rc(Instant::after(time.0)),
                    (Some(time), None) => Slope::Ramp(Instant::after(time.0)),
                    (None, None) => Slope::Step,
                };
            let volts =
                |given: &Option<Given<Voltage>>, usual: f64| given.as_ref().map_or(usual, |v| v.0.to_f64());
            Shape {
                low: volts(&node.low, Shape::LOGIC_3V3.low),
                high: volts(&node.high, Shape::LOGIC_3V3.high),
                rise: slope(&node.rise, &node.rise_rc),
                fall: slope(&node.fall, &node.fall_rc),
            }
        };
        let rests = |node: &FileNode| match node.analog {
            true => Change::Volts(node.low.as_ref().map_or(0.0, |v| v.0.to_f64())),
            false => Change::Level(Level::from(node.rests_high)),
        };
        let wired = |analog: bool| {
            let nodes = file.node.iter().enumerate().filter(|(_, node)| node.analog == analog);
            nodes.map(|(number, _)| NodeId(number)).collect()
        };
        let mut board = Composed {
            title: file.title.clone(),
            shapes: file.node.iter().map(shape).collect(),
            rests: file.node.iter().map(rests).collect(),
            digital: wired(false),
            analog: wired(true),
            outputs: Vec::new(),
            followers: Vec::new(),
            names,
            file: Arc::new(file),
            seed,
            devices: Vec::new(),
            queues: Queues::default(),
        };
        let file = Arc::clone(&board.file);
        for (number, node) in file.node.iter().enumerate() {
            if let Some(leader) = &node.follows {
                let after = node.after.as_ref().map_or(Instant(0), |time| Instant::after(time.0));
                board.followers.push((board.node(leader, source)?, NodeId(number), after));
            }
        }
        let driven = |output: u32| file.node.iter().position(|node| node.output == Some(output)).map(NodeId);
        board.outputs = (0..).map_while(driven).collect();
        board.devices = board.devices(source, 0)?;
        board.restart(0);
        Ok(board)
    }

    fn node(&self, name: &Name, source: &Source) -> Result<NodeId> {
        self.names.iter().position(|known| known == name.get_ref()).map(NodeId).ok_or_else(|| {
            let known = self.names.iter().map(String::as_str);
            let message = format!("there is no node '{}'", name.get_ref());
            source.wrong(name.span(), message, suggest(name.get_ref(), known, "node"))
        })
    }

    /// The devices as they are when the board is switched on for the `run`-th time.
    fn devices(&self, source: &Source, run: u64) -> Result<Vec<Box<dyn Device>>> {
        let file = Arc::clone(&self.file);
        let mut devices: Vec<Box<dyn Device>> = Vec::new();
        let random = Random::new(self.seed).split(0xb0 + run);
        let node = |name: &Name| self.node(name, source);
        let nodes = |names: &[Name]| names.iter().map(node).collect::<Result<Vec<_>>>();
        let start =
            |given: &Option<Given<Time>>| given.as_ref().map_or(Instant(0), |time| Instant::after(time.0));
        let every = |given: &Spanned<Given<Time>>| every(given, source);
        let period = |given: &Spanned<Given<Frequency>>, factor| period(given, factor, source);
        for square in file.clock.iter().chain(&file.pwm) {
            let duty = square.duty.as_ref().map_or(Rational::new(1, 2), |duty| Some(duty.0.to_fraction()));
            let duty = duty.and_then(|d| d.checked_mul(Rational::from(1000))).map_or(500, Rational::round);
            devices.push(Box::new(Square {
                node: node(&square.node)?,
                start: start(&square.start),
                until: square.until.as_ref().map_or(Instant(i64::MAX / 2), |time| Instant::after(time.0)),
                period: period(&square.frequency, Rational::ONE)?,
                duty: u64::try_from(duty.clamp(0, 1000)).unwrap_or(500),
                jitter: start(&square.jitter),
                random: random.split(devices.len() as u64),
                done: 0,
            }));
        }
        for rail in &file.rail {
            let (volts, every) = (vec![rail.volts.0.to_f64()], Beat::new(Rational::ONE));
            let Some(every) = every else { continue };
            let (node, start) = (node(&rail.node)?, Instant::after(rail.at.0));
            devices.push(Box::new(Steps { node, start, every, volts, again: false, done: 0 }));
        }
        for steps in &file.steps {
            devices.push(Box::new(Steps {
                node: node(&steps.node)?,
                start: start(&steps.start),
                every: every(&steps.every)?,
                volts: steps.volts.iter().map(|volts| volts.0.to_f64()).collect(),
                again: steps.again,
                done: 0,
            }));
        }
        for sequencer in &file.sequencer {
            let (nodes, start) = (nodes(&sequencer.nodes)?, start(&sequencer.start));
            let (every, again) = (every(&sequencer.every)?, sequencer.again);
            devices.push(Box::new(OneHot { nodes, start, every, again, done: 0 }));
        }
        for pulse in &file.pulse {
            let (node, at, width) =
                (node(&pulse.node)?, Instant::after(pulse.at.0), Instant::after(pulse.width.0));
            devices.push(Box::new(Pulse { node, at, width, high: pulse.high, done: false }));
        }
        for sender in &file.uart {
            let off = sender.rate_error.as_ref().map_or(Rational::ZERO, |error| error.0.to_fraction());
            let factor = Rational::ONE.checked_add(off).unwrap_or(Rational::ONE);
            let parity = match sender.parity.as_ref().map(|p| (p.get_ref().as_str(), p.span())) {
                None | Some(("none", _)) => Parity::None,
                Some(("even", _)) => Parity::Even,
                Some(("odd", _)) => Parity::Odd,
                Some((_, span)) => {
                    return Err(source.wrong(span, "this is not a parity", "it is none, even or odd"));
                }
            };
            let text = sender.text.as_deref().unwrap_or("").bytes();
            let again = sender.every.is_some();
            let second = Beat::new(Rational::ONE);
            let Some(every) = sender.every.as_ref().map(&every).transpose()?.or(second) else { continue };
            devices.push(Box::new(Sender {
                node: node(&sender.node)?,
                start: start(&sender.start),
                every,
                bit: period(&sender.bit_rate, factor)?,
                bytes: text.chain(sender.bytes.iter().copied()).collect(),
                data_bits: sender.data_bits.unwrap_or(8).clamp(5, 8),
                parity,
                stop_bits: sender.stop_bits.unwrap_or(1).clamp(1, 2),
                again,
                done: 0,
            }));
        }
        for shifter in &file.spi {
            if !(1..=64).contains(shifter.bits.get_ref()) || shifter.mode > 3 {
                let help = "a word has 1 to 64 bits, and the mode is 0 to 3";
                return Err(source.wrong(shifter.bits.span(), "words of this kind cannot be shifted", help));
            }
            devices.push(Box::new(Shifter {
                clock: node(&shifter.clock)?,
                data: node(&shifter.data)?,
                select: node(&shifter.select)?,
                start: start(&shifter.start),
                every: every(&shifter.every)?,
                bit: period(&shifter.bit_rate, Rational::ONE)?,
                words: shifter.words.clone(),
                bits: *shifter.bits.get_ref(),
                rests_high: shifter.mode >= 2,
                second_edge: shifter.mode % 2 == 1,
                done: 0,
            }));
        }
        for writer in &file.memory {
            devices.push(Box::new(Writer {
                address: nodes(&writer.address)?,
                data: nodes(&writer.data)?,
                write: node(&writer.write)?,
                start: start(&writer.start),
                every: every(&writer.every)?,
                setup: Instant::after(writer.setup.0),
                pulse: Instant::after(writer.pulse.0),
                hold: Instant::after(writer.hold.0),
                done: 0,
            }));
        }
        self.protocols(source, &mut devices)?;
        Ok(devices)
    }
}

impl Composed {
    /// The devices that speak protocols.
    fn protocols(&self, source: &Source, devices: &mut Vec<Box<dyn Device>>) -> Result<()> {
        let node = |name: &Name| self.node(name, source);
        let start =
            |given: &Option<Given<Time>>| given.as_ref().map_or(Instant(0), |time| Instant::after(time.0));
        let every = |given: &Spanned<Given<Time>>| every(given, source);
        let one = Rational::ONE;
        for i2c in &self.file.i2c {
            if *i2c.address.get_ref() > 0x7f {
                let help = "an address has seven bits, 0x00 to 0x7f";
                return Err(source.wrong(i2c.address.span(), "this is not an address", help));
            }
            devices.push(Box::new(I2c {
                clock: node(&i2c.clock)?,
                data: node(&i2c.data)?,
                start: start(&i2c.start),
                every: every(&i2c.every)?,
                bit: period(&i2c.bit_rate, one, source)?,
                address: *i2c.address.get_ref(),
                write: i2c.write.clone(),
                read: i2c.read.clone(),
                missing: i2c.missing,
                stretch: start(&i2c.stretch),
                done: 0,
            }));
        }
        for can in &self.file.can {
            let most = if can.extended { 0x1fff_ffff } else { 0x7ff };
            if *can.identifier.get_ref() > most || can.data.len() > 8 {
                let help = format!("an identifier is at most {most:#x} here, and data has up to 8 bytes");
                return Err(source.wrong(can.identifier.span(), "this is not a frame", help));
            }
            let off = can.rate_error.as_ref().map_or(Rational::ZERO, |error| error.0.to_fraction());
            devices.push(Box::new(Can {
                node: node(&can.node)?,
                start: start(&can.start),
                every: every(&can.every)?,
                bit: period(&can.bit_rate, one.checked_add(off).unwrap_or(one), source)?,
                identifier: *can.identifier.get_ref(),
                extended: can.extended,
                data: can.data.clone(),
                acknowledged: can.acknowledged,
                done: 0,
            }));
        }
        for jtag in &self.file.jtag {
            for bits in [&jtag.instruction_bits, &jtag.data_bits] {
                if !(1..=64).contains(bits.get_ref()) {
                    return Err(source.wrong(
                        bits.span(),
                        "a register of this length cannot be scanned",
                        "1 to 64",
                    ));
                }
            }
            devices.push(Box::new(Jtag {
                clock: node(&jtag.tck)?,
                mode: node(&jtag.tms)?,
                to_part: node(&jtag.tdi)?,
                from_part: node(&jtag.tdo)?,
                start: start(&jtag.start),
                every: every(&jtag.every)?,
                bit: period(&jtag.bit_rate, one, source)?,
                instruction: (jtag.instruction, *jtag.instruction_bits.get_ref()),
                data: (jtag.data_in, jtag.data_out, *jtag.data_bits.get_ref()),
                done: 0,
            }));
        }
        for wire in &self.file.one_wire {
            devices.push(Box::new(OneWire {
                node: node(&wire.node)?,
                start: start(&wire.start),
                every: every(&wire.every)?,
                bytes: wire.bytes.clone(),
                present: wire.present,
                done: 0,
            }));
        }
        for lights in &self.file.lights {
            devices.push(Box::new(Lights {
                node: node(&lights.node)?,
                start: start(&lights.start),
                every: every(&lights.every)?,
                bytes: lights.bytes.clone(),
                period: Instant::after(lights.period.0),
                zero: Instant::after(lights.zero.0),
                one: Instant::after(lights.one.0),
                done: 0,
            }));
        }
        Ok(())
    }
}

/// A time above zero.
fn every(given: &Spanned<Given<Time>>, source: &Source) -> Result<Beat> {
    Beat::new(given.get_ref().0.to_rational())
        .ok_or_else(|| source.wrong(given.span(), "this time is not above zero", "give a longer one"))
}

/// The period of a frequency above zero, which is off by a factor.
fn period(given: &Spanned<Given<Frequency>>, factor: Rational, source: &Source) -> Result<Beat> {
    let hertz = given.get_ref().0.to_rational().checked_mul(factor);
    hertz
        .and_then(Rational::recip)
        .and_then(Beat::new)
        .ok_or_else(|| source.wrong(given.span(), "this frequency is not above zero", "give a higher one"))
}

impl Board for Composed {
    fn describe(&self) -> String {
        format!("{}, seed {}", self.title, self.seed)
    }

    fn nodes(&self) -> &[String] {
        &self.names
    }

    fn initial(&self, node: NodeId) -> Change {
        self.rests.get(node.0).copied().unwrap_or(Change::Level(Level::Unknown))
    }

    fn shape(&self, node: NodeId) -> Option<Shape> {
        self.shapes.get(node.0).copied()
    }

    fn advance(&mut self, until: Instant, emit: &mut Emit<'_>) {
        self.queues.advance(&mut self.devices, until, emit);
    }

    fn restart(&mut self, run: u64) {
        // Everything in the file was found to be right when it was read.
        let source = Source { name: "".into(), text: "".into() };
        if let Ok(devices) = self.devices(&source, run) {
            self.devices = devices;
        }
        let level = |change: &Change| match change {
            Change::Level(level) => *level,
            Change::Volts(_) => Level::Unknown,
        };
        self.queues = Queues::new(self.rests.iter().map(level).collect());
    }

    fn wiring(&self) -> Vec<NodeId> {
        self.digital.clone()
    }

    fn outputs(&self) -> Vec<NodeId> {
        self.outputs.clone()
    }

    fn drive(&mut self, node: NodeId, at: Instant, change: Change) {
        let Change::Level(level) = change else { return };
        let high = level == Level::High;
        self.queues.set(node, at, high);
        for (_, follower, after) in self.followers.iter().filter(|(leader, ..)| *leader == node) {
            self.queues.set(*follower, at + *after, high);
        }
    }

    fn analog_wiring(&self) -> Vec<NodeId> {
        self.analog.clone()
    }
}
