//! Limits files: a part's timing table as text.

use crate::error::{Error, ErrorKind, Place, TextPlace, suggest};
use crate::event::{Condition, Event};
use crate::limit::{Events, Kind, Limit, Part, Pin, Required};
use crate::time::Time;

use super::reader::{Placed, Reader, Section, moved};

/// A part with the places of its limits' fields in the file.
pub(super) struct PlacedPart {
    pub(super) part: Part,
    /// Per limit, the place of each event field and of the limit itself.
    pub(super) places: Vec<Vec<(&'static str, TextPlace)>>,
}

/// Reads a limits file. Whatever could be understood is returned beside the problems.
pub(super) fn read_part(name: &str, text: &str) -> (PlacedPart, Vec<Error>) {
    let reader = Reader::new(name, text, ErrorKind::Limits);
    let placed = reader.read(|top| {
        let part_name = top.required("part", "part = \"EX-ADC24\"").map(|p| p.value).unwrap_or_default();
        let source = top.required("source", "source = \"data sheet DS-17, revision C, table 6\"");
        let conditions = top.text("conditions").map(|p| p.value);
        let made_up = top.flag("made-up").unwrap_or(false);
        let pins: Vec<Pin> = top
            .map("pins")
            .unwrap_or_default()
            .into_iter()
            .map(|(name, what)| Pin { name: name.value, what: what.value.unwrap_or_default() })
            .collect();
        if pins.is_empty() {
            top.missing("pins", "pins = { SCLK = \"serial clock, input\" }");
        }
        let mut limits: Vec<Limit> = Vec::new();
        let mut places = Vec::new();
        for section in top.sections("limit", "symbol") {
            let read = read_limit(&section);
            section.finish();
            if let Some((limit, limit_places)) = read {
                if limits.iter().any(|l| l.symbol == limit.symbol) {
                    let message = format!("there are two limits called '{}'", limit.symbol);
                    let error =
                        Error::new(ErrorKind::Limits, message).with_help("give each a symbol of its own");
                    reader.report(error.at(Place::Text(section.place())));
                }
                limits.push(limit);
                places.push(limit_places);
            }
        }
        if limits.is_empty() && !part_name.is_empty() {
            top.missing("limit", "[[limit]] with symbol, what, kind, its events, and min or max");
        }
        let source = source.map(|p| p.value).unwrap_or_default();
        PlacedPart { part: Part { name: part_name, source, conditions, made_up, pins, limits }, places }
    });
    (placed, reader.into_problems())
}

type Places = Vec<(&'static str, TextPlace)>;

fn read_limit(section: &Section<'_>) -> Option<(Limit, Places)> {
    let symbol = section.required("symbol", "symbol = \"tDH\"");
    let what = section.required("what", "what = \"data hold after write enable\"");
    let kind = match section.text("kind") {
        Some(kind) => match kind.value.parse::<Kind>() {
            Ok(parsed) => Some(parsed),
            Err(error) => {
                section.reader.report(error.at(Place::Text(kind.place)));
                None
            }
        },
        None => {
            let kinds: Vec<&str> = Kind::ALL.iter().map(|(_, name)| *name).collect();
            section.missing("kind", &format!("kind = \"hold\" (one of {})", kinds.join(", ")));
            None
        }
    };
    let (min, typical, max) =
        (section.parsed::<Time>("min"), section.parsed::<Time>("typ"), section.parsed::<Time>("max"));
    let condition = section.text("while");
    let mut places: Places = vec![("limit", section.place())];
    if let Some(condition) = &condition {
        if let Err(error) = Condition::parse(&condition.value) {
            section.reader.report(moved(error, ErrorKind::Limits, &condition.place));
        }
        places.push(("while", condition.place.clone()));
    }
    let mut event = |key: &'static str, example: &str| -> Option<String> {
        let text = section.required(key, example)?;
        places.push((key, text.place.clone()));
        check_event(section, key, &text);
        Some(text.value)
    };
    let events = match kind? {
        Kind::Setup | Kind::Hold => Events::Data {
            data: event("data", "data = \"DQ\"")?,
            reference: event("reference", "reference = \"WE_N rises\"")?,
        },
        Kind::Width => Events::Pulse(event("pulse", "pulse = \"WE_N low\"")?),
        Kind::Period => Events::Repeat(event("event", "event = \"SCLK rises\"")?),
        Kind::Delay => Events::Pair {
            from: event("from", "from = \"SCLK falls\"")?,
            to: event("to", "to = \"DOUT changes\"")?,
        },
    };
    if min.is_none() && max.is_none() {
        section.missing("min' or 'max", "min = \"5 ns\"");
    }
    if let (Some(min), Some(max)) = (&min, &max)
        && min.value > max.value
    {
        let message = format!("the minimum {} is above the maximum {}", min.value, max.value);
        let error = Error::new(ErrorKind::Limits, message).with_help("swap them, or correct one");
        section.reader.report(error.at(Place::Text(min.place.clone())));
    }
    let value = |placed: Option<Placed<Time>>| placed.map(|p| p.value);
    let required = Required { min: value(min), max: value(max) };
    let condition = condition.map(|c| c.value);
    let (symbol, what) = (symbol?.value, what?.value);
    let limit = Limit { symbol, what, kind: kind?, events, required, typical: value(typical), condition };
    Some((limit, places))
}

/// Checks an expression as far as the file alone allows.
fn check_event(section: &Section<'_>, key: &str, text: &Placed<String>) {
    let outcome = match key {
        "pulse" => Condition::parse(&text.value).map(|_| ()),
        // `data` and `to` may be a pin alone; a name alone parses as the name of an event.
        _ => Event::parse(&text.value).map(|_| ()),
    };
    if let Err(error) = outcome {
        section.reader.report(moved(error, ErrorKind::Limits, &text.place));
    }
}

/// An error for a pin that a setup binds but the part does not have.
pub(super) fn unknown_pin(part: &Part, pin: &Placed<String>) -> Error {
    let message = format!("{} has no pin '{}'", part.name, pin.value);
    let help = suggest(&pin.value, part.pins.iter().map(|p| p.name.as_str()), "pin");
    Error::new(ErrorKind::Setup, message).with_help(help).at(Place::Text(pin.place.clone()))
}
