//! The sections of lines.

use std::collections::HashMap;

use crate::error::{Error, ErrorKind, suggest};
use crate::line::{AnalogId, Crossing, Input, Level, Line, LineId, PulseWidths, Side, Threshold};
use crate::quantity::{Frequency, Time, Voltage};
use crate::reader::{Placed, Section};
use crate::setup::files::wrong;
use crate::setup::{LevelSource, SetupAnalog, SetupLine};

/// A line as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftLine {
    pub(in crate::setup) name: Placed<String>,
    pub(in crate::setup) input: Option<Input>,
    pub(in crate::setup) threshold: Option<Threshold>,
    pub(in crate::setup) swing: Option<Voltage>,
    pub(in crate::setup) pulses: PulseWidths,
    pub(in crate::setup) rests: Option<Level>,
    pub(in crate::setup) pull: Option<Level>,
    /// The analog line that it is made from, and the hysteresis around its threshold.
    pub(in crate::setup) from: Option<Placed<String>>,
    pub(in crate::setup) hysteresis: Option<Placed<Voltage>>,
}

impl DraftLine {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let input = read_input(section);
        let threshold = section.parsed::<Threshold>("threshold").map(|t| t.value);
        let swing = section.parsed::<Voltage>("swing").map(|s| s.value);
        let pulses = read_pulses(section);
        let rests = section.parsed::<RestsText>("rests").map(|r| r.value.0);
        let pull = read_pull(section);
        let from = section.text("from");
        let hysteresis = section.parsed::<Voltage>("hysteresis");
        if let Some(negative) = hysteresis.as_ref().filter(|hysteresis| hysteresis.value < Voltage::ZERO) {
            let help = "give how wide the band around the threshold is, such as \"200 mV\"";
            section.refuse(&negative.place, "a hysteresis is not negative", help);
        }
        let name = section.required("name", "name = \"ADC_SCLK\"")?;
        Some(DraftLine { name, input, threshold, swing, pulses, rests, pull, from, hysteresis })
    }

    /// Where its levels come from.
    fn source(&self, analog: &[SetupAnalog], problems: &mut Vec<Error>) -> LevelSource {
        let Some(from) = &self.from else {
            if let Some(hysteresis) = &self.hysteresis {
                let message = "the hysteresis of a digital input is the instrument's own";
                let help = "it can be stated of a line that is made from an analog one: from = \"TXA\"";
                problems.push(wrong(&hysteresis.place, message, help));
            }
            return LevelSource::Input;
        };
        if self.input.is_some() {
            let message = format!("line '{}' has an input, and is made from an analog line", self.name.value);
            problems.push(wrong(&from.place, message, "keep one of 'input' and 'from'"));
        }
        if self.threshold.is_none() {
            let message = format!("line '{}' is made from voltages, without a threshold", self.name.value);
            let help = "say above which voltage it is high: threshold = \"1.4 V\"";
            problems.push(wrong(&from.place, message, help));
        }
        let known = || analog.iter().map(|line| line.line.name.as_str());
        let Some(place) = known().position(|known| known == from.value) else {
            let message = format!("there is no analog line '{}'", from.value);
            let help = match analog.is_empty() {
                true => "add a section like: [[analog]] with name = \"TXA\" and input = 0".to_string(),
                false => suggest(&from.value, known(), "analog line"),
            };
            problems.push(wrong(&from.place, message, help));
            return LevelSource::Input;
        };
        let threshold = self.threshold.map_or(Voltage::ZERO, Threshold::voltage);
        if Crossing::new(AnalogId(place), threshold, Side::Both).is_none() {
            let message = format!("{threshold} cannot be a threshold");
            problems.push(wrong(&from.place, message, "give whole microvolts, up to 2 kV"));
        }
        let own = Some(analog[place].line.hysteresis);
        let stated = self.hysteresis.as_ref().map(|hysteresis| hysteresis.value).or(own);
        let hysteresis = stated.filter(|hysteresis| *hysteresis > Voltage::ZERO);
        LevelSource::Analog { analog: AnalogId(place), hysteresis }
    }
}

/// What a line is pulled to while nobody drives it.
pub(super) fn read_pull(section: &Section<'_>) -> Option<Level> {
    section.choice("pull", &[("up", Level::High), ("down", Level::Low)], None)
}

/// How short the pulses of a line can be.
pub(super) fn read_pulses(section: &Section<'_>) -> PulseWidths {
    let shortest = section.parsed::<Time>("shortest");
    if let Some(none) = shortest.as_ref().filter(|shortest| shortest.value <= Time::ZERO) {
        let help = "give the width of the shortest pulse that the line can have, such as \"20 ns\"";
        section.refuse(&none.place, "the shortest pulse is longer than nothing", help);
    }
    let fastest = section.parsed::<Frequency>("fastest").map(|fastest| fastest.value);
    PulseWidths { shortest: shortest.map(|shortest| shortest.value), fastest, seen: None }
}

fn read_input(section: &Section<'_>) -> Option<Input> {
    section.number_or_text("input").map(|placed| match placed.value {
        Ok(number) => Input::Number(number),
        Err(signal) => Input::Signal(signal),
    })
}

/// The level that a line rests at.
struct RestsText(Level);

impl std::str::FromStr for RestsText {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match text.trim() {
            "high" => Ok(RestsText(Level::High)),
            "low" => Ok(RestsText(Level::Low)),
            _ => Err(Error::new(ErrorKind::Quantity, format!("'{text}' is not a level"))
                .with_help("a line rests \"high\" or \"low\"")),
        }
    }
}

/// All lines; two on one input are told.
pub(in crate::setup) fn resolve_lines(
    drafts: &[DraftLine],
    analog: &[SetupAnalog],
    problems: &mut Vec<Error>,
) -> Vec<SetupLine> {
    let mut lines: Vec<SetupLine> = Vec::with_capacity(drafts.len());
    let mut taken: HashMap<&Input, &str> = HashMap::new();
    for line in drafts {
        if let Some(input) = &line.input {
            let other = *taken.entry(input).or_insert(&line.name.value);
            if other != line.name.value {
                let message = format!("input {input} carries '{other}' already");
                problems.push(wrong(&line.name.place, message, "each line needs an input of its own"));
            }
        }
        lines.push(SetupLine {
            line: Line {
                input: line.input.clone(),
                threshold: line.threshold,
                pulses: line.pulses,
                pull: line.pull,
                ..Line::named(line.name.value.as_str())
            },
            swing: line.swing,
            rests: line.rests,
            source: line.source(analog, problems),
        });
    }
    lines
}

/// The lines by their names.
pub(in crate::setup) struct LineIds<'a> {
    names: Vec<&'a str>,
    ids: HashMap<&'a str, LineId>,
}

impl<'a> LineIds<'a> {
    pub(in crate::setup) fn new(lines: &'a [DraftLine]) -> Self {
        let names: Vec<&str> = lines.iter().map(|line| line.name.value.as_str()).collect();
        let mut ids = HashMap::with_capacity(names.len());
        for (number, name) in names.iter().enumerate() {
            ids.entry(*name).or_insert(LineId(number));
        }
        LineIds { names, ids }
    }

    /// Lines by names of their own, such as the pins of a part.
    pub(in crate::setup) fn of(named: impl Iterator<Item = (&'a str, LineId)>) -> Self {
        let ids: HashMap<&'a str, LineId> = named.collect();
        let mut names: Vec<&str> = ids.keys().copied().collect();
        names.sort_unstable();
        LineIds { names, ids }
    }

    pub(in crate::setup) fn name(&self, line: LineId) -> &'a str {
        self.names.get(line.0).copied().unwrap_or_default()
    }

    /// The line of a name, which is told where there is none.
    pub(in crate::setup) fn line(&self, name: &Placed<String>, problems: &mut Vec<Error>) -> Option<LineId> {
        let found = self.ids.get(name.value.as_str()).copied();
        if found.is_none() {
            let help = suggest(&name.value, self.names.iter().copied(), "line");
            problems.push(wrong(&name.place, format!("there is no line '{}'", name.value), help));
        }
        found
    }
}
