//! Whether an instrument can do what is asked, and if not, what is nearest; and whether it is wise.

mod advice;
mod analog;
mod inputs;
mod outputs;

pub use advice::{Advice, advice};

use crate::error::{Error, ErrorKind};
use crate::instrument::{Capabilities, Mode, Stimulus};
use crate::line::VoltageRange;
use crate::quantity::{Frequency, Percent, Rate, Rational, SampleCount, Time, Voltage};
use crate::scan::SampleWidth;
use crate::time::TimeBase;

/// How fast to sample.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Speed {
    /// At this rate.
    Rate(Rate),
    /// As fast as the instrument records these inputs for this long.
    Fastest,
}

/// How long to record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Length {
    /// A length of time; rounded up to whole samples.
    Time(Time),
    /// A number of samples.
    Samples(u64),
    /// As long as the memory lasts.
    Longest,
    /// Without end: what comes is looked at, and not kept.
    Endless,
}

/// How much of the record lies before the trigger.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Before {
    /// A share of the record.
    Share(Percent),
    /// A length of time.
    Time(Time),
    /// What the trigger is about: a sample before an edge; of a stream, everything since the frame or the
    /// sequence began that it ends.
    Beginning,
}

/// What a setup asks of an input.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedInput {
    /// The line's name, for messages.
    pub name: String,
    /// What its levels come from.
    pub source: WantedSource,
    /// The threshold, if one is stated.
    pub threshold: Option<Voltage>,
    /// The highest voltage on the line, if stated.
    pub swing: Option<Voltage>,
    /// The fastest signal on the line, if stated.
    pub fastest: Option<Frequency>,
}

/// What the levels of a line come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WantedSource {
    /// An input, by its number; `None` on a replay.
    Input(Option<u32>),
    /// An analog line, by its place among those that are asked for.
    Analog(usize),
}

/// What a setup asks of an analog input.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedAnalog {
    /// The analog line's name, for messages.
    pub name: String,
    /// The input's number.
    pub number: u32,
    /// The voltages that are expected, if stated; otherwise the instrument's widest range is used.
    pub range: Option<VoltageRange>,
}

/// A bus that is to be decoded by the time its bits take.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedBus {
    /// Its name, for messages.
    pub name: String,
    /// Bits per second.
    pub bit_rate: Frequency,
    /// Whether a line of it is made from an analog one, and so is looked at as seldom as that.
    pub analog: bool,
}

/// What a setup asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// Sample rate.
    pub speed: Speed,
    /// How long to record.
    pub length: Length,
    /// How much of it before the trigger.
    pub before: Before,
    /// How long what the trigger ends takes at least: nothing for an edge, which takes a sample before it; `None`
    /// without a trigger.
    pub about: Option<Time>,
    /// The inputs.
    pub inputs: Vec<WantedInput>,
    /// The buses that are decoded without a clock.
    pub buses: Vec<WantedBus>,
    /// The analog inputs.
    pub analog: Vec<WantedAnalog>,
    /// Their sample rate; the fastest that goes with the digital one when not stated.
    pub analog_rate: Option<Rate>,
    /// What is to be sent out.
    pub stimuli: Vec<Stimulus>,
    /// Whether the host must look for the trigger in a stream, because the instrument cannot.
    pub stream: bool,
}

impl Wanted {
    /// How many inputs record levels.
    fn count(&self) -> u32 {
        let of_input = |input: &&WantedInput| matches!(input.source, WantedSource::Input(_));
        self.inputs.iter().filter(of_input).count() as u32
    }
}

impl Plan {
    /// How often the analog lines are looked at.
    pub fn analog_rate(&self) -> Rate {
        let every = Rational::new(self.analog_every.max(1).into(), 1).unwrap_or(Rational::ONE);
        self.rate.to_rational().checked_div(every).map_or(self.rate, Rate::from_rational)
    }
}

/// A plan that fits the instrument.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Plan {
    /// Sample rate.
    pub rate: Rate,
    /// Samples in all.
    pub samples: u64,
    /// Samples before the trigger, at least.
    pub before: u64,
    /// Whether more of them are kept where what the trigger ends began earlier.
    pub beginning: bool,
    /// The rates this instrument has for this many inputs.
    pub rates: Vec<Rate>,
    /// Whether the samples are streamed: the trigger or the length is beyond what is on board.
    pub stream: bool,
    /// Most samples that could be recorded at this rate in this way.
    pub memory: u64,
    /// The range of each analog input.
    pub analog: Vec<VoltageRange>,
    /// Samples from one analog sample to the next; 0 without analog inputs.
    pub analog_every: u64,
}

/// Most bytes of samples from before the trigger that the host keeps while it looks for it.
const RING_BYTES: u64 = 1 << 30;

/// Makes a plan. What the instrument's memory cannot hold is streamed, if it can stream.
///
/// # Errors
/// Everything that does not fit, each with the nearest setting that does; a swing above an input's
/// rating is [`ErrorKind::Danger`].
pub fn plan(wanted: &Wanted, able: &Capabilities) -> Result<Plan, Vec<Error>> {
    let mut problems = Vec::new();
    let count = wanted.count();
    inputs::check(wanted, able, &mut problems);
    let analog = analog::ranges(wanted, able, &mut problems);
    let (rate, stream) = speed(wanted, able);
    outputs::check(wanted, able, stream, &mut problems);
    let rates = able.rates_for(count, stream);
    if rates.is_empty() {
        problems.push(too_many_inputs(wanted, able, stream));
        return Err(problems);
    }
    let Some((rate, mode)) = rate.and_then(|rate| Some((rate, able.mode_for(count, rate, stream)?))) else {
        problems.push(rate_error(wanted, &rates, able));
        return Err(problems);
    };
    let samples = match samples_at(wanted.length, rate) {
        Some(samples) => samples,
        None if mode.streams && wanted.length == Length::Longest => {
            let error = Error::new(ErrorKind::Instrument, "a stream has no end of its own");
            problems.push(error.with_help("say how long the record is, such as length = \"10 s\""));
            return Err(problems);
        }
        None => mode.memory,
    };
    problems.extend(length_error(samples, rate, mode));
    let before = match wanted.before {
        Before::Share(share) => {
            Rational::new(i128::from(samples), 1).and_then(|s| s.checked_mul(share.to_fraction()))
        }
        Before::Time(time) => ticks(rate, time),
        Before::Beginning => Some(Rational::from(i64::from(samples > 1))),
    };
    let before = before.map_or(-1, Rational::round);
    let before = u64::try_from(before).ok().filter(|before| *before <= samples);
    if before.is_none() {
        let message = "the part before the trigger is longer than the whole record, or negative";
        let help = "give a share from 0 % to 100 %, or a time up to the length of the record";
        problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
    }
    let analog_every = analog::every(wanted, able, rate, &mut problems);
    let width = SampleWidth::for_inputs(wanted.count() as usize).bytes() as u64;
    if let Some(before) = before.filter(|before| stream && before.saturating_mul(width) > RING_BYTES) {
        let most = RING_BYTES / width;
        let message = format!(
            "{} before the trigger do not fit into the {} that are kept while the host looks for it",
            SampleCount(before),
            SampleCount(most)
        );
        let longest = duration(rate, most);
        let help = format!("keep at most {longest} before the trigger, or record at a lower rate");
        problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
    }
    match before {
        Some(before) if problems.is_empty() => {
            let beginning = stream && wanted.before == Before::Beginning;
            let memory = mode.memory;
            Ok(Plan { rate, samples, before, beginning, rates, stream, memory, analog, analog_every })
        }
        _ => Err(problems),
    }
}

/// The rate to use and whether to stream.
fn speed(wanted: &Wanted, able: &Capabilities) -> (Option<Rate>, bool) {
    let count = wanted.count();
    let fits = |rate: Rate, streams: bool| {
        let mode = able.mode_for(count, rate, streams);
        // Without a length of its own, the record takes what there is.
        mode.is_some_and(|m| samples_at(wanted.length, rate).is_none_or(|samples| samples <= m.memory))
    };
    match wanted.speed {
        Speed::Rate(rate) => {
            let only_streams = able.rates_for(count, false).is_empty();
            let stream = wanted.stream || (!fits(rate, false) && (fits(rate, true) || only_streams));
            (Some(rate), stream)
        }
        Speed::Fastest => {
            let best = |streams: bool| {
                able.rates_for(count, streams).into_iter().rev().find(|rate| fits(*rate, streams))
            };
            match best(false).filter(|_| !wanted.stream) {
                Some(rate) => (Some(rate), false),
                None => match best(true) {
                    Some(rate) => (Some(rate), true),
                    // What does not fit is told for the fastest there is.
                    None => (able.rates_for(count, wanted.stream).last().copied(), wanted.stream),
                },
            }
        }
    }
}

/// The number of samples, unless the memory decides.
fn samples_at(length: Length, rate: Rate) -> Option<u64> {
    match length {
        Length::Samples(samples) => Some(samples),
        Length::Time(time) => {
            Some(ticks(rate, time).and_then(|t| u64::try_from(t.ceil()).ok()).unwrap_or(u64::MAX))
        }
        Length::Longest | Length::Endless => None,
    }
}

fn too_many_inputs(wanted: &Wanted, able: &Capabilities, stream: bool) -> Error {
    let count = wanted.count();
    if wanted.length == Length::Endless {
        let message =
            format!("the instrument does not stream {count} lines, so it has no record without end");
        let help = match able.modes.iter().filter(|mode| mode.streams).map(|mode| mode.inputs).max() {
            Some(most) if most < count => format!("it streams {most}: leave out {} lines", count - most),
            _ => "record and check again and again instead".to_string(),
        };
        return Error::new(ErrorKind::Instrument, message).with_help(help);
    }
    if stream && !able.rates_for(count, false).is_empty() {
        let message =
            format!("the instrument cannot wait for this trigger by itself, nor stream {count} lines");
        let help = "wait for an edge of one line while other lines have given levels, or name fewer lines";
        return Error::new(ErrorKind::Instrument, message).with_help(help);
    }
    let most = able.modes.iter().map(|mode| mode.inputs).max().unwrap_or(0);
    let message = format!("the setup names {count} lines, the instrument records {most}");
    let help = format!("leave out {} lines", count.saturating_sub(most).max(1));
    Error::new(ErrorKind::Instrument, message).with_help(help)
}

/// Samples that a mode cannot hold.
fn length_error(samples: u64, rate: Rate, mode: &Mode) -> Option<Error> {
    if samples > 0 && samples <= mode.memory {
        return None;
    }
    let message = match samples {
        0 => "a record of no samples shows nothing".to_string(),
        _ if mode.streams => {
            format!(
                "{} are more than the instrument streams, {}",
                SampleCount(samples),
                SampleCount(mode.memory)
            )
        }
        _ => {
            let memory = SampleCount(mode.memory);
            format!("{} do not fit into the instrument's memory of {memory}", SampleCount(samples))
        }
    };
    let longest = duration(rate, mode.memory);
    let help = format!("at {rate} it records up to {longest}, that is {} samples", mode.memory);
    Some(Error::new(ErrorKind::Instrument, message).with_help(help))
}

/// How long this many samples take, in words.
fn duration(rate: Rate, samples: u64) -> String {
    let base = TimeBase::from_rate(rate);
    base.map(|b| b.length_of(i64::try_from(samples).unwrap_or(i64::MAX)).to_string()).unwrap_or_default()
}

fn ticks(rate: Rate, time: Time) -> Option<Rational> {
    time.to_rational().checked_mul(rate.to_rational())
}

fn rate_error(wanted: &Wanted, rates: &[Rate], able: &Capabilities) -> Error {
    let count = wanted.count();
    let Speed::Rate(rate) = wanted.speed else {
        let error = Error::new(ErrorKind::Instrument, "no rate fits this length");
        return error.with_help("give a shorter length, or name fewer lines");
    };
    let message = if wanted.length == Length::Endless {
        format!("the instrument does not stream {count} lines at {rate}")
    } else if wanted.stream {
        format!(
            "the host must look for this trigger, and the instrument does not stream {count} lines at {rate}"
        )
    } else {
        format!("the instrument does not record {count} lines at {rate}")
    };
    let below = rates.iter().rev().find(|r| **r < rate);
    let above = rates.iter().find(|r| **r > rate);
    let mut nearest: Vec<String> = below.into_iter().chain(above).map(ToString::to_string).collect();
    let most = |mode: &Mode| (1..=mode.inputs).rev().find(|inputs| mode.records(*inputs, rate));
    let modes = able.modes.iter().filter(|m| m.streams == wanted.stream);
    if let Some(inputs) = modes.filter_map(most).max() {
        nearest.push(format!("{rate} takes {inputs} lines: leave out {}", count.saturating_sub(inputs)));
    }
    Error::new(ErrorKind::Instrument, message).with_help(format!("nearest: {}", nearest.join(", or ")))
}
