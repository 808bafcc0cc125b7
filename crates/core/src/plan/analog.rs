//! What is asked of the analog inputs.

use super::{Wanted, WantedSource};
use crate::error::{Error, ErrorKind};
use crate::instrument::Capabilities;
use crate::line::VoltageRange;
use crate::quantity::{Rate, Rational, Voltage};

/// The range to set for each input.
pub(super) fn ranges(wanted: &Wanted, able: &Capabilities, problems: &mut Vec<Error>) -> Vec<VoltageRange> {
    let mut refuse = |kind: ErrorKind, message: String, help: String| {
        problems.push(Error::new(kind, message).with_help(help));
    };
    if wanted.analog.is_empty() {
        return Vec::new();
    }
    let Some(bank) = &able.analog else {
        let names: Vec<String> = wanted.analog.iter().map(|line| format!("'{}'", line.name)).collect();
        let message = format!("the instrument has no analog inputs for {}", names.join(", "));
        let help = "take the [[analog]] sections out, or connect an instrument that has analog inputs";
        refuse(ErrorKind::Instrument, message, help.to_string());
        return Vec::new();
    };
    let mut ranges = Vec::new();
    for (place, line) in wanted.analog.iter().enumerate() {
        let name = &line.name;
        if line.number >= bank.inputs {
            let message = format!("analog line '{name}' is on input {}, which is not there", line.number);
            let help = format!("the analog inputs are 0 to {}", bank.inputs.saturating_sub(1));
            refuse(ErrorKind::Instrument, message, help);
            continue;
        }
        if let Some(range) = line.range.filter(|range| range.high > bank.highest) {
            let message =
                format!("analog line '{name}' goes up to {}, its input stands {}", range.high, bank.highest);
            let help = "do not connect it: use a divider, and state the range behind it";
            refuse(ErrorKind::Danger, message, help.to_string());
            continue;
        }
        let range = line.range.map_or(bank.widest(), |range| bank.range_for(range));
        match (range, line.range) {
            (Some(range), _) => {
                let made = wanted.inputs.iter().filter(|input| input.source == WantedSource::Analog(place));
                for input in made {
                    let threshold = input.threshold.unwrap_or(Voltage::ZERO);
                    if threshold <= range.low || threshold >= range.high {
                        let message = format!(
                            "'{}' is made from '{name}' at {threshold}, beyond its range of {range}",
                            input.name
                        );
                        let help = "give a threshold inside, or another range".to_string();
                        refuse(ErrorKind::Instrument, message, help);
                    }
                }
                ranges.push(range);
            }
            (None, Some(asked)) => {
                let all: Vec<String> = bank.ranges.iter().map(ToString::to_string).collect();
                let message = format!("no range of the instrument has all of {asked} for '{name}'");
                refuse(ErrorKind::Instrument, message, format!("its ranges are {}", all.join("; ")));
            }
            (None, None) => {}
        }
    }
    ranges
}

/// Samples from one analog sample to the next.
pub(super) fn every(wanted: &Wanted, able: &Capabilities, rate: Rate, problems: &mut Vec<Error>) -> u64 {
    let Some(bank) = able.analog.as_ref().filter(|_| !wanted.analog.is_empty()) else { return 0 };
    let ratio = |other: Rate| rate.to_rational().checked_div(other.to_rational());
    // Never faster than the bank, nor than the digital inputs.
    let least = ratio(bank.fastest).map_or(1, Rational::ceil).max(1);
    let Some(asked) = wanted.analog_rate else { return u64::try_from(least).unwrap_or(1) };
    let exact = ratio(asked).filter(|every| every.denominator() == 1 && every.numerator() >= least);
    if let Some(every) = exact.and_then(|every| u64::try_from(every.numerator()).ok()) {
        return every;
    }
    let near = ratio(asked).map_or(least, Rational::floor).max(least);
    let divided = |by: i128| rate.to_rational().checked_div(Rational::new(by, 1)?).map(Rate::from_rational);
    let mut nearest: Vec<String> =
        [near, near + 1].into_iter().filter_map(divided).map(|rate| rate.to_string()).collect();
    nearest.dedup();
    let message = format!("the analog inputs cannot be sampled at {asked} beside {rate}");
    let help = format!(
        "they take {rate} divided by a whole number, up to {}; nearest: {}",
        bank.fastest,
        nearest.join(" or ")
    );
    problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
    1
}
