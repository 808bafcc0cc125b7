//! From files to a setup: includes, names, limits files, and all problems at once.

use std::collections::HashMap;

use super::PlacedPart;
use super::draft::{Draft, read_draft};
use super::files::{Files, wrong};
use super::names::{Names, check_names, define_all};
use super::section::analog::resolve_analog;
use super::section::exchange::DraftExchange;
use super::section::expect::Board;
use super::section::limit::resolve_limits;
use super::section::line::{LineIds, resolve_lines};
use super::section::part;
use super::section::trigger::check_event;
use super::source::{Texts, is_capture, relative};
use super::vectors::Vectors;
use super::{Import, Setup};
use crate::capture::Attachment;
use crate::decode::SerialBus;
use crate::error::{Error, Place, Result};
use crate::event::Scope;
use crate::exchange::Exchange;
use crate::line::{Bus, LineId};

/// Deepest nesting of includes.
const DEEPEST: usize = 16;

/// What is stated of records in a setup file and those that it includes, whatever else is wrong with them.
///
/// # Errors
/// When the file cannot be read.
pub(super) fn import_of(name: &str, texts: &dyn Texts) -> Result<Import> {
    let mut files = Files::new(texts);
    let text = texts.read(name)?;
    Ok(read_whole(&mut files, name, text, &mut Vec::new()).import)
}

pub(super) fn load(name: &str, texts: &dyn Texts, vectors: &Vectors<'_>) -> Result<Setup> {
    let mut files = Files::new(texts);
    let text = texts.read(name)?;
    let mut open = Vec::new();
    let mut draft = read_whole(&mut files, name, text, &mut open);
    let Draft { buses, lines, .. } = &mut draft;
    buses.retain_mut(|bus| bus.expand(vectors, lines, &mut files.problems));
    let setup = resolve(draft, &mut files);
    let mut problems = files.problems;
    // In the order of the files and of the lines in each.
    let places = setup.texts.iter().enumerate();
    let order: HashMap<String, usize> = places.map(|(place, t)| (texts.display(&t.name), place)).collect();
    problems.sort_by_key(|problem| match problem.place() {
        Some(Place::Text(at)) => (order.get(&*at.name).copied(), at.span.start),
        _ => (None, 0),
    });
    // What is read in two ways is wrong in both.
    problems.dedup_by(|later, before| match (later.place(), before.place()) {
        (Some(Place::Text(a)), Some(Place::Text(b))) => {
            (&a.name, &a.span, later.message()) == (&b.name, &b.span, before.message())
        }
        _ => false,
    });
    match Error::many(problems) {
        Some(error) => Err(error),
        None => Ok(setup),
    }
}

/// A file with all that it includes. One that was read before says nothing new: it is included once.
fn read_whole(files: &mut Files<'_>, name: &str, text: String, open: &mut Vec<String>) -> Draft {
    let (includes, own, problems) = read_draft(&files.texts.display(name), &text);
    files.problems.extend(problems);
    files.keep(Attachment { name: name.to_string(), text });
    open.push(name.to_string());
    let mut whole = Draft::default();
    for include in includes {
        let mut target = relative(name, &include.value);
        if is_capture(&target) {
            match files.texts.setup_in(&target) {
                Ok(setup) => target = setup,
                Err(error) => {
                    let help = error.help().unwrap_or("include the setup file instead").to_string();
                    files.problems.push(wrong(&include.place, error.message(), help));
                    continue;
                }
            }
        }
        if open.contains(&target) || open.len() > DEEPEST {
            let message = format!("'{}' includes itself, or too many files deep", include.value);
            files.problems.push(wrong(&include.place, message, "take the include out"));
            continue;
        }
        if files.is_read(&target) {
            continue;
        }
        match files.text(&target, &include.place) {
            Some(text) => whole.overlay(read_whole(files, &target, text, open)),
            None => continue,
        }
    }
    open.pop();
    whole.overlay(own);
    whole
}

/// Whether a capture says what to connect to.
fn connect_carried(draft: &Draft, files: &Files<'_>) -> bool {
    let said = draft.connect.as_ref().and_then(|connect| files.of_place(&connect.place));
    said.is_some_and(|file| files.texts.is_carried(&file.name))
}

/// What a draft means: names become lines and buses, texts become programs.
fn resolve(draft: Draft, files: &mut Files<'_>) -> Setup {
    let connect_carried = connect_carried(&draft, files);
    let problems = &mut files.problems;
    let analog = resolve_analog(&draft.analog, problems);
    let lines = resolve_lines(&draft.lines, &analog, problems);
    let ids = LineIds::new(&draft.lines);
    let buses: Vec<Bus> = draft.buses.iter().filter_map(|bus| bus.resolve(&ids, problems)).collect();
    let serial = draft.serial.iter().filter_map(|bus| bus.resolve(&ids, &draft.buses, problems));
    let serial: Vec<SerialBus> = serial.collect();
    let registers =
        draft.registers.iter().map(|register| register.resolve(&draft.serial, problems)).collect();
    let events: Vec<(String, String)> =
        draft.events.iter().map(|(name, event)| (name.value.clone(), event.value.clone())).collect();
    check_names(&draft.names(), problems);
    let board_lines = || lines.iter().enumerate().map(|(i, l)| (l.line.name.as_str(), LineId(i))).collect();
    let nothing = Scope::new();
    let board = Board { serial: &serial, buses: &buses, lines: board_lines(), scope: &nothing };
    let exchanges: Vec<(&DraftExchange, Exchange)> = draft
        .exchanges
        .iter()
        .filter_map(|exchange| Some((exchange, exchange.resolve(&board, problems)?)))
        .collect();
    let exchanged: Vec<SerialBus> =
        exchanges.iter().filter_map(|(_, exchange)| exchange.bus().ok()).collect();
    let mut scope = Scope::new();
    let names = Names {
        lines: &lines,
        analog: &analog,
        buses: &buses,
        serial: &serial,
        exchanged: &exchanged,
        events: &events,
    };
    define_all(&mut scope, names);
    draft.events.iter().for_each(|(_, event)| check_event(event, &scope, problems));
    let trigger = draft.trigger.as_ref().map(|trigger| trigger.resolve(&scope, problems));
    let board = Board { serial: &serial, buses: &buses, lines: board_lines(), scope: &scope };
    let marks = draft.marks.iter().map(|mark| mark.resolve(&scope, problems)).collect();
    let sampling = draft.sampling.resolve(problems);
    let mut expectations: Vec<_> =
        exchanges.iter().map(|(draft, exchange)| draft.expectation(exchange)).collect();
    expectations.extend(draft.expectations.iter().filter_map(|expected| expected.resolve(&board, files)));
    let follows = draft.follows.iter();
    expectations.extend(follows.filter_map(|follow| follow.resolve(&board, &mut files.problems)));
    let wires = part::Wires {
        scope: &scope,
        lines: draft.lines.iter().map(|line| &line.name).collect(),
        buses: draft.buses.iter().map(|bus| &bus.name).collect(),
    };
    let mut parts: Vec<_> = draft.parts.iter().filter_map(|part| part.resolve(&wires, files)).collect();
    parts.extend(resolve_limits(&draft.limits, &scope, &mut files.problems));
    // Of a part that could not be read, the limits are not known.
    if let Some(trigger) = draft.trigger.as_ref().filter(|_| parts.len() >= draft.parts.len()) {
        let limits = parts.iter().flat_map(|part: &PlacedPart| &part.limits);
        trigger.check_limits(limits, &mut files.problems);
    }
    Setup {
        title: draft.title,
        connect_carried,
        connect: draft.connect.map(|c| c.value),
        sampling,
        time_out: draft.sampling.time_out,
        import: draft.import,
        lines,
        analog,
        stimuli: draft.stimuli,
        serial,
        registers,
        exchanges: exchanges.into_iter().map(|(_, exchange)| exchange).collect(),
        exchanged,
        buses,
        events,
        trigger,
        parts,
        expectations,
        marks,
        changes: Vec::new(),
        texts: std::mem::take(&mut files.read),
    }
}
