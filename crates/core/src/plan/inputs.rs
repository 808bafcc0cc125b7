//! What is asked of each input.

use super::{Wanted, WantedInput, WantedSource};
use crate::error::{Error, ErrorKind};
use crate::instrument::{Bank, Capabilities};
use crate::quantity::Voltage;

pub(super) fn check(wanted: &Wanted, able: &Capabilities, problems: &mut Vec<Error>) {
    let mut refuse = |kind: ErrorKind, message: String, help: String| {
        problems.push(Error::new(kind, message).with_help(help));
    };
    // Per bank, the first line that states a threshold.
    let mut set: Vec<(&Bank, &str, Voltage)> = Vec::new();
    let missing = |input: &&WantedInput| match input.source {
        WantedSource::Input(number) => number.is_some_and(|number| number >= able.inputs()),
        WantedSource::Analog(_) => false,
    };
    let absent: Vec<String> = wanted.inputs.iter().filter(missing).map(|i| format!("'{}'", i.name)).collect();
    if !absent.is_empty() {
        let (lines, are) = if absent.len() == 1 { ("line", "is") } else { ("lines", "are") };
        let message =
            format!("{lines} {} {are} on inputs that the instrument does not have", absent.join(", "));
        let help = format!("its inputs are 0 to {}", able.inputs().saturating_sub(1));
        refuse(ErrorKind::Instrument, message, help);
    }
    for input in &wanted.inputs {
        let name = &input.name;
        let WantedSource::Input(number) = input.source else { continue };
        let Some(bank) = able.bank_of(number.unwrap_or(0)) else { continue };
        if let Some(swing) = input.swing.filter(|swing| *swing > bank.highest) {
            let stronger = able.banks.iter().filter(|b| swing <= b.highest).map(|b| b.name.as_str());
            let stronger: Vec<&str> = stronger.collect();
            let mut help =
                "do not connect it: use a divider or a level shifter, and state the swing behind it"
                    .to_string();
            if !stronger.is_empty() {
                help = format!("do not connect it there: bank {} stands it", stronger.join(" or "));
            }
            let message = format!("line '{name}' swings to {swing}, its input stands {}", bank.highest);
            refuse(ErrorKind::Danger, message, help);
        }
        let Some(threshold) = input.threshold else { continue };
        let nearest = bank.nearest(threshold);
        if nearest != [threshold] {
            let (low, high) = (bank.thresholds.low, bank.thresholds.high);
            let settable: Vec<String> = nearest.iter().map(ToString::to_string).collect();
            let message =
                format!("a threshold of {threshold} for '{name}' cannot be set on bank {}", bank.name);
            let range = if low == high {
                format!("it is fixed at {low}")
            } else {
                format!("it can be set from {low} to {high}; nearest: {}", settable.join(" or "))
            };
            refuse(ErrorKind::Instrument, message, range);
        }
        if bank.per_input {
            continue;
        }
        match set.iter().find(|(other, ..)| *other == bank) {
            Some((_, first, other)) if *other != threshold => {
                let message = format!(
                    "'{first}' and '{name}' want thresholds of {other} and {threshold}, bank {} has one for all",
                    bank.name
                );
                refuse(ErrorKind::Instrument, message, "move one of them to another bank".to_string());
            }
            Some(_) => {}
            None => set.push((bank, name, threshold)),
        }
    }
}
