//! What an instrument can do, in one screen.

use std::path::Path;

use deep_tap::bench;
use deep_tap::instrument::{AnalogBank, Bank, Capabilities, Offer, Output};
use deep_tap::line::VoltageRange;
use deep_tap::quantity::{Frequency, Rate, Time, Voltage, rough};
use deep_tap::{Error, ErrorKind};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::Document;
use crate::errors::Failure;
use crate::next::{next, path_word};
use crate::output::{Grid, Out, hanging, write_table};

/// What an instrument can do, as a program reads it.
#[derive(Serialize)]
struct Said {
    connect: String,
    instrument: String,
    banks: Vec<SaidBank>,
    offers: Vec<SaidOffer>,
    trigger_edge: bool,
    trigger_levels: u32,
    streams: bool,
    skew_s: Time,
    accuracy_ppm: f64,
    analog: Option<SaidAnalog>,
    outputs: Vec<SaidOutput>,
    reaction_s: Option<Time>,
}

#[derive(Serialize)]
struct SaidBank {
    bank: String,
    first_input: u32,
    last_input: u32,
    threshold_from_v: Voltage,
    threshold_to_v: Voltage,
    threshold_step_v: Voltage,
    threshold_per_input: bool,
    highest_v: Voltage,
}

#[derive(Serialize)]
struct SaidOffer {
    inputs_from: u32,
    inputs_to: u32,
    way: &'static str,
    rates_hz: Vec<Rate>,
    fastest_hz: Option<Rate>,
    memory_samples: u64,
}

#[derive(Serialize)]
struct SaidAnalog {
    bank: String,
    inputs: u32,
    bits: u32,
    ranges: Vec<String>,
    fastest_hz: Rate,
    accuracy_percent: f64,
    highest_v: Voltage,
}

#[derive(Serialize)]
struct SaidOutput {
    output: String,
    pulses_hz: Option<Frequency>,
    bytes_hz: Option<Frequency>,
}

const COLUMNS: &[&str] = &["inputs_from", "inputs_to", "way", "fastest_hz", "memory_samples"];

pub(super) fn run(args: &args::Info, out: &mut Out) -> Result<Outcome, Failure> {
    if args.verify || args.write_setup.is_some() || args.source.setup.is_some() {
        let error = Error::new(ErrorKind::Unknown, "an instrument has nothing to verify and no setup");
        return Err(error.with_help("give the file of a record, or leave these options out").into());
    }
    let address = args.source.file.to_string_lossy();
    let instrument = bench::connect(&address, Path::new(""))?;
    let able = instrument.capabilities();
    let said = said(&address, instrument.identity(), &able);
    let document = Document::new("instrument", &said);
    let text = || {
        let next = next("init", path_word(&args.source.file));
        format!("{}\n{next}\n", text(&said, &able))
    };
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.each(&said.offers), text)?;
    Ok(Outcome::Done)
}

fn said(address: &str, identity: String, able: &Capabilities) -> Said {
    let mut first = 0;
    let bank = |bank: &Bank| {
        let first_input = first;
        first += bank.inputs;
        SaidBank {
            bank: bank.name.clone(),
            first_input,
            last_input: first.saturating_sub(1),
            threshold_from_v: bank.thresholds.low,
            threshold_to_v: bank.thresholds.high,
            threshold_step_v: bank.step,
            threshold_per_input: bank.per_input,
            highest_v: bank.highest,
        }
    };
    let offer = |offer: &Offer| SaidOffer {
        inputs_from: offer.from,
        inputs_to: offer.to,
        way: if offer.streams { "streamed" } else { "on board" },
        rates_hz: offer.rates.iter().map(|(rate, _)| *rate).collect(),
        fastest_hz: offer.rates.last().map(|(rate, _)| *rate),
        memory_samples: offer.rates.last().map_or(0, |(_, memory)| *memory),
    };
    let analog = |bank: &AnalogBank| SaidAnalog {
        bank: bank.name.clone(),
        inputs: bank.inputs,
        bits: bank.bits,
        ranges: bank.ranges.iter().map(ToString::to_string).collect(),
        fastest_hz: bank.fastest,
        accuracy_percent: bank.accuracy.to_fraction().to_f64() * 100.0,
        highest_v: bank.highest,
    };
    let output = |output: &Output| SaidOutput {
        output: output.name.clone(),
        pulses_hz: output.pulses,
        bytes_hz: output.bytes,
    };
    Said {
        connect: address.to_string(),
        instrument: identity,
        banks: able.banks.iter().map(bank).collect(),
        offers: able.offers().iter().map(offer).collect(),
        trigger_edge: able.trigger.edge,
        trigger_levels: able.trigger.levels,
        streams: able.modes.iter().any(|mode| mode.streams),
        skew_s: able.skew,
        accuracy_ppm: able.accuracy.to_fraction().to_f64() * 1e6,
        analog: able.analog.as_ref().map(analog),
        outputs: able.outputs.iter().map(output).collect(),
        reaction_s: (!able.outputs.is_empty()).then_some(able.reaction),
    }
}

/// From one input to another.
fn numbers(from: u32, to: u32) -> String {
    if from == to { from.to_string() } else { format!("{from} to {to}") }
}

/// Rates in one unit where they have one: `1, 2, 5 MS/s`.
fn rates(rates: &[Rate]) -> String {
    let words: Vec<String> = rates.iter().map(ToString::to_string).collect();
    let unit = |word: &str| word.split_once(' ').map(|(_, unit)| unit.to_string());
    let mut parts: Vec<String> = Vec::new();
    for (number, word) in words.iter().enumerate() {
        let next = words.get(number + 1).and_then(|next| unit(next));
        match word.split_once(' ') {
            Some((digits, own)) if next.as_deref() == Some(own) => parts.push(digits.to_string()),
            _ => parts.push(word.clone()),
        }
    }
    parts.join(", ")
}

fn thresholds(bank: &SaidBank) -> String {
    let VoltageRange { low, high } = VoltageRange { low: bank.threshold_from_v, high: bank.threshold_to_v };
    if low == high {
        return if bank.highest_v == Voltage::ZERO { "none".into() } else { format!("fixed at {low}") };
    }
    let step = match bank.threshold_step_v {
        Voltage::ZERO => String::new(),
        step => format!(" in steps of {step}"),
    };
    let each = if bank.threshold_per_input { "each input its own" } else { "one for the bank" };
    format!("{low} to {high}{step}, {each}")
}

fn text(said: &Said, able: &Capabilities) -> String {
    let mut text = format!("{}\n\n", said.instrument);
    let mut banks = Grid::new(&["bank", "inputs", "stands", "threshold"], &[]);
    for bank in &said.banks {
        let stands = match bank.highest_v {
            Voltage::ZERO => "-".to_string(),
            highest => highest.to_string(),
        };
        let inputs = numbers(bank.first_input, bank.last_input);
        banks.row(vec![bank.bank.clone(), inputs, stands, thresholds(bank)]);
    }
    text.push_str(&format!("{}\n\n", banks.text()));
    let mut offers = Grid::new(&["lines at once", "way", "rates", "samples", "lasts"], &[3, 4]);
    for offer in &said.offers {
        let longest = offer.fastest_hz.map(|rate| longest(rate, offer.memory_samples));
        // A stream lasts as long as its reader.
        let bounded = offer.way == "on board";
        offers.row(vec![
            numbers(offer.inputs_from, offer.inputs_to),
            offer.way.to_string(),
            rates(&offer.rates_hz),
            if bounded { rough(offer.memory_samples as f64, 3, "") } else { "-".to_string() },
            longest.filter(|_| bounded).unwrap_or_else(|| "-".to_string()),
        ]);
    }
    text.push_str(&format!("{}\n\n", offers.text()));
    let mut fact = |name: &str, value: String| text.push_str(&hanging(name, &value));
    fact("connect", said.connect.clone());
    fact("trigger", trigger(said));
    fact("instants", format!("skew up to {}, time base within {}", able.skew, able.accuracy));
    if let Some(analog) = &said.analog {
        let inputs = numbers(0, analog.inputs.saturating_sub(1));
        fact(
            "analog",
            format!(
                "inputs {inputs} ({}), {} bits, up to {}, within {:.2} % of the range",
                analog.bank, analog.bits, analog.fastest_hz, analog.accuracy_percent
            ),
        );
        fact("", format!("ranges {}; stands {}", analog.ranges.join("; "), analog.highest_v));
    }
    for (number, output) in said.outputs.iter().enumerate() {
        let pulses = output.pulses_hz.map(|most| format!("pulses of up to {most}"));
        let bytes =
            output.bytes_hz.map(|most| format!("bytes at up to {}", rough(most.to_f64(), 3, "bit/s")));
        let sends = pulses.into_iter().chain(bytes);
        let sends: Vec<String> = sends.collect();
        let name = if number == 0 { "outputs" } else { "" };
        fact(name, format!("{number} ({}): {}", output.output, sends.join(", ")));
    }
    text
}

/// How long so many samples last: two digits are enough to choose by.
fn longest(rate: Rate, samples: u64) -> String {
    rough(samples as f64 / rate.to_f64(), 2, "s")
}

fn trigger(said: &Said) -> String {
    let edge = match (said.trigger_edge, said.trigger_levels) {
        (false, _) if said.streams => {
            return "none on board: the host looks for any event in the stream".to_string();
        }
        (false, _) => return "none: it records at once".to_string(),
        (true, 0) => "an edge of one line".to_string(),
        (true, levels) => format!("an edge of one line while up to {levels} have given levels"),
    };
    match said.streams {
        true => format!("on board {edge}; the host looks for any other event in the stream"),
        false => format!("{edge}, and nothing else: it cannot stream"),
    }
}
