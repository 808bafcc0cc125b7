//! The sections of parts: their limits files, bound to the lines of the board.

use crate::capture::Attachment;
use crate::error::{Error, ErrorKind, TextPlace, suggest};
use crate::event::{Meaning, Scope, mentions};
use crate::limit::{BoundLimit, Limit};
use crate::line::LineId;
use crate::setup::PlacedPart;
use crate::setup::files::{Files, wrong};
use crate::setup::parts::{read_part, unknown_pin};
use crate::setup::reader::{NamedText, Placed, Section, moved};
use crate::setup::source::relative;

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

    /// The part with its limits bound to the board. `lines` and `buses` are the names of those.
    pub(in crate::setup) fn resolve(
        &self,
        board: &Scope,
        lines: &[&Placed<String>],
        buses: &[&Placed<String>],
        files: &mut Files<'_>,
    ) -> Option<PlacedPart> {
        // The name is relative to the file that mentions it, which a message place names in full.
        let mentioned_in = files.read.iter().find(|a| *self.place.name == *files.texts.display(&a.name));
        let mentioned_in = mentioned_in.map_or(String::new(), |a| a.name.clone());
        let target = relative(&mentioned_in, &self.limits.value);
        let text = match files.read.iter().find(|a| a.name == target) {
            Some(known) => known.text.clone(),
            None => {
                let text = files.text(&target, &self.limits.place)?;
                files.read.push(Attachment { name: target.clone(), text: text.clone() });
                text
            }
        };
        let (read, problems) = read_part(&files.texts.display(&target), &text);
        let broken = !problems.is_empty();
        files.report_once(problems);
        let condition = self.conditions(&read.figures.conditions, &mut files.problems).map(str::to_string);
        for value in read.figures.unknown_values(&self.values) {
            let known: Vec<String> = read.figures.values.iter().map(|(name, _)| name.value.clone()).collect();
            let help = suggest(&value.value, known.iter().map(String::as_str), "value of this part");
            files.problems.push(wrong(
                &value.place,
                format!("the part has no value '{}'", value.value),
                help,
            ));
        }
        let places: Vec<_> =
            read.figures.rows.iter().map(|row| row.symbol.clone()).zip(read.places.clone()).collect();
        let (part, problems) = read.resolve(condition.as_deref(), &self.values);
        let broken = broken || !problems.is_empty();
        files.report_once(problems);
        let mut pins = Scope::new();
        let mut unwired = Vec::new();
        for (pin, line) in &self.pins {
            if part.pins.iter().all(|p| p.name != pin.value) && !broken {
                files.problems.push(unknown_pin(&part, pin));
            }
            match &line.value {
                None => unwired.push(pin.value.as_str()),
                Some(name) => match board.get(name) {
                    Some(
                        meaning @ (Meaning::Line(_)
                        | Meaning::Analog(_)
                        | Meaning::Bus(_)
                        | Meaning::Frames(_)),
                    ) => {
                        pins.define(pin.value.clone(), meaning.clone());
                    }
                    // A bus that is wrong itself has been complained about already.
                    _ if buses.iter().any(|b| b.value == *name) => {
                        pins.define(pin.value.clone(), Meaning::Line(LineId(0)));
                    }
                    _ => {
                        let known = lines.iter().chain(buses);
                        let help = suggest(name, known.map(|n| n.value.as_str()), "line or bus");
                        let message = format!(
                            "pin {} of {}: there is no line or bus '{name}'",
                            pin.value, self.reference
                        );
                        files.problems.push(wrong(&line.place, message, help));
                        // Stand in for it, so that this is the only complaint.
                        pins.define(pin.value.clone(), Meaning::Line(LineId(0)));
                    }
                },
            }
        }
        let bound = |name: &str| self.pins.iter().any(|(pin, _)| pin.value == name);
        let unbound: Vec<&str> = part.pins.iter().map(|p| p.name.as_str()).filter(|p| !bound(p)).collect();
        if !unbound.is_empty() {
            let (is, them) = if unbound.len() == 1 { ("pin", "it is") } else { ("pins", "they are") };
            let message = format!(
                "{} ({}): {is} {} not bound to a line",
                self.reference,
                part.name,
                unbound.join(", ")
            );
            let help = format!(
                "add to pins: {} = \"LINE\", or {} = false if {them} not wired; limits that need it are then left out",
                unbound[0], unbound[0]
            );
            files.problems.push(wrong(&self.place, message, help));
            return None;
        }
        for only in self.only.iter().flatten() {
            if part.limits.iter().all(|l| l.symbol != only.value) {
                let help = suggest(&only.value, part.limits.iter().map(|l| l.symbol.as_str()), "limit");
                files.problems.push(wrong(
                    &only.place,
                    format!("{} has no limit '{}'", part.name, only.value),
                    help,
                ));
            }
        }
        let mut limits = Vec::new();
        let mut not_wired = Vec::new();
        for limit in &part.limits {
            let places = places.iter().find(|(symbol, _)| *symbol == limit.symbol);
            let places = places.map_or(&[][..], |(_, places)| places);
            let chosen = self.only.as_ref().is_none_or(|only| only.iter().any(|o| o.value == limit.symbol));
            if !chosen || broken {
                continue;
            }
            if unwired.iter().any(|pin| limit_mentions(limit, pin)) {
                not_wired.push(limit.symbol.clone());
                continue;
            }
            match BoundLimit::bind(&self.reference, &part.name, limit, &pins) {
                Ok(bound) => limits.push(bound),
                Err(wrong) => {
                    let place = places.iter().find(|(key, _)| *key == wrong.key).or(places.first());
                    let place = place.map_or(&self.place, |(_, place)| place);
                    files.problems.push(moved(wrong.error, ErrorKind::Limits, place));
                }
            }
        }
        Some(PlacedPart { reference: self.reference.clone(), part, limits, not_wired })
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
