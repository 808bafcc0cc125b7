//! The sections of analog lines.

use super::line::read_pulses;
use crate::error::Error;
use crate::line::{AnalogLine, PulseWidths, VoltageRange};
use crate::quantity::Voltage;
use crate::reader::{Placed, Section};
use crate::setup::SetupAnalog;
use crate::setup::files::wrong;

/// An analog line as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftAnalog {
    pub(in crate::setup) name: Placed<String>,
    pub(in crate::setup) input: u32,
    pub(in crate::setup) range: Option<VoltageRange>,
    pub(in crate::setup) hysteresis: Voltage,
    pub(in crate::setup) pulses: PulseWidths,
}

impl DraftAnalog {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let input = section.number_or_text("input");
        let range = section.parsed::<VoltageRange>("range").map(|r| r.value);
        let hysteresis = section.parsed::<Voltage>("hysteresis");
        let pulses = read_pulses(section);
        let name = section.required("name", "name = \"VDD33\"")?;
        let input = match input {
            Some(Placed { value: Ok(number), .. }) => number,
            Some(Placed { place, .. }) => {
                section.refuse(&place, "an analog input is given by its number", "write input = 0");
                return None;
            }
            None => {
                section.missing("input", "input = 0");
                return None;
            }
        };
        if let Some(negative) = hysteresis.as_ref().filter(|h| h.value < Voltage::ZERO) {
            let help = "give how far the voltage must come back, such as \"20 mV\"";
            section.refuse(&negative.place, "a hysteresis is not negative", help);
        }
        let hysteresis = hysteresis.map_or(Voltage::ZERO, |h| h.value);
        Some(DraftAnalog { name, input, range, hysteresis, pulses })
    }
}

/// All analog lines; two on one input are told.
pub(in crate::setup) fn resolve_analog(
    drafts: &[DraftAnalog],
    problems: &mut Vec<Error>,
) -> Vec<SetupAnalog> {
    let mut lines: Vec<SetupAnalog> = Vec::new();
    for line in drafts {
        if let Some(other) = lines.iter().find(|l| l.line.input == Some(line.input)) {
            let message = format!("analog input {} carries '{}' already", line.input, other.line.name);
            problems.push(wrong(&line.name.place, message, "each line needs an input of its own"));
        }
        lines.push(SetupAnalog {
            line: AnalogLine {
                name: line.name.value.clone(),
                input: Some(line.input),
                hysteresis: line.hysteresis,
                pulses: line.pulses,
            },
            range: line.range,
        });
    }
    lines
}
