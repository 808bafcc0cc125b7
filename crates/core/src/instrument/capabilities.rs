//! What an instrument can do, as data.

use super::stimulus::Output;
use crate::error::{Error, ErrorKind, Result};
use crate::line::{AnalogScale, VoltageRange};
use crate::quantity::{Percent, Rate, Rational, Time, Voltage};
use crate::scan::SampleWidth;
use crate::time::Resolution;

/// Most inputs that can be recorded at once: the bits of a sample.
const MOST_INPUTS: u32 = 64;

/// What an instrument can do.
///
/// ```
/// use deep_tap_core::instrument::{Bank, Capabilities, Mode, OnBoardTrigger};
///
/// let fast = Mode::on_board(8, ["100 MS/s".parse()?, "200 MS/s".parse()?], 1 << 20);
/// let mut able = Capabilities::new([Bank::new("A", 8)], [fast]);
/// able.trigger = OnBoardTrigger::edge(8);
/// able.skew = "1 ns".parse()?;
/// able.check()?;
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Capabilities {
    /// Its inputs, in banks that share properties, rising and without gaps from input 0 on.
    pub banks: Vec<Bank>,
    /// Its analog inputs, if it has any.
    pub analog: Option<AnalogBank>,
    /// Its outputs, numbered from 0.
    pub outputs: Vec<Output>,
    /// How soon after its own trigger a stimulus can begin.
    pub reaction: Time,
    /// Its modes, each a trade of inputs against rate and memory.
    pub modes: Vec<Mode>,
    /// What it can wait for by itself.
    pub trigger: OnBoardTrigger,
    /// Largest difference in delay between two inputs.
    pub skew: Time,
    /// Largest relative error of the time base.
    pub accuracy: Percent,
}

/// Analog inputs, numbered from 0 on their own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AnalogBank {
    /// What is printed beside them.
    pub name: String,
    /// How many.
    pub inputs: u32,
    /// The ranges that can be set for each input.
    pub ranges: Vec<VoltageRange>,
    /// Bits of a code, 1 to 16; the codes of a range go from -2^(bits-1) to 2^(bits-1) - 1.
    pub bits: u32,
    /// Largest error of a sample as a share of the range, the half step of a code not counted.
    pub accuracy: Percent,
    /// Fastest rate; any rate up to it that divides the digital one can be had.
    pub fastest: Rate,
    /// Highest voltage an input stands.
    pub highest: Voltage,
}

impl AnalogBank {
    /// The range to choose for voltages in `wanted`: the narrowest that has them all.
    pub fn range_for(&self, wanted: VoltageRange) -> Option<VoltageRange> {
        self.ranges.iter().copied().filter(|range| range.contains(wanted)).min_by_key(VoltageRange::span)
    }

    /// The widest range.
    pub fn widest(&self) -> Option<VoltageRange> {
        self.ranges.iter().copied().max_by_key(VoltageRange::span)
    }

    /// How its codes stand for voltages in a range.
    pub fn scale(&self, range: VoltageRange) -> Option<AnalogScale> {
        let span = range.span().to_rational();
        let half = Rational::new(1, 2)?;
        let step = span.checked_div(Rational::from(1i64 << self.bits.clamp(1, 16)))?;
        let zero = range.low.to_rational().checked_add(range.high.to_rational())?.checked_mul(half)?;
        let error = span.checked_mul(self.accuracy.to_fraction())?.checked_add(step.checked_mul(half)?)?;
        let volts = Voltage::from_rational;
        AnalogScale::new(volts(zero), volts(step), volts(error))
    }
}

/// Inputs that share properties.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Bank {
    /// What is printed beside them.
    pub name: String,
    /// How many.
    pub inputs: u32,
    /// Lowest and highest threshold; the same twice when it is fixed.
    pub thresholds: VoltageRange,
    /// Smallest step of the threshold; zero when any voltage will do.
    pub step: Voltage,
    /// Whether each input has a threshold of its own; otherwise the bank has one.
    pub per_input: bool,
    /// Highest voltage an input stands.
    pub highest: Voltage,
}

impl Bank {
    /// Inputs without thresholds that could be set, as those of a simulation: fixed at zero volts.
    pub fn new(name: impl Into<String>, inputs: u32) -> Self {
        let (low, high) = (Voltage::ZERO, Voltage::ZERO);
        Bank {
            name: name.into(),
            inputs,
            thresholds: VoltageRange { low, high },
            step: Voltage::ZERO,
            per_input: false,
            highest: Voltage::ZERO,
        }
    }

    /// The thresholds next to a voltage that can be set, at most one on either side.
    pub fn nearest(&self, wanted: Voltage) -> Vec<Voltage> {
        let VoltageRange { low, high } = self.thresholds;
        if wanted <= low {
            return vec![low];
        }
        if wanted >= high {
            return vec![high];
        }
        let step = self.step.to_rational();
        let steps = wanted.to_rational().checked_sub(low.to_rational()).and_then(|d| d.checked_div(step));
        let Some(steps) = steps.filter(|_| step > Rational::ZERO) else { return vec![wanted] };
        let at = |count: i128| {
            let above = Rational::new(count, 1)?.checked_mul(step)?;
            Some(Voltage::from_rational(low.to_rational().checked_add(above)?).min(high))
        };
        let mut nearest: Vec<Voltage> = [steps.floor(), steps.ceil()].into_iter().filter_map(at).collect();
        nearest.dedup();
        nearest
    }
}

/// What an instrument can wait for by itself; anything else the host looks for in a stream.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct OnBoardTrigger {
    /// Whether it can wait for an edge of one input.
    pub edge: bool,
    /// How many inputs may be asked for levels at that edge.
    pub levels: u32,
}

impl OnBoardTrigger {
    /// An edge of one input, at which this many inputs may be asked for levels.
    pub fn edge(levels: u32) -> Self {
        OnBoardTrigger { edge: true, levels }
    }
}

/// One way in which an instrument can record.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Mode {
    /// Most inputs recorded at once.
    pub inputs: u32,
    /// Sample rates, rising.
    pub rates: Vec<Rate>,
    /// Most samples in one recording: the memory, or what a stream may be long.
    pub memory: u64,
    /// Whether the samples are sent while they are taken, instead of being kept on board.
    pub streams: bool,
    /// What the link takes, in bytes per second, when it streams; a sample of up to 8 inputs is a
    /// byte, of up to 16 two, of up to 32 four. `None` when it takes everything.
    pub link: Option<u64>,
}

impl Mode {
    /// Into a memory of so many samples, at one of these rates (rising).
    pub fn on_board(inputs: u32, rates: impl IntoIterator<Item = Rate>, memory: u64) -> Self {
        Mode { inputs, rates: rates.into_iter().collect(), memory, streams: false, link: None }
    }

    /// As a stream to the host, of so many samples at the most, at one of these rates (rising).
    pub fn streaming(inputs: u32, rates: impl IntoIterator<Item = Rate>, most: u64) -> Self {
        Mode { streams: true, ..Mode::on_board(inputs, rates, most) }
    }

    /// Whether it records this many inputs at this rate.
    pub fn records(&self, inputs: u32, rate: Rate) -> bool {
        let bytes = SampleWidth::for_inputs(inputs as usize).bytes() as i128;
        let needed = Rational::new(bytes, 1).and_then(|bytes| bytes.checked_mul(rate.to_rational()));
        let carried = |link: u64| needed.is_some_and(|n| n <= Rational::new(link.into(), 1).unwrap_or(n));
        inputs <= self.inputs && self.rates.contains(&rate) && self.link.is_none_or(carried)
    }
}

impl Capabilities {
    /// Those of an instrument that can do nothing.
    pub fn nothing() -> Self {
        Capabilities::new([], [])
    }

    /// Those of an ideal instrument with these inputs and modes: no skew, an exact time base, no trigger
    /// of its own, no analog inputs, no outputs.
    pub fn new(banks: impl IntoIterator<Item = Bank>, modes: impl IntoIterator<Item = Mode>) -> Self {
        Capabilities {
            banks: banks.into_iter().collect(),
            analog: None,
            outputs: Vec::new(),
            reaction: Time::ZERO,
            modes: modes.into_iter().collect(),
            trigger: OnBoardTrigger::default(),
            skew: Time::ZERO,
            accuracy: Percent::ZERO,
        }
    }

    /// Checks that they do not contradict themselves.
    ///
    /// # Errors
    /// [`ErrorKind::Instrument`] with the first contradiction.
    pub fn check(&self) -> Result<()> {
        let wrong = |message: String| {
            let help = "this is a mistake in the description of the instrument";
            Err(Error::new(ErrorKind::Instrument, message).with_help(help))
        };
        let inputs = self.banks.iter().try_fold(0u32, |sum, bank| sum.checked_add(bank.inputs));
        if inputs.is_none_or(|inputs| inputs > MOST_INPUTS) {
            return wrong(format!("an instrument has at most {MOST_INPUTS} inputs"));
        }
        for bank in &self.banks {
            if bank.thresholds.low > bank.thresholds.high || bank.step < Voltage::ZERO {
                return wrong(format!("the thresholds of bank {} are upside down", bank.name));
            }
        }
        for mode in &self.modes {
            if mode.inputs > self.inputs() {
                return wrong(format!("a mode records {} inputs of {}", mode.inputs, self.inputs()));
            }
            let rising = mode.rates.windows(2).all(|pair| pair[0] < pair[1]);
            if !rising || mode.rates.first().is_none_or(|rate| rate.to_rational() <= Rational::ZERO) {
                return wrong("the rates of a mode are not above zero and rising".to_string());
            }
            if mode.memory == 0 {
                return wrong("a mode has no memory".to_string());
            }
        }
        if let Some(bank) = &self.analog {
            let upside_down = bank.ranges.iter().any(|range| range.low >= range.high);
            if upside_down || bank.ranges.is_empty() || !(1..=16).contains(&bank.bits) {
                return wrong(format!("bank {} has no range, one upside down, or no bits", bank.name));
            }
        }
        if self.skew < Time::ZERO || self.accuracy < Percent::ZERO || self.modes.is_empty() {
            return wrong("its skew or time-base error is negative, or it has no mode at all".to_string());
        }
        Ok(())
    }

    /// Number of digital inputs, numbered from 0.
    pub fn inputs(&self) -> u32 {
        self.banks.iter().map(|bank| bank.inputs).sum()
    }

    /// How well instants are known in what it records.
    pub fn resolution(&self) -> Resolution {
        Resolution { sampled: true, skew: self.skew, accuracy: self.accuracy, extra: Time::ZERO }
    }

    /// The bank that an input belongs to.
    pub fn bank_of(&self, input: u32) -> Option<&Bank> {
        let mut first = 0;
        self.banks.iter().find(|bank| {
            first += bank.inputs;
            input < first
        })
    }

    /// The rates at which this many inputs can be recorded, on board or as a stream, rising, each
    /// once.
    pub fn rates_for(&self, inputs: u32, streams: bool) -> Vec<Rate> {
        let modes = self.modes.iter().filter(|m| m.streams == streams);
        let fitting = |mode: &Mode| {
            let rates = mode.rates.iter().copied();
            rates.filter(|rate| mode.records(inputs, *rate)).collect::<Vec<_>>()
        };
        let mut rates: Vec<Rate> = modes.flat_map(fitting).collect();
        rates.sort_unstable();
        rates.dedup();
        rates
    }

    /// The deepest mode that records this many inputs at this rate, on board or as a stream.
    pub fn mode_for(&self, inputs: u32, rate: Rate, streams: bool) -> Option<&Mode> {
        let fitting = self.modes.iter().filter(|m| m.streams == streams && m.records(inputs, rate));
        fitting.max_by_key(|m| m.memory)
    }
}
