//! A setup laid over a record that comes from a file.

use std::collections::HashMap;

use super::{LevelSource, Setup, SetupLine};
use crate::capture::{Capture, LineNames};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{AnalogLine, Input, Line, LineId};
use crate::quantity::Voltage;

/// Marks lines that were made of voltages until they get their names.
const MADE: char = '\u{f8ff}';

impl Setup {
    /// Gives an imported record this setup's lines, names and buses.
    ///
    /// A line is found by what it states as `input`: the full name of a signal or a unique end of it, the name
    /// of a column with its unit or without, `column 3`, or the number of a bit; else by its own name. Where
    /// the record has voltages under that name, the line's threshold makes levels of them.
    ///
    /// # Errors
    /// When the record has no such signal; all that are missing are named.
    pub fn apply(&self, capture: Capture) -> Result<Capture> {
        let mut capture = capture;
        let mut wanted = Vec::new();
        let mut problems = Vec::new();
        let known = Known::of(&capture);
        let find = |line: &SetupLine| match line.source {
            LevelSource::Analog { analog, .. } => {
                let analog = &self.analog[analog.0].line;
                let named = |number: usize| Found::Analog(capture.analog_lines()[number].name.clone());
                analog_of(&capture, analog).map(named)
            }
            LevelSource::Input | LevelSource::LeftOut => known.find(&line.line),
        };
        let all: Vec<Result<Found>> = self.lines.iter().map(find).collect();
        for (setup_line, found) in self.lines.iter().zip(all) {
            let line = &setup_line.line;
            match found {
                Ok(Found::Line(name)) => wanted.push((name, line.clone())),
                Ok(Found::Analog(analog)) => match &line.threshold {
                    Some(threshold) => {
                        let hysteresis = match setup_line.source {
                            LevelSource::Analog { hysteresis, .. } => {
                                Some(hysteresis.unwrap_or(Voltage::ZERO))
                            }
                            LevelSource::Input | LevelSource::LeftOut => self.import.hysteresis,
                        };
                        capture = with_made(capture, line, &analog, (threshold.voltage(), hysteresis))?;
                        wanted.push((format!("{}{MADE}", line.name), line.clone()));
                    }
                    None => {
                        let message = format!("line '{}' is a voltage in the record, '{analog}'", line.name);
                        let help = "say above which voltage it is high: threshold = \"1.4 V\"";
                        problems.push(Error::new(ErrorKind::Setup, message).with_help(help));
                    }
                },
                Err(error) => {
                    let signal = asked(line);
                    let message = format!("the record has no signal '{signal}' for line '{}'", line.name);
                    let help = error.help().unwrap_or("check the signal's name").to_string();
                    problems.push(Error::new(ErrorKind::Unknown, message).with_help(help));
                }
            }
        }
        let mut analog = Vec::new();
        for line in self.analog.iter().map(|analog| &analog.line) {
            match analog_of(&capture, line) {
                Ok(number) => analog.push((number, line.clone())),
                Err(error) => problems.push(error),
            }
        }
        if let Some(error) = Error::many(problems) {
            return Err(error);
        }
        if self.analog.is_empty() {
            // Voltages that no line is made of stay.
            let taken = |line: &&AnalogLine| wanted.iter().all(|(_, wanted)| wanted.name != line.name);
            let kept = capture.analog_lines().iter().enumerate().filter(|(_, line)| taken(line));
            analog = kept.map(|(number, line)| (number, line.clone())).collect();
        }
        let history = without_marks(&capture);
        let builder = self.import.apply(capture)?.into_builder().select(wanted)?.select_analog(analog);
        builder.buses(self.buses.clone()).history(history).attachments(self.texts.clone()).build()
    }

    /// Gives a capture the lines, names and buses of this setup instead of those that it was recorded with. A line is
    /// the one that was recorded at its input, else the one of its name; what is made from an analog line is made
    /// anew.
    ///
    /// # Errors
    /// When the capture has no such line.
    pub fn relabel(&self, capture: Capture) -> Result<Capture> {
        let mut capture = capture;
        let mut renamed = Vec::new();
        let mut wanted = Vec::new();
        for setup_line in &self.lines {
            let line = &setup_line.line;
            if let (LevelSource::Analog { analog, hysteresis }, Some(threshold)) =
                (setup_line.source, &line.threshold)
                && let Ok(number) = analog_of(&capture, &self.analog[analog.0].line)
            {
                let analog = capture.analog_lines()[number].clone();
                let told = (threshold.voltage(), Some(hysteresis.unwrap_or(Voltage::ZERO)));
                capture = with_made(capture, line, &analog.name, told)?;
                let as_it_was = |line: &mut AnalogLine| {
                    if line.name == analog.name {
                        line.hysteresis = analog.hysteresis;
                    }
                };
                capture = capture.into_builder().renamed_analog(as_it_was).unchecked();
                wanted.push((format!("{}{MADE}", line.name), line.clone()));
                continue;
            }
            let at_input = |known: &&Line| known.input.is_some() && known.input == line.input;
            let name = capture.lines().iter().find(at_input).map_or(&line.name, |known| &known.name);
            if *name != line.name {
                renamed.push(format!("'{name}' is called '{}'", line.name));
            }
            wanted.push((name.clone(), line.clone()));
        }
        let mut history = without_marks(&capture);
        history.extend(renamed);
        let builder = capture.into_builder().select(wanted)?.history(history);
        builder.buses(self.buses.clone()).attachments(self.texts.clone()).build()
    }
}

/// What a line is found as.
enum Found {
    Line(String),
    Analog(String),
}

/// The history, in which no line is marked.
fn without_marks(capture: &Capture) -> Vec<String> {
    capture.history().iter().map(|step| step.replace(MADE, "")).collect()
}

/// The capture with a marked line that is made from an analog one, at a threshold with a hysteresis.
fn with_made(
    capture: Capture,
    line: &Line,
    analog: &str,
    (threshold, hysteresis): (Voltage, Option<Voltage>),
) -> Result<Capture> {
    let capture = with_hysteresis(capture, analog, hysteresis);
    capture.into_builder().derive_line(&format!("{}{MADE}", line.name), analog, threshold)?.build()
}

/// What a line asks for.
fn asked(line: &Line) -> String {
    match &line.input {
        Some(Input::Signal(signal)) => signal.clone(),
        Some(Input::Number(_)) | None => line.name.clone(),
    }
}

/// What a record has, by name and by input.
struct Known<'a> {
    capture: &'a Capture,
    names: LineNames<'a>,
    inputs: HashMap<&'a Input, usize>,
}

impl<'a> Known<'a> {
    fn of(capture: &'a Capture) -> Self {
        let mut inputs = HashMap::new();
        for (number, line) in capture.lines().iter().enumerate() {
            if let Some(input) = &line.input {
                inputs.entry(input).or_insert(number);
            }
        }
        Known { capture, names: capture.line_names(), inputs }
    }

    fn find(&self, line: &Line) -> Result<Found> {
        let capture = self.capture;
        let of = |id: LineId| Found::Line(capture.line(id).name.clone());
        if let Some(number) = line.input.as_ref().and_then(|input| self.inputs.get(input)) {
            return Ok(of(LineId(*number)));
        }
        let number = match &line.input {
            Some(Input::Number(number)) => Some(*number),
            Some(Input::Signal(signal)) => {
                signal.strip_prefix("column ").and_then(|number| number.trim().parse().ok())
            }
            None => None,
        };
        if let Some(number) = number
            && let Some(known) = capture.analog_lines().iter().find(|known| known.input == Some(number))
        {
            return Ok(Found::Analog(known.name.clone()));
        }
        let asked = asked(line);
        let plain = without_unit(&asked);
        let error = match self.names.line(&asked) {
            Ok(id) => return Ok(of(id)),
            Err(error) => error,
        };
        if plain != asked
            && let Ok(id) = self.names.line(plain)
        {
            return Ok(of(id));
        }
        for name in [asked.as_str(), plain] {
            if capture.analog_named(name).is_some() {
                return Ok(Found::Analog(name.to_string()));
            }
        }
        if capture.lines().is_empty() {
            let known = capture.analog_lines().iter().map(|line| line.name.as_str());
            return Err(error.with_help(crate::error::suggest(&asked, known, "column")));
        }
        Err(error)
    }
}

/// The name of a column without its unit.
fn without_unit(name: &str) -> &str {
    let end = name.find(['(', '[']).filter(|at| *at > 0 && name.ends_with([')', ']']));
    end.map_or(name, |end| name[..end].trim_end())
}

/// The analog line of a record that a setup means.
fn analog_of(capture: &Capture, line: &AnalogLine) -> Result<usize> {
    let position = capture.analog_lines().iter().position(|known| known.name == line.name);
    // A record without inputs has its analog lines in their order.
    let numbered = || {
        let mut known = capture.analog_lines().iter().enumerate();
        let input = line.input?;
        known.position(|(at, known)| known.input.map_or(u32::try_from(at).ok(), Some) == Some(input))
    };
    position.or_else(numbered).ok_or_else(|| {
        let message = format!("the record has no analog line '{}'", line.name);
        let help = "take its [[analog]] section out to look at this record";
        Error::new(ErrorKind::Unknown, message).with_help(help)
    })
}

/// The hysteresis that is stated, for the line that is made of an analog one.
fn with_hysteresis(capture: Capture, analog: &str, hysteresis: Option<Voltage>) -> Capture {
    let Some(hysteresis) = hysteresis else { return capture };
    let change = |line: &mut AnalogLine| {
        if line.name == analog {
            line.hysteresis = hysteresis;
        }
    };
    capture.into_builder().renamed_analog(change).unchecked()
}
