//! Limits files: a part's timing table as text.

use crate::error::{Error, ErrorKind, Place, Result, TextPlace, suggest};
use crate::event::{Condition, Event};
use crate::limit::{Answer, Events, Kind, Limit, Mark, Part, Pin, Required, Which};
use crate::quantity::{Frequency, Percent, Rational};

use super::figures::{Figures, Row};
use super::section::serial::{DraftSerial, read_serial};
use crate::reader::{NamedText, OneOrEach, Placed, Reader, Section, moved};
use crate::setup::source::Texts;

/// A part as its file has it, its figures not worked out yet.
pub(super) struct ReadPart {
    part: Part,
    /// What the conditions are in words, by name; one without a name where there is one set of figures.
    conditions: Vec<(Option<String>, String)>,
    pub(super) figures: Figures,
    /// Serial buses of its pins.
    pub(super) buses: Vec<DraftSerial>,
    /// Per limit, the place of each event field and of the limit itself.
    pub(super) places: Vec<Places>,
}

impl ReadPart {
    /// The part under one of its operating conditions, with some of its values replaced.
    pub(super) fn resolve(self, condition: Option<&str>, given: &[NamedText]) -> (Part, Vec<Error>) {
        let ReadPart { mut part, conditions, figures, .. } = self;
        let (rows, problems) = figures.resolve(condition, given);
        for (limit, (required, typical)) in part.limits.iter_mut().zip(rows) {
            (limit.required, limit.typical) = (required, typical);
        }
        part.conditions =
            conditions.into_iter().find(|(name, _)| name.as_deref() == condition).map(|(_, words)| words);
        // What has no figure under these conditions is no limit here.
        part.limits.retain(|limit| limit.kind() == Kind::Stable || limit.required != Required::default());
        (part, problems)
    }
}

impl Part {
    /// Reads the part of a limits file by its name in `texts`, without its limits: which hold depends on where it is
    /// placed.
    ///
    /// # Errors
    /// All problems of the file at once.
    pub fn load(name: &str, texts: &dyn Texts) -> Result<Part> {
        let (read, problems) = read_part(&texts.display(name), &texts.read(name)?);
        match Error::many(problems) {
            Some(error) => Err(error),
            None => Ok(read.part),
        }
    }
}

/// Reads a limits file. Whatever could be understood is returned beside the problems.
pub(super) fn read_part(name: &str, text: &str) -> (ReadPart, Vec<Error>) {
    let reader = Reader::new(name, text, ErrorKind::Limits);
    let read = reader.read(|top| {
        let part_name = top.required("part", "part = \"EX-ADC24\"").map(|p| p.value).unwrap_or_default();
        let source = top.required("source", "source = \"data sheet DS-17, revision C, table 6\"");
        let conditions: Vec<(Option<String>, String)> = match top.text_or_map("conditions") {
            None => Vec::new(),
            Some(OneOrEach::Always(words)) => vec![(None, words.value)],
            Some(OneOrEach::Under(named)) => named
                .into_iter()
                .map(|(name, words)| (Some(name.value), words.value.unwrap_or_default()))
                .collect(),
        };
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
        let names = conditions.iter().filter_map(|(name, _)| name.clone()).collect();
        let mut figures =
            Figures { values: top.map("values").unwrap_or_default(), conditions: names, rows: Vec::new() };
        let mut buses: Vec<DraftSerial> = Vec::new();
        for section in top.sections("bus", "name") {
            match section.text("kind") {
                Some(kind) => buses.extend(read_serial(&section, &kind)),
                None => section.missing("kind", "kind = \"i2c\""),
            }
            section.finish();
        }
        for (number, bus) in buses.iter().enumerate() {
            let name = &bus.name.value;
            let before = buses[..number].iter().any(|other| other.name.value == *name);
            if before || pins.iter().any(|pin| pin.name == *name) {
                let message = format!("something else is called '{name}'");
                top.refuse(&bus.name.place, message, "give the bus a name of its own");
            }
        }
        let mut limits: Vec<Limit> = Vec::new();
        let mut places = Vec::new();
        for section in top.sections("limit", "symbol") {
            let read = read_limit(&section, &figures.conditions, Naming::Required);
            section.finish();
            if let Some((limit, row, limit_places)) = read {
                if limits.iter().any(|l| l.symbol == limit.symbol) {
                    let message = format!("there are two limits called '{}'", limit.symbol);
                    section.complain(message, "give each a symbol of its own");
                }
                limits.push(limit);
                figures.rows.push(row);
                places.push(limit_places);
            }
        }
        if limits.is_empty() && !part_name.is_empty() && !top.has("limit") {
            top.missing("limit", "[[limit]] with symbol, what, kind, its events, and min or max");
        }
        let source = source.map(|p| p.value).unwrap_or_default();
        let part = Part { name: part_name, source, conditions: None, made_up, pins, limits };
        ReadPart { part, conditions, figures, buses, places }
    });
    (read, reader.into_problems())
}

pub(super) type Places = Vec<(&'static str, TextPlace)>;

/// Whether a limit must say what it is called.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Naming {
    /// It must have symbol and words, as a datasheet has them.
    Required,
    /// Without them, it is called after its kind and its events.
    Optional,
}

/// Reads one limit.
pub(super) fn read_limit(
    section: &Section<'_>,
    conditions: &[String],
    naming: Naming,
) -> Option<(Limit, Row, Places)> {
    let (symbol, what) = match naming {
        Naming::Required => (
            section.required("symbol", "symbol = \"tDH\""),
            section.required("what", "what = \"data hold after write enable\""),
        ),
        Naming::Optional => (section.text("symbol"), section.text("what")),
    };
    let group = section.text("group").map(|group| group.value);
    let kind = read_kind(section);
    let figure = |key| {
        let figure = section.figure(key);
        if let Some(OneOrEach::Under(entries)) = &figure {
            for (name, _) in entries.iter().filter(|(name, _)| !conditions.contains(&name.value)) {
                let message = format!("the part has no operating conditions '{}'", name.value);
                let help = match conditions.is_empty() {
                    true => {
                        format!("name them: conditions = {{ \"{}\" = \"VDD 3.0 V to 3.6 V\" }}", name.value)
                    }
                    false => suggest(&name.value, conditions.iter().map(String::as_str), "conditions"),
                };
                section.refuse(&name.place, message, help);
            }
        }
        figure
    };
    let (low, high) = if kind == Some(Kind::Window) { ("setup", "hold") } else { ("min", "max") };
    let (min, typical, max) = (figure(low), figure("typ"), figure(high));
    let condition = section.text("while");
    let mut places: Places = vec![("limit", section.place())];
    if let Some(condition) = &condition {
        if let Err(error) = Condition::parse(&condition.value) {
            section.report(moved(error, ErrorKind::Limits, &condition.place));
        }
        places.push(("while", condition.place.clone()));
    }
    let events = read_events(section, kind?, condition.as_ref(), &mut places)?;
    match (kind?, &min, &max) {
        (Kind::Stable, None, None) => {}
        (Kind::Stable, ..) => {
            section.complain(
                "a limit of kind 'stable' has no 'min' or 'max'",
                "any change at all is a violation",
            );
        }
        (Kind::Window, Some(_), Some(_)) => {}
        (Kind::Window, min, _) => {
            let (missing, example) = match min {
                None => ("setup", "setup = \"-2 ns\""),
                Some(_) => ("hold", "hold = \"5 ns\""),
            };
            section.missing(missing, example);
        }
        (_, None, None) => {
            let example = format!("min = \"{}\"", kind?.unit().sample());
            section.missing("min' or 'max", &example);
        }
        _ => {}
    }
    let mut restriction = |key: &'static str, check: fn(&str) -> Result<()>| {
        let text = section.text(key)?;
        if kind.is_some_and(|kind| !kind.is_of_pairs()) {
            let message = format!("'{key}' restricts pairs of events, and a limit of this kind is of none");
            section.refuse(&text.place, message, "restrict it with 'while'");
        }
        if let Err(error) = check(&text.value) {
            section.report(moved(error, ErrorKind::Limits, &text.place));
        }
        places.push((key, text.place));
        Some(text.value)
    };
    let within = restriction("within", |text| Condition::parse(text).map(drop));
    let unless = restriction("unless", |text| Event::parse(text).map(drop));
    let condition = condition.map(|c| c.value).filter(|_| kind != Some(Kind::Stable));
    let (symbol, what) = match naming {
        Naming::Required => (symbol?.value, what?.value),
        Naming::Optional => {
            let words = || {
                let between = if kind == Some(Kind::Stable) { " while " } else { " to " };
                format!("{} of {}", kind.map_or("", Kind::name), events.texts().join(between))
            };
            let what = what.map_or_else(words, |what| what.value);
            (symbol.map_or_else(|| kind.map_or("", Kind::name).to_string(), |symbol| symbol.value), what)
        }
    };
    let answer = match kind? {
        Kind::Delay | Kind::Recovery => {
            section.word("answer", &[("may", Answer::May), ("must", Answer::Must)])?
        }
        _ => Answer::May,
    };
    if answer == Answer::Must && max.is_none() {
        section
            .complain("an answer must come, but nothing says how soon", "add a 'max', or leave 'answer' out");
    }
    let row = Row { symbol: symbol.clone(), kind, min, typical, max };
    let required = Required::default();
    let typical = None;
    let limit = Limit { symbol, what, events, required, typical, condition, group, answer, within, unless };
    Some((limit, row, places))
}

fn read_kind(section: &Section<'_>) -> Option<Kind> {
    let Some(kind) = section.text("kind") else {
        let kinds: Vec<&str> = Kind::ALL.iter().map(|(_, name)| *name).collect();
        section.missing("kind", &format!("kind = \"hold\" (one of {})", kinds.join(", ")));
        return None;
    };
    match kind.value.parse::<Kind>() {
        Ok(parsed) => Some(parsed),
        Err(error) => {
            section.report(error.at(Place::Text(kind.place)));
            None
        }
    }
}

fn read_events(
    section: &Section<'_>,
    kind: Kind,
    condition: Option<&Placed<String>>,
    places: &mut Places,
) -> Option<Events> {
    let mut text = |key: &'static str, example: &str, check: bool| -> Option<String> {
        let text = section.required(key, example)?;
        places.push((key, text.place.clone()));
        if check {
            check_event(section, key, &text);
        }
        Some(text.value)
    };
    let mut event = |key, example| text(key, example, true);
    Some(match kind {
        Kind::Setup | Kind::Hold => {
            let data = event("data", "data = \"DQ\"");
            let (reference, data) = (event("reference", "reference = \"WE_N rises\"")?, data?);
            match kind {
                Kind::Setup => Events::Setup { data, reference },
                _ => Events::Hold { data, reference },
            }
        }
        Kind::Recovery | Kind::Removal => {
            let control = event("control", "control = \"RESET_N rises\"");
            let (reference, control) = (event("reference", "reference = \"CK rises\"")?, control?);
            match kind {
                Kind::Recovery => Events::Recovery { control, reference },
                _ => Events::Removal { control, reference },
            }
        }
        Kind::Width => Events::Width { pulse: event("pulse", "pulse = \"WE_N low\"")? },
        Kind::Duty => Events::Duty { pulse: event("pulse", "pulse = \"WE_N low\"")? },
        Kind::Period => Events::Period { event: event("event", "event = \"SCLK rises\"")? },
        Kind::Delay | Kind::Skew => {
            let from = event("from", "from = \"SCLK falls\"");
            let (to, from) = (event("to", "to = \"DOUT changes\"")?, from?);
            match kind {
                Kind::Delay => Events::Delay { from, to },
                _ => Events::Skew { from, to },
            }
        }
        Kind::Window => {
            let data = event("data", "data = \"DQ\"");
            let reference = match section.has("control") {
                true => event("control", "control = \"RESET_N rises\""),
                false => event("reference", "reference = \"CK rises\""),
            };
            Events::Window { reference: reference?, data: data? }
        }
        Kind::Settle => {
            let from = event("from", "from = \"A changes\"");
            Events::Settle { data: event("data", "data = \"DQ\"")?, from: from? }
        }
        Kind::Stable => {
            if condition.is_none() {
                section.missing("while", "while = \"WE_N low\"");
            }
            Events::Stable { data: event("data", "data = \"DQ\"")?, condition: condition?.value.clone() }
        }
        Kind::RiseTime | Kind::FallTime => {
            let line = text("line", "line = \"VDD\"", false);
            let share = |percent| {
                Mark::Percent(Percent::from_fraction(Rational::new(percent, 100).unwrap_or(Rational::ZERO)))
            };
            let (low, high) = (section.parsed::<Mark>("low"), section.parsed::<Mark>("high"));
            let (low, high) = (low.map_or(share(10), |p| p.value), high.map_or(share(90), |p| p.value));
            match kind {
                Kind::RiseTime => Events::RiseTime { line: line?, low, high },
                _ => Events::FallTime { line: line?, low, high },
            }
        }
        Kind::Level => {
            let line = text("line", "line = \"VDD\"", false);
            let words = [("all", Which::All), ("low", Which::Low), ("high", Which::High)];
            Events::Level { line: line?, which: section.word("level", &words)? }
        }
        Kind::Rate => {
            let bus = text("bus", "bus = \"TX\"", false);
            let nominal = section.parsed::<Frequency>("nominal").map(|nominal| nominal.value);
            Events::Rate { bus: bus?, nominal }
        }
    })
}

/// Checks an expression as far as the file alone allows.
fn check_event(section: &Section<'_>, key: &str, text: &Placed<String>) {
    let outcome = match key {
        "pulse" => Condition::parse(&text.value).map(|_| ()),
        // `data` and `to` may be a pin alone; a name alone parses as the name of an event.
        _ => Event::parse(&text.value).map(|_| ()),
    };
    if let Err(error) = outcome {
        section.report(moved(error, ErrorKind::Limits, &text.place));
    }
}

/// An error for a pin that a setup binds but the part does not have.
pub(super) fn unknown_pin(part: &Part, pin: &Placed<String>) -> Error {
    let message = format!("{} has no pin '{}'", part.name, pin.value);
    let help = suggest(&pin.value, part.pins.iter().map(|p| p.name.as_str()), "pin");
    Error::new(ErrorKind::Setup, message).with_help(help).at(Place::Text(pin.place.clone()))
}
