//! A setup laid over a record that comes from a file.

use std::collections::HashMap;

use super::Setup;
use crate::capture::{Capture, LineNames};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{AnalogLine, Input, Line, LineId};

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
        let all: Vec<Result<Found>> = self.lines.iter().map(|line| known.find(&line.line)).collect();
        for (setup_line, found) in self.lines.iter().zip(all) {
            let line = &setup_line.line;
            match found {
                Ok(Found::Line(name)) => wanted.push((name, line.clone())),
                Ok(Found::Analog(analog)) => match &line.threshold {
                    Some(threshold) => {
                        let name = format!("{}{MADE}", line.name);
                        capture = with_hysteresis(capture, &analog, self)
                            .into_builder()
                            .derive_line(&name, &analog, threshold.voltage())?
                            .build()?;
                        let extra = capture.line(capture.line_named(&name)?).extra;
                        wanted.push((name, Line { extra, ..line.clone() }));
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
            let position = capture.analog_lines().iter().position(|known| known.name == line.name);
            // A record without inputs has its analog lines in their order.
            let numbered = || {
                let mut known = capture.analog_lines().iter().enumerate();
                let input = line.input?;
                known.position(|(at, known)| known.input.map_or(u32::try_from(at).ok(), Some) == Some(input))
            };
            match position.or_else(numbered) {
                Some(number) => analog.push((number, line.clone())),
                None => {
                    let message = format!("the record has no analog line '{}'", line.name);
                    let help = "take its [[analog]] section out to look at this record";
                    problems.push(Error::new(ErrorKind::Unknown, message).with_help(help));
                }
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
        let history: Vec<String> = capture.history().iter().map(|step| step.replace(MADE, "")).collect();
        let builder = self.import.apply(capture)?.into_builder().select(wanted)?.select_analog(analog);
        builder.buses(self.buses.clone()).history(history).attachments(self.texts.clone()).build()
    }
}

/// What a line is found as.
enum Found {
    Line(String),
    Analog(String),
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

/// The hysteresis that is stated, for the line that is made of an analog one.
fn with_hysteresis(capture: Capture, analog: &str, setup: &Setup) -> Capture {
    let Some(hysteresis) = setup.import.hysteresis else { return capture };
    let change = |line: &mut AnalogLine| {
        if line.name == analog {
            line.hysteresis = hysteresis;
        }
    };
    capture.into_builder().renamed_analog(change).unchecked()
}
