//! The sections of analog lines.

use crate::error::{Error, ErrorKind, Place};
use crate::line::{AnalogLine, VoltageRange};
use crate::quantity::Voltage;
use crate::setup::SetupAnalog;
use crate::setup::files::wrong;
use crate::setup::reader::{Placed, Section};

/// An analog line as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftAnalog {
    pub(in crate::setup) name: Placed<String>,
    pub(in crate::setup) input: u32,
    pub(in crate::setup) range: Option<VoltageRange>,
    pub(in crate::setup) hysteresis: Voltage,
}

impl DraftAnalog {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let input = section.number_or_text("input");
        let range = section.parsed::<VoltageRange>("range").map(|r| r.value);
        let hysteresis = section.parsed::<Voltage>("hysteresis");
        let name = section.required("name", "name = \"VDD33\"")?;
        let input = match input {
            Some(Placed { value: Ok(number), .. }) => number,
            Some(Placed { place, .. }) => {
                let error = Error::new(ErrorKind::Setup, "an analog input is given by its number");
                section.reader.report(error.with_help("write input = 0").at(Place::Text(place)));
                return None;
            }
            None => {
                section.missing("input", "input = 0");
                return None;
            }
        };
        if let Some(negative) = hysteresis.as_ref().filter(|h| h.value < Voltage::ZERO) {
            let error = Error::new(ErrorKind::Setup, "a hysteresis is not negative");
            let error = error.with_help("give how far the voltage must come back, such as \"20 mV\"");
            section.reader.report(error.at(Place::Text(negative.place.clone())));
        }
        Some(DraftAnalog { name, input, range, hysteresis: hysteresis.map_or(Voltage::ZERO, |h| h.value) })
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
            },
            range: line.range,
        });
    }
    lines
}
