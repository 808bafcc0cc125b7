//! Capabilities as JSON: exact numbers are texts, whole or `n/d`.

use deep_tap_core::instrument::{AnalogBank, Bank, Capabilities, Mode, Output};
use deep_tap_core::line::VoltageRange;
use deep_tap_core::quantity::{Frequency, Percent, Rate, Rational, Time, Voltage};
use deep_tap_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

#[derive(Serialize, Deserialize)]
struct Able {
    banks: Vec<AbleBank>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    analog: Option<AbleAnalog>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    outputs: Vec<AbleOutput>,
    /// Seconds.
    reaction: String,
    modes: Vec<AbleMode>,
    trigger: AbleTrigger,
    /// Seconds.
    skew: String,
    /// Fraction of one.
    accuracy: String,
}

#[derive(Serialize, Deserialize)]
struct AbleBank {
    name: String,
    inputs: u32,
    /// Volts.
    thresholds: (String, String),
    step: String,
    per_input: bool,
    highest: String,
}

#[derive(Serialize, Deserialize)]
struct AbleAnalog {
    name: String,
    inputs: u32,
    ranges: Vec<(String, String)>,
    bits: u32,
    accuracy: String,
    fastest: String,
    highest: String,
}

#[derive(Serialize, Deserialize)]
struct AbleOutput {
    name: String,
    /// Hertz.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pulses: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    bytes: Option<String>,
}

#[derive(Serialize, Deserialize)]
struct AbleMode {
    inputs: u32,
    /// Samples per second, rising.
    rates: Vec<String>,
    memory: u64,
    streams: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    link: Option<u64>,
}

#[derive(Serialize, Deserialize)]
struct AbleTrigger {
    edge: bool,
    levels: u32,
}

/// Capabilities as JSON.
pub(super) fn to_json(able: &Capabilities) -> String {
    let volts = |v: Voltage| v.to_rational().to_string();
    let rate = |r: Rate| r.to_rational().to_string();
    let bank = |bank: &Bank| AbleBank {
        name: bank.name.clone(),
        inputs: bank.inputs,
        thresholds: (volts(bank.thresholds.low), volts(bank.thresholds.high)),
        step: volts(bank.step),
        per_input: bank.per_input,
        highest: volts(bank.highest),
    };
    let analog = |bank: &AnalogBank| AbleAnalog {
        name: bank.name.clone(),
        inputs: bank.inputs,
        ranges: bank.ranges.iter().map(|range| (volts(range.low), volts(range.high))).collect(),
        bits: bank.bits,
        accuracy: bank.accuracy.to_fraction().to_string(),
        fastest: rate(bank.fastest),
        highest: volts(bank.highest),
    };
    let hertz = |f: Option<Frequency>| f.map(|f| f.to_rational().to_string());
    let output = |output: &Output| AbleOutput {
        name: output.name.clone(),
        pulses: hertz(output.pulses),
        bytes: hertz(output.bytes),
    };
    let mode = |mode: &Mode| AbleMode {
        inputs: mode.inputs,
        rates: mode.rates.iter().copied().map(rate).collect(),
        memory: mode.memory,
        streams: mode.streams,
        link: mode.link,
    };
    let able = Able {
        banks: able.banks.iter().map(bank).collect(),
        analog: able.analog.as_ref().map(analog),
        outputs: able.outputs.iter().map(output).collect(),
        reaction: able.reaction.to_rational().to_string(),
        modes: able.modes.iter().map(mode).collect(),
        trigger: AbleTrigger { edge: able.trigger.edge, levels: able.trigger.levels },
        skew: able.skew.to_rational().to_string(),
        accuracy: able.accuracy.to_fraction().to_string(),
    };
    serde_json::to_string(&able).unwrap_or_default()
}

/// Capabilities from JSON.
///
/// # Errors
/// When it is not what [`to_json`] writes, or contradicts itself.
pub(super) fn from_json(text: &[u8]) -> Result<Capabilities> {
    let wrong = |what: String| {
        Error::new(ErrorKind::Link, format!("the instrument describes itself wrongly: {what}"))
            .with_help("use a deep-tap of the same age on both sides")
    };
    let able: Able = serde_json::from_slice(text).map_err(|error| wrong(error.to_string()))?;
    let exact = |text: &String| text.parse::<Rational>().map_err(|e| wrong(e.message().to_string()));
    let volts = |text: &String| exact(text).map(Voltage::from_rational);
    let rate = |text: &String| exact(text).map(Rate::from_rational);
    let banks = able.banks.iter().map(|bank| {
        let mut known = Bank::new(&bank.name, bank.inputs);
        known.thresholds = VoltageRange { low: volts(&bank.thresholds.0)?, high: volts(&bank.thresholds.1)? };
        known.step = volts(&bank.step)?;
        known.per_input = bank.per_input;
        known.highest = volts(&bank.highest)?;
        Ok(known)
    });
    let modes = able.modes.iter().map(|mode| {
        let rates = mode.rates.iter().map(rate).collect::<Result<Vec<Rate>>>()?;
        let mut known = Mode::on_board(mode.inputs, rates, mode.memory);
        (known.streams, known.link) = (mode.streams, mode.link);
        Ok(known)
    });
    let analog = able.analog.as_ref().map(|bank| {
        let range =
            |(low, high): &(String, String)| Ok(VoltageRange { low: volts(low)?, high: volts(high)? });
        Ok::<_, Error>(AnalogBank {
            name: bank.name.clone(),
            inputs: bank.inputs,
            ranges: bank.ranges.iter().map(range).collect::<Result<_>>()?,
            bits: bank.bits,
            accuracy: Percent::from_fraction(exact(&bank.accuracy)?),
            fastest: rate(&bank.fastest)?,
            highest: volts(&bank.highest)?,
        })
    });
    let hertz = |text: &Option<String>| -> Result<Option<Frequency>> {
        Ok(text.as_ref().map(exact).transpose()?.map(Frequency::from_rational))
    };
    let output = |output: &AbleOutput| {
        let (pulses, bytes) = (hertz(&output.pulses)?, hertz(&output.bytes)?);
        Ok::<_, Error>(Output { name: output.name.clone(), pulses, bytes })
    };
    let (banks, modes) = (banks.collect::<Result<Vec<_>>>()?, modes.collect::<Result<Vec<_>>>()?);
    let mut known = Capabilities::new(banks, modes);
    known.analog = analog.transpose()?;
    known.outputs = able.outputs.iter().map(output).collect::<Result<_>>()?;
    known.reaction = Time::from_rational(exact(&able.reaction)?);
    (known.trigger.edge, known.trigger.levels) = (able.trigger.edge, able.trigger.levels);
    known.skew = Time::from_rational(exact(&able.skew)?);
    known.accuracy = Percent::from_fraction(exact(&able.accuracy)?);
    known.check().map_err(|problem| wrong(problem.message().to_string()))?;
    Ok(known)
}
