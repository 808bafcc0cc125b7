//! The sections of lines.

use std::collections::HashMap;

use crate::error::{Error, ErrorKind, suggest};
use crate::line::{Input, Level, Line, LineId, PulseWidths, Threshold};
use crate::quantity::{Frequency, Time, Voltage};
use crate::reader::{Placed, Section};
use crate::setup::SetupLine;
use crate::setup::files::wrong;

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
}

impl DraftLine {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let input = read_input(section);
        let threshold = section.parsed::<Threshold>("threshold").map(|t| t.value);
        let swing = section.parsed::<Voltage>("swing").map(|s| s.value);
        let pulses = read_pulses(section);
        let rests = section.parsed::<RestsText>("rests").map(|r| r.value.0);
        let pull = read_pull(section);
        let name = section.required("name", "name = \"ADC_SCLK\"")?;
        Some(DraftLine { name, input, threshold, swing, pulses, rests, pull })
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
pub(in crate::setup) fn resolve_lines(drafts: &[DraftLine], problems: &mut Vec<Error>) -> Vec<SetupLine> {
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
                name: line.name.value.clone(),
                input: line.input.clone(),
                threshold: line.threshold,
                extra: Time::ZERO,
                pulses: line.pulses,
                pull: line.pull,
            },
            swing: line.swing,
            rests: line.rests,
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
