//! The sections of parts: their limits files, bound to the lines of the board.

use super::line::LineIds;
use super::serial::DraftSerial;
use crate::capture::Attachment;
use crate::error::{Error, ErrorKind, TextPlace, suggest};
use crate::event::{Meaning, Scope, mentions};
use crate::limit::{BoundLimit, Limit, Part};
use crate::line::LineId;
use crate::reader::{NamedText, Placed, Section, moved};
use crate::setup::PlacedPart;
use crate::setup::figures::Figures;
use crate::setup::files::{Files, wrong};
use crate::setup::parts::{Places, read_part, unknown_pin};
use crate::setup::source::relative;

/// What the pins of parts can be bound to: what the names mean, and those of lines and of buses.
pub(in crate::setup) struct Wires<'a> {
    pub(in crate::setup) scope: &'a Scope,
    pub(in crate::setup) lines: Vec<&'a Placed<String>>,
    pub(in crate::setup) buses: Vec<&'a Placed<String>>,
}

/// A part as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftPart {
    pub(in crate::setup) limits: Placed<String>,
    pub(in crate::setup) reference: String,
    pub(in crate::setup) pins: Vec<NamedText>,
    /// The limits to check; all when `None`.
    pub(in crate::setup) only: Option<Vec<Placed<String>>>,
    /// The operating conditions that hold for it.
    pub(in crate::setup) conditions: Option<Placed<String>>,
    /// What its formulas are worked out with.
    pub(in crate::setup) values: Vec<NamedText>,
    pub(in crate::setup) place: TextPlace,
}

impl DraftPart {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let limits = section.required("limits", "limits = \"parts/ex-adc24.toml\"");
        let reference = section.required("reference", "reference = \"U3\"");
        let pins = section.map("pins");
        let only = section.list("only").map(|list| list.value);
        if pins.is_none() {
            section.missing("pins", "pins = { SCLK = \"ADC_SCLK\" }");
        }
        Some(DraftPart {
            limits: limits?,
            reference: reference?.value,
            pins: pins?,
            only,
            conditions: section.text("conditions"),
            values: section.map("values").unwrap_or_default(),
            place: section.place(),
        })
    }

    /// The part with its limits bound to the board.
    pub(in crate::setup) fn resolve(&self, board: &Wires<'_>, files: &mut Files<'_>) -> Option<PlacedPart> {
        let (name, text) = self.limits_file(files)?;
        let (read, problems) = read_part(&files.texts.display(&name), &text);
        let broken = !problems.is_empty();
        files.report_once(problems);
        let condition = self.conditions(&read.figures.conditions, &mut files.problems).map(str::to_string);
        self.check_values(&read.figures, &mut files.problems);
        let places: Vec<_> =
            read.figures.rows.iter().map(|row| row.symbol.clone()).zip(read.places.clone()).collect();
        let buses = read.buses.clone();
        let (part, problems) = read.resolve(condition.as_deref(), &self.values);
        let broken = broken || !problems.is_empty();
        files.report_once(problems);
        let problems = &mut files.problems;
        if !broken {
            let unknown = self.pins.iter().filter(|(pin, _)| part.pins.iter().all(|p| p.name != pin.value));
            problems.extend(unknown.map(|(pin, _)| unknown_pin(&part, pin)));
        }
        let mut pins = self.wired(board, problems);
        self.check_bound(&part, problems)?;
        let unwired = self.add_buses(&buses, &mut pins, problems);
        if !broken {
            self.check_only(&part, problems);
        }
        let (limits, not_wired) =
            if broken { Default::default() } else { self.bind(&part, (&pins, &unwired), &places, problems) };
        let wired = self.pins.iter().filter_map(|(pin, line)| Some((pin.value.clone(), line.value.clone()?)));
        let pins = wired.collect();
        Some(PlacedPart { reference: self.reference.clone(), part, limits, pins, not_wired })
    }

    /// The name and the text of the limits file.
    fn limits_file(&self, files: &mut Files<'_>) -> Option<(String, String)> {
        // The name is relative to the file that mentions it, which a message place names in full.
        let mentioned_in = files.of_place(&self.place);
        let mentioned_in = mentioned_in.map_or(String::new(), |a| a.name.clone());
        let name = relative(&mentioned_in, &self.limits.value);
        if let Some(known) = files.known(&name) {
            return Some((name, known.text.clone()));
        }
        let text = files.text(&name, &self.limits.place)?;
        files.keep(Attachment { name: name.clone(), text: text.clone() });
        Some((name, text))
    }

    /// Tells values that no formula of the part asks for.
    fn check_values(&self, figures: &Figures, problems: &mut Vec<Error>) {
        for value in figures.unknown_values(&self.values) {
            let known = figures.values.iter().map(|(name, _)| name.value.as_str());
            let help = suggest(&value.value, known, "value of this part");
            problems.push(wrong(&value.place, format!("the part has no value '{}'", value.value), help));
        }
    }

    /// What the pins are on the board.
    fn wired(&self, board: &Wires<'_>, problems: &mut Vec<Error>) -> Scope {
        let mut pins = Scope::new();
        // Stands in for what is missing, so that it is complained about once.
        let some_line = || Meaning::Line(LineId(0));
        for (pin, line) in &self.pins {
            let Some(name) = &line.value else { continue };
            let meaning = match board.scope.get(name) {
                Some(Meaning::Event(_)) | None if board.buses.iter().any(|bus| bus.value == *name) => {
                    some_line()
                }
                Some(Meaning::Event(_)) | None => {
                    let known = board.lines.iter().chain(&board.buses);
                    let help = suggest(name, known.map(|n| n.value.as_str()), "line or bus");
                    let (pin, part) = (&pin.value, &self.reference);
                    let message = format!("pin {pin} of {part}: there is no line or bus '{name}'");
                    problems.push(wrong(&line.place, message, help));
                    some_line()
                }
                Some(meaning) => meaning.clone(),
            };
            pins.define(pin.value.clone(), meaning);
        }
        pins
    }

    /// Adds the part's own buses to what its pins are; the names of pins that are not wired, and of buses that
    /// need one of them.
    fn add_buses(&self, buses: &[DraftSerial], pins: &mut Scope, problems: &mut Vec<Error>) -> Vec<String> {
        let unwired = self.pins.iter().filter(|(_, line)| line.value.is_none());
        let mut unwired: Vec<String> = unwired.map(|(pin, _)| pin.value.clone()).collect();
        let lines = pins.names().filter_map(|pin| match pins.get(pin) {
            Some(Meaning::Line(line)) => Some((pin.to_string(), *line)),
            _ => None,
        });
        let lines: Vec<(String, LineId)> = lines.collect();
        let known = LineIds::of(lines.iter().map(|(pin, line)| (pin.as_str(), *line)));
        for bus in buses {
            if bus.names().any(|pin| unwired.contains(pin)) {
                unwired.push(bus.name.value.clone());
                continue;
            }
            // A pin that is a bus, or an analog line, is told at the pin of the limits file.
            if let Some(bus) = bus.resolve(&known, &[], problems) {
                pins.define(bus.name().to_string(), Meaning::Frames(bus));
            }
        }
        unwired
    }

    /// Tells pins of the part that nothing is said about.
    fn check_bound(&self, part: &Part, problems: &mut Vec<Error>) -> Option<()> {
        let bound = |name: &str| self.pins.iter().any(|(pin, _)| pin.value == name);
        let unbound: Vec<&str> = part.pins.iter().map(|p| p.name.as_str()).filter(|p| !bound(p)).collect();
        let Some(first) = unbound.first() else { return Some(()) };
        let (is, them) = if unbound.len() == 1 { ("pin", "it is") } else { ("pins", "they are") };
        let (reference, name, all) = (&self.reference, &part.name, unbound.join(", "));
        let message = format!("{reference} ({name}): {is} {all} not bound to a line");
        let help = format!(
            "add to pins: {first} = \"LINE\", or {first} = false if {them} not wired; limits that need it are then left out"
        );
        problems.push(wrong(&self.place, message, help));
        None
    }

    /// Tells limits that are asked for and not there.
    fn check_only(&self, part: &Part, problems: &mut Vec<Error>) {
        let known = || part.limits.iter().map(|limit| limit.symbol.as_str());
        let wanted = self.only.iter().flatten();
        for only in wanted.filter(|only| known().all(|symbol| symbol != only.value)) {
            let message = format!("{} has no limit '{}'", part.name, only.value);
            problems.push(wrong(&only.place, message, suggest(&only.value, known(), "limit")));
        }
    }

    /// The limits that are to be checked, and the symbols of those whose pins are not wired.
    fn bind(
        &self,
        part: &Part,
        (pins, unwired): (&Scope, &[String]),
        places: &[(String, Places)],
        problems: &mut Vec<Error>,
    ) -> (Vec<BoundLimit>, Vec<String>) {
        let chosen = |limit: &&Limit| {
            self.only.as_ref().is_none_or(|only| only.iter().any(|o| o.value == limit.symbol))
        };
        let (mut limits, mut not_wired) = (Vec::new(), Vec::new());
        for limit in part.limits.iter().filter(chosen) {
            if unwired.iter().any(|name| limit_mentions(limit, name)) {
                not_wired.push(limit.symbol.clone());
                continue;
            }
            match BoundLimit::bind(&self.reference, &part.name, limit, pins) {
                Ok(bound) => limits.push(bound),
                Err(wrong) => {
                    let places = places.iter().find(|(symbol, _)| *symbol == limit.symbol);
                    let places = places.map_or(&[][..], |(_, places)| places);
                    let place = places.iter().find(|(key, _)| *key == wrong.key).or(places.first());
                    let place = place.map_or(&self.place, |(_, place)| place);
                    problems.push(moved(wrong.error, ErrorKind::Limits, place));
                }
            }
        }
        (limits, not_wired)
    }

    /// The operating conditions that hold for a part: the chosen ones of those it has.
    fn conditions<'a>(&'a self, known: &'a [String], problems: &mut Vec<Error>) -> Option<&'a str> {
        let chosen = self.conditions.as_ref();
        match (chosen, known) {
            (None, []) => None,
            (None, [only]) => Some(only),
            (None, [first, ..]) => {
                let message = format!("{} has figures for several operating conditions", self.reference);
                let help =
                    format!("choose one with conditions = \"{first}\"; there are: {}", known.join(", "));
                problems.push(wrong(&self.place, message, help));
                Some(first)
            }
            (Some(chosen), _) => {
                if !known.contains(&chosen.value) {
                    let message =
                        format!("{} has no operating conditions '{}'", self.reference, chosen.value);
                    let help = suggest(&chosen.value, known.iter().map(String::as_str), "conditions");
                    problems.push(wrong(&chosen.place, message, help));
                    return known.first().map(String::as_str);
                }
                Some(&chosen.value)
            }
        }
    }
}

fn limit_mentions(limit: &Limit, pin: &str) -> bool {
    let texts = limit.events.texts().into_iter().chain(limit.condition.as_deref());
    texts.into_iter().any(|text| mentions(text, pin))
}
