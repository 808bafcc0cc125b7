//! Whether an instrument can do what is asked, and if not, what is nearest.

use crate::error::{Error, ErrorKind};
use crate::instrument::{Capabilities, Mode};
use crate::scan::SampleWidth;
use crate::time::{Rate, Rational, Samples, Time, TimeBase, Voltage};

/// How long to record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Length {
    /// A length of time; rounded up to whole samples.
    Time(Time),
    /// A number of samples.
    Samples(u64),
}

/// How much of the record lies before the trigger.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Before {
    /// A share of the record.
    Share(crate::time::Percent),
    /// A length of time.
    Time(Time),
}

/// What a setup asks of an input.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedInput {
    /// The line's name, for messages.
    pub name: String,
    /// The input's number; `None` on a replay.
    pub number: Option<u32>,
    /// The threshold, if one is stated.
    pub threshold: Option<Voltage>,
    /// The highest voltage on the line, if stated.
    pub swing: Option<Voltage>,
}

/// What a setup asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// Sample rate.
    pub rate: Rate,
    /// How long to record.
    pub length: Length,
    /// How much of it before the trigger.
    pub before: Before,
    /// The inputs.
    pub inputs: Vec<WantedInput>,
    /// Whether the host must look for the trigger in a stream, because the instrument cannot.
    pub stream: bool,
}

/// A plan that fits the instrument.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Plan {
    /// Sample rate.
    pub rate: Rate,
    /// Samples in all.
    pub samples: u64,
    /// Samples before the trigger.
    pub before: u64,
    /// The rates this instrument has for this many inputs.
    pub rates: Vec<Rate>,
    /// Whether the samples are streamed: the trigger or the length is beyond what is on board.
    pub stream: bool,
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
    let count = wanted.inputs.len() as u32;
    check_inputs(wanted, able, &mut problems);
    let samples = match wanted.length {
        Length::Samples(samples) => Some(samples),
        Length::Time(time) => ticks(wanted.rate, time).and_then(|t| u64::try_from(t.ceil()).ok()),
    };
    let samples = samples.unwrap_or(u64::MAX);
    let fits = |streams| able.mode_for(count, wanted.rate, streams).is_some_and(|m| samples <= m.memory);
    let stream = wanted.stream || (!fits(false) && fits(true));
    let rates = able.rates_for(count, stream);
    if rates.is_empty() && stream && !able.rates_for(count, false).is_empty() {
        let message =
            format!("the instrument cannot wait for this trigger by itself, nor stream {count} lines");
        let help = "wait for an edge of one line while other lines have given levels, or name fewer lines";
        problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
        return Err(problems);
    }
    if rates.is_empty() {
        let message = format!("the setup names {count} lines, the instrument records {}", able.inputs);
        let help = format!("leave out {} lines", count.saturating_sub(able.inputs).max(1));
        problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
        return Err(problems);
    }
    let Some(mode) = able.mode_for(count, wanted.rate, stream) else {
        problems.push(rate_error(wanted, &rates, able));
        return Err(problems);
    };
    problems.extend(length_error(samples, wanted.rate, mode));
    let before = match wanted.before {
        Before::Share(share) => {
            Rational::new(i128::from(samples), 1).and_then(|s| s.checked_mul(share.to_fraction()))
        }
        Before::Time(time) => ticks(wanted.rate, time),
    };
    let before = before.map_or(-1, Rational::round);
    let before = u64::try_from(before).ok().filter(|before| *before <= samples);
    if before.is_none() {
        let message = "the part before the trigger is longer than the whole record, or negative";
        let help = "give a share from 0 % to 100 %, or a time up to the length of the record";
        problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
    }
    let width = SampleWidth::for_inputs(wanted.inputs.len()).bytes() as u64;
    if let Some(before) = before.filter(|before| stream && before.saturating_mul(width) > RING_BYTES) {
        let most = RING_BYTES / width;
        let message = format!(
            "{} before the trigger do not fit into the {} that are kept while the host looks for it",
            Samples(before),
            Samples(most)
        );
        let longest = duration(wanted.rate, most);
        let help = format!("keep at most {longest} before the trigger, or record at a lower rate");
        problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
    }
    match before {
        Some(before) if problems.is_empty() => Ok(Plan { rate: wanted.rate, samples, before, rates, stream }),
        _ => Err(problems),
    }
}

/// Samples that a mode cannot hold.
fn length_error(samples: u64, rate: Rate, mode: &Mode) -> Option<Error> {
    if samples > 0 && samples <= mode.memory {
        return None;
    }
    let message = match samples {
        0 => "a record of no samples shows nothing".to_string(),
        _ if mode.streams => {
            format!("{} are more than the instrument streams, {}", Samples(samples), Samples(mode.memory))
        }
        _ => {
            let memory = Samples(mode.memory);
            format!("{} do not fit into the instrument's memory of {memory}", Samples(samples))
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

fn check_inputs(wanted: &Wanted, able: &Capabilities, problems: &mut Vec<Error>) {
    for input in &wanted.inputs {
        let name = &input.name;
        if let Some(number) = input.number.filter(|n| *n >= able.inputs) {
            let message = format!("line '{name}' is on input {number}, which the instrument does not have");
            let help = format!("its inputs are 0 to {}", able.inputs.saturating_sub(1));
            problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
        }
        if let Some(swing) = input.swing.filter(|s| *s > able.highest_input) {
            let message = format!("line '{name}' swings to {swing}, its input stands {}", able.highest_input);
            let help = "do not connect it: use a divider or a level shifter, and state the swing behind it";
            problems.push(Error::new(ErrorKind::Danger, message).with_help(help));
        }
        let (low, high) = able.thresholds;
        if let Some(threshold) = input.threshold.filter(|t| *t < low || *t > high) {
            let message = format!("a threshold of {threshold} for '{name}' is out of the instrument's range");
            let help = format!("it can be set from {low} to {high}");
            problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
        }
    }
}

fn rate_error(wanted: &Wanted, rates: &[Rate], able: &Capabilities) -> Error {
    let (rate, count) = (wanted.rate, wanted.inputs.len() as u32);
    let message = if wanted.stream {
        format!(
            "the host must look for this trigger, and the instrument does not stream {count} lines at {rate}"
        )
    } else {
        format!("the instrument does not record {count} lines at {rate}")
    };
    let below = rates.iter().rev().find(|r| **r < rate);
    let above = rates.iter().find(|r| **r > rate);
    let mut nearest: Vec<String> = below.into_iter().chain(above).map(ToString::to_string).collect();
    let modes = able.modes.iter().filter(|m| m.streams == wanted.stream && m.rates.contains(&rate));
    if let Some(mode) = modes.max_by_key(|m| m.inputs) {
        nearest.push(format!(
            "{rate} takes {} lines: leave out {}",
            mode.inputs,
            count.saturating_sub(mode.inputs)
        ));
    }
    Error::new(ErrorKind::Instrument, message).with_help(format!("nearest: {}", nearest.join(", or ")))
}
