//! The order of states, as it stands in a setup.

use super::super::value_names::value as value_of;
use super::board::{Board, wrong};
use crate::error::{Error, suggest};
use crate::expect::{Order, States};
use crate::quantity::Time;
use crate::reader::{NamedText, Placed, Section};

/// States and their order as written.
#[derive(Clone, Debug)]
pub(super) struct DraftStates {
    lines: Option<Placed<Vec<Placed<String>>>>,
    states: Vec<NamedText>,
    order: Option<Placed<Vec<Placed<String>>>>,
    first: Option<Placed<String>>,
    settle: Option<Time>,
}

impl DraftStates {
    pub(super) fn read(section: &Section<'_>) -> Self {
        DraftStates {
            lines: section.list("lines"),
            states: section.map("states").unwrap_or_default(),
            order: section.list("order"),
            first: section.text("first"),
            settle: section.parsed::<Time>("settle").map(|settle| settle.value),
        }
    }

    /// Whether an order is stated.
    pub(super) fn is_stated(&self) -> bool {
        self.order.is_some()
    }
}

impl DraftStates {
    /// Binds them to the lines of the board.
    pub(super) fn resolve(
        &self,
        at: &Placed<String>,
        bus: Option<&Placed<String>>,
        board: &Board<'_>,
        problems: &mut Vec<Error>,
    ) -> Option<Order> {
        let states = match (bus, &self.lines) {
            (Some(bus), None) => self.encoded(bus, board, problems)?,
            (None, Some(lines)) => one_hot(&lines.value, board, problems),
            _ => {
                let help = "either bus = \"STATE\" with states = { idle = \"0x0\" }, or lines = [\"IDLE\", \"RUN\"], \
                            of which one is high";
                problems.push(wrong(at, "the states are those of a bus, or of lines", help));
                return None;
            }
        };
        let names = states.names().into_iter().map(str::to_string).collect::<Vec<_>>();
        let mut number = |name: &str, place: &Placed<String>| {
            let found = names.iter().position(|known| known == name.trim());
            if found.is_none() {
                let help = suggest(name.trim(), names.iter().map(String::as_str), "state");
                problems.push(wrong(place, &format!("there is no state '{}'", name.trim()), &help));
            }
            found
        };
        let mut allowed = Vec::new();
        for item in self.order.iter().flat_map(|list| &list.value) {
            let Some((from, to)) = item.value.split_once("->") else {
                problems.push(wrong(
                    item,
                    &format!("'{}' is no transition", item.value),
                    "write it like \"idle -> run\", or \"run -> idle, halt\"",
                ));
                return None;
            };
            let from = number(from, item);
            // A name may have a comma in it.
            let whole = names.iter().any(|known| known == to.trim());
            let several: Vec<&str> = if whole { vec![to] } else { to.split(',').collect() };
            for to in several {
                if let (Some(from), Some(to)) = (from, number(to, item)) {
                    allowed.push((from, to));
                }
            }
        }
        let first = self.first.as_ref().and_then(|first| number(&first.value, first));
        Some(Order { states, allowed, first, settle: self.settle })
    }

    fn encoded(&self, name: &Placed<String>, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<States> {
        let Some(bus) = board.buses.iter().find(|bus| bus.name == name.value) else {
            let help = suggest(&name.value, board.buses.iter().map(|bus| bus.name.as_str()), "bus");
            problems.push(wrong(name, &format!("there is no parallel bus '{}'", name.value), &help));
            return None;
        };
        let mut names = Vec::new();
        for (state, value) in &self.states {
            let text = value.value.clone().unwrap_or_default();
            let fits = value_of(&text).filter(|value| bus.lines.len() >= 64 || value >> bus.lines.len() == 0);
            match fits {
                Some(value) => names.push((state.value.clone(), value)),
                None => problems.push(wrong(
                    state,
                    &format!("'{text}' is no value of bus {} ({} lines)", bus.name, bus.lines.len()),
                    "write it like \"0x4\", \"0b0100\" or \"4\"",
                )),
            }
        }
        if names.is_empty() {
            // A bus may have names for its values anyway.
            names.extend(bus.names.iter().map(|(value, name)| (name.to_string(), value)));
        }
        if names.is_empty() {
            let help = "add states = { idle = \"0x0\", run = \"0x1\" }";
            problems.push(wrong(name, "the values of the states are missing", help));
        }
        Some(States::Encoded { bus: bus.clone(), names })
    }
}

fn one_hot(lines: &[Placed<String>], board: &Board<'_>, problems: &mut Vec<Error>) -> States {
    let mut found = Vec::new();
    for line in lines {
        match board.lines.iter().find(|(name, _)| *name == line.value) {
            Some((name, id)) => found.push((name.to_string(), *id)),
            None => {
                let help = suggest(&line.value, board.lines.iter().map(|(name, _)| *name), "line");
                problems.push(wrong(line, &format!("there is no line '{}'", line.value), &help));
            }
        }
    }
    States::OneHot(found)
}
