//! The wiring sheet: which lead goes where, to hold at the bench.

use super::{LevelSource, Setup, SetupLine};
use crate::instrument::Capabilities;
use crate::line::{Input, Level, LineId, Threshold};
use crate::quantity::Voltage;

/// One lead.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Lead {
    /// The input, by its number; `None` where the line says nothing of it.
    pub input: Option<u32>,
    /// Whether that is an analog input.
    pub analog: bool,
    /// What is printed beside its bank.
    pub bank: Option<String>,
    /// The line.
    pub line: String,
    /// The number of the line among those of the setup; `None` for an analog line.
    pub line_id: Option<LineId>,
    /// The pins of parts that it is the line of: `U3.SCLK`.
    pub pins: Vec<String>,
    /// Where it changes, or for an analog line the lines that are made from it.
    pub threshold: Option<Voltage>,
    /// The lines that are made from an analog one, each with its threshold.
    pub made: Vec<(String, Voltage)>,
    /// The highest voltage that is stated of it.
    pub swing: Option<Voltage>,
    /// The highest voltage that its input stands.
    pub stands: Option<Voltage>,
    /// The level that it rests at.
    pub rests: Option<Level>,
}

impl Setup {
    /// The leads of this setup at an instrument, in the order of its inputs, the analog ones last. Lines that are left
    /// out of a run have none.
    pub fn leads(&self, able: &Capabilities) -> Vec<Lead> {
        let mut leads: Vec<Lead> = Vec::new();
        for (number, line) in self.lines.iter().enumerate() {
            if line.source == LevelSource::Input {
                leads.push(self.lead_of(LineId(number), line, able));
            }
        }
        leads.sort_by_key(|lead| lead.input.unwrap_or(u32::MAX));
        let bank = able.analog.as_ref();
        let mut analog: Vec<Lead> = Vec::new();
        for (number, line) in self.analog.iter().enumerate() {
            let made = self.lines.iter().filter_map(|made| match made.source {
                LevelSource::Analog { analog, .. } if analog.0 == number => {
                    Some((made.line.name.clone(), made.line.threshold.map(Threshold::voltage)?))
                }
                _ => None,
            });
            let made: Vec<(String, Voltage)> = made.collect();
            let mut pins = self.pins_of(&line.line.name);
            pins.extend(made.iter().flat_map(|(name, _)| self.pins_of(name)));
            analog.push(Lead {
                input: line.line.input,
                analog: true,
                bank: bank.map(|bank| bank.name.clone()),
                line: line.line.name.clone(),
                line_id: None,
                pins,
                threshold: None,
                made,
                swing: line.range.map(|range| range.high),
                stands: bank.map(|bank| bank.highest),
                rests: None,
            });
        }
        analog.sort_by_key(|lead| lead.input.unwrap_or(u32::MAX));
        leads.extend(analog);
        leads
    }

    fn lead_of(&self, id: LineId, line: &SetupLine, able: &Capabilities) -> Lead {
        let input = match line.line.input {
            Some(Input::Number(number)) => Some(number),
            Some(Input::Signal(_)) | None => None,
        };
        let bank = input.and_then(|input| able.bank_of(input));
        Lead {
            input,
            analog: false,
            bank: bank.map(|bank| bank.name.clone()),
            line: line.line.name.clone(),
            line_id: Some(id),
            pins: self.pins_of(&line.line.name),
            threshold: line.line.threshold.map(Threshold::voltage),
            made: Vec::new(),
            swing: line.swing,
            stands: bank.map(|bank| bank.highest).filter(|highest| *highest > Voltage::ZERO),
            rests: line.rests,
        }
    }

    /// The pins of parts that a line is wired to, alone or in a bus.
    fn pins_of(&self, line: &str) -> Vec<String> {
        let mut found = Vec::new();
        for part in &self.parts {
            for (pin, wired) in &part.pins {
                if wired == line {
                    found.push(format!("{}.{pin}", part.reference));
                    continue;
                }
                let bus = self.buses.iter().find(|bus| bus.name == *wired);
                let lines = bus.map_or(&[][..], |bus| &bus.lines);
                let name = |id: &LineId| self.lines.get(id.0).is_some_and(|own| own.line.name == line);
                // The most significant comes first, and is bit 0 last.
                if let Some(place) = lines.iter().position(name) {
                    found.push(format!("{}.{pin}[{}]", part.reference, lines.len() - 1 - place));
                }
            }
        }
        found
    }
}
