//! Lines, buses and limits by their names.

use std::collections::HashSet;

use super::Job;
use crate::decode::SerialBus;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::limit::BoundLimit;
use crate::line::{AnalogId, LineId};

impl Job {
    /// The lines of these names; all when none is named.
    ///
    /// # Errors
    /// When the record has no line of a name.
    pub fn lines(&self, names: &[impl AsRef<str>]) -> Result<Vec<LineId>> {
        if names.is_empty() {
            return Ok((0..self.capture.lines().len()).map(LineId).collect());
        }
        names.iter().map(|name| self.capture.line_named(name.as_ref())).collect()
    }

    /// The lines and analog lines of these names, each once; of a bus, all its lines. All when none is named.
    ///
    /// # Errors
    /// When the record has nothing of a name.
    pub fn signals(&self, names: &[impl AsRef<str>]) -> Result<(Vec<LineId>, Vec<AnalogId>)> {
        let capture = &self.capture;
        let (mut lines, mut analog) = (Vec::new(), Vec::new());
        if names.is_empty() {
            lines.extend((0..capture.lines().len()).map(LineId));
            analog.extend((0..capture.analog_lines().len()).map(AnalogId));
        }
        for name in names.iter().map(AsRef::as_ref) {
            if let Some(line) = capture.analog_named(name) {
                analog.push(line);
            } else if let Some(bus) = capture.bus_named(name) {
                lines.extend(&capture.buses()[bus.0].lines);
            } else {
                lines.push(capture.line_named(name).map_err(|error| {
                    let known = capture.lines().iter().map(|line| line.name.as_str());
                    let known = known.chain(capture.analog_lines().iter().map(|line| line.name.as_str()));
                    let several = error.help().is_some_and(|help| help.starts_with("write more"));
                    if several { error } else { error.with_help(suggest(name, known, "line")) }
                })?);
            }
        }
        let mut seen = HashSet::new();
        lines.retain(|line| seen.insert(*line));
        Ok((lines, analog))
    }

    /// The serial buses of these names; all when none is named.
    ///
    /// # Errors
    /// When there is no setup, it describes no serial bus, or none of a name.
    pub fn buses(&self, names: &[impl AsRef<str>]) -> Result<Vec<&SerialBus>> {
        let serial = &self.setup()?.serial;
        if serial.is_empty() {
            let error = Error::new(ErrorKind::Unknown, "the setup describes no serial bus to decode");
            let help = "add one like: [[bus]] with name = \"console\", kind = \"uart\", line = \"TX\", bit-rate = \
                        \"115.2 kHz\"; another setup is used with --setup";
            return Err(error.with_help(help));
        }
        if names.is_empty() {
            let asked =
                |bus: &&SerialBus| self.tried.is_empty() || self.tried.iter().any(|t| t == bus.name());
            return Ok(serial.iter().filter(asked).collect());
        }
        let find = |name: &str| {
            serial.iter().find(|bus| bus.name() == name).ok_or_else(|| {
                let error = Error::new(ErrorKind::Unknown, format!("there is no serial bus '{name}'"));
                error.with_help(match self.capture.bus_named(name) {
                    Some(_) => {
                        "this is a parallel bus: deep-tap show and find look at its values".to_string()
                    }
                    None => suggest(name, serial.iter().map(SerialBus::name), "serial bus"),
                })
            })
        };
        names.iter().map(|name| find(name.as_ref())).collect()
    }

    /// The exchanges of these names, as buses of their own; all when none is named.
    ///
    /// # Errors
    /// When there is no setup, it describes no exchange, or none of a name.
    pub fn exchanges(&self, names: &[impl AsRef<str>]) -> Result<Vec<&SerialBus>> {
        let known = &self.setup()?.exchanged;
        if known.is_empty() {
            let error = Error::new(ErrorKind::Unknown, "the setup describes no exchange");
            let help = "add one: [[exchange]] with name = \"read the time\", bus = \"rtc\", and an [[exchange.step]] for \
                        each transfer";
            return Err(error.with_help(help));
        }
        if names.is_empty() {
            return Ok(known.iter().collect());
        }
        let find = |name: &str| {
            known.iter().find(|own| own.name() == name).ok_or_else(|| {
                let help = suggest(name, known.iter().map(SerialBus::name), "exchange");
                Error::new(ErrorKind::Unknown, format!("there is no exchange '{name}'")).with_help(help)
            })
        };
        names.iter().map(|name| find(name.as_ref())).collect()
    }

    /// The limits that are meant by one of these names: a symbol, a part's reference, both as in
    /// `U5.tWP`, or a group. All when none is named. A name may also be that of an expectation.
    ///
    /// # Errors
    /// When there is no setup, or nothing of a name.
    pub fn limits(&self, names: &[impl AsRef<str>]) -> Result<Vec<&BoundLimit>> {
        self.setup()?.limits_named(names)
    }

    /// The one limit that is meant by a name.
    ///
    /// # Errors
    /// When there is no setup, none of that name, or more than one.
    pub fn limit(&self, name: &str) -> Result<&BoundLimit> {
        let setup = self.setup()?;
        let mut found = setup.limits().filter(|limit| limit.is_meant_by(name));
        match (found.next(), found.next()) {
            (Some(limit), None) => Ok(limit),
            (Some(first), Some(second)) => {
                let error = Error::new(ErrorKind::Unknown, format!("'{name}' is more than one limit"));
                Err(error.with_help(format!("name one of them: {}, {} …", first.name(), second.name())))
            }
            (None, _) => {
                let known: Vec<String> = setup.limits().map(BoundLimit::name).collect();
                let error = Error::new(ErrorKind::Unknown, format!("there is no limit '{name}'"));
                Err(error.with_help(suggest(name, known.iter().map(String::as_str), "limit")))
            }
        }
    }
}
