//! What is asked of the outputs.

use super::Wanted;
use crate::error::{Error, ErrorKind};
use crate::instrument::{Begins, Capabilities, Waveform};
use crate::quantity::{Frequency, Rational};

pub(super) fn check(wanted: &Wanted, able: &Capabilities, stream: bool, problems: &mut Vec<Error>) {
    for stimulus in &wanted.stimuli {
        let number = stimulus.output;
        let mut refuse = |message: String, help: String| {
            problems.push(Error::new(ErrorKind::Instrument, message).with_help(help));
        };
        let Some(output) = able.outputs.get(number as usize) else {
            let help = match able.outputs.len() {
                0 => "it has no outputs: take the [[stimulus]] out, or connect an instrument that has some"
                    .to_string(),
                1 => "it has output 0".to_string(),
                count => format!("it has outputs 0 to {}", count - 1),
            };
            refuse(format!("there is no output {number} for a stimulus"), help);
            continue;
        };
        let (what, asked, fastest) = match &stimulus.signal {
            Waveform::Pulses { frequency, .. } => ("pulses", *frequency, output.pulses),
            Waveform::Bytes { bit_rate, .. } => ("bytes", *bit_rate, output.bytes),
        };
        match fastest {
            None => {
                let able_to = |o: &crate::instrument::Output| match stimulus.signal {
                    Waveform::Pulses { .. } => o.pulses.is_some(),
                    Waveform::Bytes { .. } => o.bytes.is_some(),
                };
                let others = able.outputs.iter().enumerate().filter(|(_, o)| able_to(o));
                let others: Vec<String> =
                    others.map(|(number, o)| format!("output {number} ({})", o.name)).collect();
                let help = if others.is_empty() {
                    "no output does".to_string()
                } else {
                    format!("{} does", others.join(" or "))
                };
                refuse(format!("output {number} ({}) does not send {what}", output.name), help);
            }
            Some(fastest) if asked > fastest || asked <= Frequency::from_rational(Rational::ZERO) => {
                let message = format!("output {number} ({}) does not send {what} at {asked}", output.name);
                refuse(message, format!("it sends up to {fastest}"));
            }
            Some(_) => {}
        }
        if let Begins::AfterTrigger(delay) = stimulus.begins {
            if stream {
                let message = "a stimulus cannot follow the trigger when the host looks for it".to_string();
                refuse(message, "give it a time after arming ('at'), or a trigger that the instrument waits for by itself".to_string());
            } else if delay < able.reaction {
                let message =
                    format!("a stimulus {delay} after the trigger is sooner than the instrument can");
                refuse(message, format!("it takes {} or more", able.reaction));
            }
        }
    }
}
