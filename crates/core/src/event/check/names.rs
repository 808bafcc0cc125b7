//! What the names in an expression stand for.

use std::collections::BTreeMap;

use crate::capture::Capture;
use crate::decode::SerialBus;
use crate::error::{Error, Result};
use crate::event::syntax::{Event, Name, located};
use crate::line::{AnalogId, Bus, Crossing, LineId, NameMeant, Side, ValueNames, meant, several};
use crate::quantity::Voltage;

/// What a name stands for.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Meaning {
    /// A line.
    Line(LineId),
    /// An analog line.
    Analog(AnalogId),
    /// A group of lines.
    Bus(Bus),
    /// A serial bus.
    Frames(SerialBus),
    /// A named event, as its text.
    Event(String),
}

impl Meaning {
    /// What it is, in words.
    pub(super) fn what(&self) -> &'static str {
        match self {
            Meaning::Line(_) => "a line",
            Meaning::Analog(_) => "an analog line",
            Meaning::Bus(_) => "a bus",
            Meaning::Frames(_) => "a serial bus",
            Meaning::Event(_) => "a named event",
        }
    }
}

/// All names that an expression may use.
#[derive(Clone, Debug, Default)]
pub struct Scope {
    names: BTreeMap<String, Meaning>,
}

impl Scope {
    /// No names.
    pub fn new() -> Self {
        Scope::default()
    }

    /// The lines, analog lines and buses of a capture.
    pub fn of(capture: &Capture) -> Self {
        let mut scope = Scope::new();
        for (i, line) in capture.lines().iter().enumerate() {
            scope.define(line.name.clone(), Meaning::Line(LineId(i)));
        }
        for (i, line) in capture.analog_lines().iter().enumerate() {
            scope.define(line.name.clone(), Meaning::Analog(AnalogId(i)));
        }
        for bus in capture.buses() {
            scope.define(bus.name.clone(), Meaning::Bus(bus.clone()));
        }
        scope
    }

    /// Adds a name and returns what it stood for before.
    pub fn define(&mut self, name: impl Into<String>, meaning: Meaning) -> Option<Meaning> {
        self.names.insert(name.into(), meaning)
    }

    /// What a name stands for.
    pub fn get(&self, name: &str) -> Option<&Meaning> {
        self.names.get(name)
    }

    /// All names, sorted.
    pub fn names(&self) -> impl Iterator<Item = &str> + Clone {
        self.names.keys().map(String::as_str)
    }

    /// A name of a line.
    pub(super) fn line_name(&self, line: LineId) -> Option<&str> {
        self.names.iter().find(|(_, meaning)| **meaning == Meaning::Line(line)).map(|(name, _)| name.as_str())
    }

    pub(super) fn find(&self, text: &str, name: &Name) -> Result<&Meaning> {
        if let Some(meaning) = self.names.get(&name.text) {
            return Ok(meaning);
        }
        let (message, help) = match meant(self.names(), &name.text) {
            NameMeant::One(number) => {
                if let Some(meaning) = self.names.values().nth(number) {
                    return Ok(meaning);
                }
                (format!("nothing is called '{}'", name.text), String::new())
            }
            NameMeant::Nothing => {
                let help = crate::error::suggest(&name.text, self.names(), "line or bus");
                (format!("nothing is called '{}'", name.text), help)
            }
            NameMeant::Several(found) => {
                (format!("more than one thing is called '{}'", name.text), several(&found))
            }
        };
        Err(located(text, name.span.clone(), message, Some(help)))
    }

    pub(super) fn find_line(&self, text: &str, name: &Name) -> Result<LineId> {
        match self.find(text, name)? {
            Meaning::Line(line) => Ok(*line),
            Meaning::Analog(_) => {
                let message =
                    format!("'{}' is an analog line: it takes a voltage to be high or low", name.text);
                let help =
                    format!("write '{0} rises through 1.65 V', or as a condition '{0} > 1.65 V'", name.text);
                Err(located(text, name.span.clone(), message, Some(help)))
            }
            Meaning::Frames(bus) => Err(frames_instead(text, name, bus)),
            other @ (Meaning::Bus(_) | Meaning::Event(_)) => {
                let message = format!(
                    "'{}' is {}; only a line is high or low, rises or falls",
                    name.text,
                    other.what()
                );
                let help = "compare a bus with a value, as in 'ADDR == 0x4', or write 'ADDR changes'";
                Err(located(text, name.span.clone(), message, Some(help.into())))
            }
        }
    }

    pub(super) fn find_bus(&self, text: &str, name: &Name) -> Result<Bus> {
        match self.find(text, name)? {
            Meaning::Bus(bus) => Ok(bus.clone()),
            // A line is a bus of one.
            Meaning::Line(line) => Ok(Bus {
                name: name.text.clone(),
                lines: vec![*line],
                clock: None,
                radix: crate::line::Radix::Binary,
                names: ValueNames::default(),
            }),
            Meaning::Analog(_) => {
                let message = format!("'{}' is an analog line, which has no value", name.text);
                let help = format!("compare it with a voltage: '{0} > 1.65 V' or '{0} < 1.65 V'", name.text);
                Err(located(text, name.span.clone(), message, Some(help)))
            }
            Meaning::Frames(bus) => Err(frames_instead(text, name, bus)),
            Meaning::Event(_) => {
                let message = format!("'{}' is a named event; only a bus has a value", name.text);
                Err(located(text, name.span.clone(), message, None))
            }
        }
    }

    /// A voltage on an analog line.
    pub(super) fn find_crossing(
        &self,
        text: &str,
        name: &Name,
        level: Voltage,
        side: Side,
    ) -> Result<Crossing> {
        match self.find(text, name)? {
            Meaning::Analog(analog) => match Crossing::new(*analog, level, side) {
                Some(crossing) => Ok(crossing),
                None => {
                    let message = format!("{level} cannot be compared with an analog line");
                    let help = "give whole microvolts, up to 2 kV";
                    Err(located(text, name.span.clone(), message, Some(help.into())))
                }
            },
            other => {
                let message = format!("'{}' is {}, which has no voltage", name.text, other.what());
                let help = "only what the setup names under [[analog]] has one";
                Err(located(text, name.span.clone(), message, Some(help.into())))
            }
        }
    }

    /// A serial bus.
    pub(super) fn find_frames(&self, text: &str, name: &Name) -> Result<&SerialBus> {
        match self.find(text, name)? {
            Meaning::Frames(bus) => Ok(bus),
            other => {
                let message = format!("'{}' is {}, which has no frames", name.text, other.what());
                let help = "frames are those of a [[bus]] with a kind, such as kind = \"i2c\"";
                Err(located(text, name.span.clone(), message, Some(help.into())))
            }
        }
    }

    /// The tree of a named event, parsed; `seen` holds the names that led here.
    pub(super) fn find_event(&self, text: &str, name: &Name, seen: &[String]) -> Result<(String, Event)> {
        match self.find(text, name)? {
            Meaning::Event(_) if seen.contains(&name.text) => {
                let message = format!("the event '{}' refers to itself", name.text);
                Err(located(text, name.span.clone(), message, None))
            }
            Meaning::Event(body) => match Event::parse(body) {
                Ok(event) => Ok((body.clone(), event)),
                Err(inner) => {
                    let message = format!("the event '{}' is wrong: {inner}", name.text);
                    Err(located(text, name.span.clone(), message, inner.help().map(str::to_string)))
                }
            },
            other @ Meaning::Analog(_) => {
                let message = format!("'{}' is {}, not an event", name.text, other.what());
                let help =
                    format!("write '{0} rises through 1.65 V' or '{0} falls through 1.65 V'", name.text);
                Err(located(text, name.span.clone(), message, Some(help)))
            }
            Meaning::Frames(bus) => Err(frames_instead(text, name, bus)),
            other @ (Meaning::Line(_) | Meaning::Bus(_)) => {
                let message = format!("'{}' is {}, not an event", name.text, other.what());
                let help = format!("write '{0} rises', '{0} falls' or '{0} changes'", name.text);
                Err(located(text, name.span.clone(), message, Some(help)))
            }
        }
    }
}

/// A serial bus stands where only something else can.
fn frames_instead(text: &str, name: &Name, bus: &SerialBus) -> Error {
    let message = format!("'{}' is a serial bus: it has frames, no levels and no value", name.text);
    let words = bus.protocol().words().join(", ");
    let marks = bus.protocol().marks().join(", ");
    let help = format!(
        "write '{0} has …' with one of: fault, {words}; '{0} at …' with one of: {marks}; or name one of its lines",
        name.text
    );
    located(text, name.span.clone(), message, Some(help))
}
