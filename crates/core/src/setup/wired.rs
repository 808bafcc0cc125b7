//! An instrument as a setup sees it: each line has its bit, whether an input of the instrument gives it, a voltage
//! does, or nothing.

use super::{LevelSource, Setup};
use crate::error::Result;
use crate::instrument::{Capabilities, Configuration, Instrument, Status};
use crate::line::{Crossing, Gate, Level, Side, Threshold};
use crate::scan::{SampleBlock, SampleWidth, Samples};
use crate::trigger::QualifiedEdge;

/// An instrument that records a bit for each line of a setup, in their order, whatever gives its levels.
pub(super) struct Wired<'a> {
    instrument: &'a mut dyn Instrument,
    /// Per input of the instrument, the line.
    inputs: Vec<usize>,
    made: Vec<MadeLine>,
    left_out: u64,
    lines: usize,
    analog: usize,
    /// Where the bits of each byte of a sample go.
    bits: Vec<[u64; 256]>,
    block: SampleBlock,
}

/// A line that is made from an analog one.
struct MadeLine {
    line: usize,
    analog: usize,
    gate: Gate,
    level: Level,
}

impl<'a> Wired<'a> {
    /// `crossings` are those of [`Setup::made_lines`], each with its gate.
    pub(super) fn new(
        setup: &Setup,
        instrument: &'a mut dyn Instrument,
        crossings: &[(usize, Crossing, Gate)],
    ) -> Self {
        let of = |wanted: LevelSource| {
            let lines = setup.lines.iter().enumerate();
            lines.filter(move |(_, line)| line.source == wanted).map(|(number, _)| number)
        };
        let inputs: Vec<usize> = of(LevelSource::Input).collect();
        let made = crossings.iter().map(|(line, crossing, gate)| MadeLine {
            line: *line,
            analog: crossing.analog().0,
            gate: *gate,
            level: Level::Unknown,
        });
        let mut bits = vec![[0; 256]; SampleWidth::for_inputs(inputs.len()).bytes()];
        for (input, line) in inputs.iter().enumerate() {
            for (byte, to) in bits[input / 8].iter_mut().enumerate() {
                *to |= (byte as u64 >> (input % 8) & 1) << line;
            }
        }
        Wired {
            instrument,
            made: made.collect(),
            left_out: of(LevelSource::LeftOut).fold(0, |mask, line| mask | 1 << line),
            lines: setup.lines.len(),
            analog: setup.analog.len(),
            inputs,
            bits,
            block: SampleBlock::default(),
        }
    }

    /// Where the bits of a word of the instrument's go.
    fn spread(&self, word: u64) -> u64 {
        let bytes = word.to_le_bytes();
        self.bits.iter().zip(bytes).fold(0, |to, (bits, byte)| to | bits[usize::from(byte)])
    }

    /// Takes in the codes that come with a sample.
    fn take(&mut self, samples: Samples<'_>, number: u64) {
        for made in &mut self.made {
            let (first, every, codes) = samples.analog(made.analog);
            let place = number.saturating_sub(first) / every.max(1);
            if let Some(code) = usize::try_from(place).ok().and_then(|place| codes.get(place)) {
                made.level = made.gate.next(made.level, *code);
            }
        }
    }

    /// The bits of the made lines, and which of them are unknown.
    fn made(&self) -> (u64, u64) {
        self.made.iter().fold((0, 0), |(levels, unknown), made| match made.level {
            Level::High => (levels | 1 << made.line, unknown),
            Level::Low => (levels, unknown),
            Level::Floating | Level::Unknown => (levels, unknown | 1 << made.line),
        })
    }
}

impl Instrument for Wired<'_> {
    fn identity(&self) -> String {
        self.instrument.identity()
    }

    fn capabilities(&self) -> Capabilities {
        self.instrument.capabilities()
    }

    fn configure(&mut self, configuration: &Configuration) -> Result<()> {
        let input = |line: usize| self.inputs.iter().position(|own| *own == line).unwrap_or(usize::MAX);
        let trigger = configuration.trigger.as_ref().map(|edge| QualifiedEdge {
            input: input(edge.input),
            direction: edge.direction,
            levels: edge.levels.iter().map(|(line, high)| (input(*line), *high)).collect(),
        });
        let inputs = self.inputs.iter().filter_map(|line| configuration.inputs.get(*line).cloned()).collect();
        self.made.iter_mut().for_each(|made| made.level = Level::Unknown);
        self.instrument.configure(&Configuration { inputs, trigger, ..configuration.clone() })
    }

    fn arm(&mut self) -> Result<()> {
        self.instrument.arm()
    }

    fn status(&mut self) -> Result<Status> {
        self.instrument.status()
    }

    fn stop(&mut self) -> Result<()> {
        self.instrument.stop()
    }

    fn read(&mut self, block: &mut SampleBlock) -> Result<()> {
        if self.inputs.len() == self.lines {
            return self.instrument.read(block);
        }
        let mut own = std::mem::take(&mut self.block);
        let outcome = self.instrument.read(&mut own);
        let samples = own.samples();
        block.reset(SampleWidth::for_inputs(self.lines));
        let grid = (samples.analog_inputs() > 0).then(|| samples.analog(0));
        if let Some((first, every, _)) = grid {
            block.start_analog(self.analog, first, every);
            (0..self.analog).for_each(|input| block.push_analog(input, samples.analog(input).2));
        }
        let due = |number: u64| match grid {
            Some((first, every, _)) => number >= first && (number - first).is_multiple_of(every.max(1)),
            None => false,
        };
        let mut made = self.made();
        for (number, (levels, unknown)) in (0..).zip(samples.iter()) {
            if due(number) {
                self.take(samples, number);
                made = self.made();
            }
            block.push(self.spread(levels) | made.0, self.spread(unknown) | made.1 | self.left_out);
        }
        self.block = own;
        outcome
    }

    fn remarks(&self) -> Vec<String> {
        self.instrument.remarks()
    }
}

impl Setup {
    /// The lines that are made from analog ones: the number of each and the voltage that parts its levels.
    pub(super) fn made_lines(&self) -> impl Iterator<Item = (usize, Crossing)> {
        self.lines.iter().enumerate().filter_map(|(number, line)| {
            let LevelSource::Analog { analog, .. } = line.source else { return None };
            let threshold = line.line.threshold.map(Threshold::voltage)?;
            Some((number, Crossing::new(analog, threshold, Side::Both)?))
        })
    }
}
