//! The sections of expectations.

use crate::decode::{Protocol, SerialBus};
use crate::error::{Error, ErrorKind, Place, suggest};
use crate::event::{FrameTests, Program, Scope};
use crate::expect::{Expectation, Expected, Order, Payload, States, Transfers};
use crate::line::{Bus, LineId};
use crate::quantity::Time;

use crate::reader::{NamedText, Placed, Section, moved};

/// An expectation as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftExpectation {
    pub(in crate::setup) name: Placed<String>,
    bus: Option<Placed<String>>,
    lines: Option<Placed<Vec<Placed<String>>>>,
    text: Option<Placed<String>>,
    bytes: Option<Placed<Vec<Placed<String>>>>,
    transfers: Option<Placed<Vec<Placed<String>>>>,
    field: Option<Placed<String>>,
    has: Option<Placed<String>>,
    after: Option<Placed<String>>,
    within: Option<Time>,
    complete: bool,
    states: Vec<NamedText>,
    order: Option<Placed<Vec<Placed<String>>>>,
    first: Option<Placed<String>>,
    settle: Option<Time>,
}

/// Reads an expectation.
pub(in crate::setup) fn read_expectation(section: &Section<'_>) -> Option<DraftExpectation> {
    let name = section.required("name", "name = \"greeting\"");
    let draft = DraftExpectation {
        name: name?,
        bus: section.text("bus"),
        lines: section.list("lines"),
        text: section.text("text"),
        bytes: section.list("bytes"),
        transfers: section.list("transfers"),
        field: section.text("field"),
        has: section.text("has"),
        after: section.text("after"),
        within: section.parsed::<Time>("within").map(|within| within.value),
        complete: section.flag("complete").unwrap_or(false),
        states: section.map("states").unwrap_or_default(),
        order: section.list("order"),
        first: section.text("first"),
        settle: section.parsed::<Time>("settle").map(|settle| settle.value),
    };
    let payload = draft.text.is_some() || draft.bytes.is_some();
    let kinds = [payload, draft.transfers.is_some(), draft.order.is_some()];
    match kinds.iter().filter(|kind| **kind).count() {
        0 => {
            let example = "bytes = \"08 10 00\", transfers = [\"write, length == 3\"], or order = [\"idle -> run\", \"run -> idle\"]";
            section.missing("bytes', 'text', 'transfers' or 'order", example);
        }
        1 => {}
        _ => {
            let message = "this expects more than one of bytes, transfers and an order of states";
            section.complain(message, "make an expectation of each");
        }
    }
    Some(draft)
}

/// What names in an expectation may stand for.
pub(in crate::setup) struct Board<'a> {
    pub(in crate::setup) serial: &'a [SerialBus],
    pub(in crate::setup) buses: &'a [Bus],
    pub(in crate::setup) lines: Vec<(&'a str, LineId)>,
    pub(in crate::setup) scope: &'a Scope,
}

impl DraftExpectation {
    /// Binds it to the lines and buses of the board.
    pub(in crate::setup) fn resolve(
        &self,
        board: &Board<'_>,
        problems: &mut Vec<Error>,
    ) -> Option<Expectation> {
        let before = problems.len();
        let what = if self.order.is_some() {
            self.states(board, problems).map(Expected::Order)
        } else if let Some(transfers) = &self.transfers {
            let transfers = self.transfers(transfers, board, problems);
            transfers.map(|transfers| Expected::Transfers(Box::new(transfers)))
        } else {
            self.payload(board, problems).map(|payload| Expected::Payload(Box::new(payload)))
        };
        let what = what.filter(|_| problems.len() == before)?;
        Some(Expectation { name: self.name.value.clone(), what })
    }

    /// The serial bus that it is about.
    fn serial_bus<'b>(
        &self,
        board: &'b Board<'_>,
        problems: &mut Vec<Error>,
    ) -> Option<(&Placed<String>, &'b SerialBus)> {
        let Some(name) = &self.bus else {
            problems.push(wrong(
                &self.name,
                "this expectation has no 'bus'",
                "name a bus with a kind: bus = \"console\"",
            ));
            return None;
        };
        let bus = board.serial.iter().find(|bus| bus.name() == name.value);
        if bus.is_none() {
            let help = suggest(&name.value, board.serial.iter().map(SerialBus::name), "serial bus");
            problems.push(wrong(name, &format!("there is no serial bus '{}'", name.value), &help));
        }
        bus.map(|bus| (name, bus))
    }

    /// The event after which it begins.
    fn begins_after(&self, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<Program> {
        let after = self.after.as_ref()?;
        let program = Program::compile(&after.value, board.scope);
        program.map_err(|error| problems.push(moved(error, ErrorKind::Setup, &after.place))).ok()
    }

    fn transfers(
        &self,
        transfers: &Placed<Vec<Placed<String>>>,
        board: &Board<'_>,
        problems: &mut Vec<Error>,
    ) -> Option<Transfers> {
        let (_, bus) = self.serial_bus(board, problems)?;
        let mut tests = |text: &Placed<String>| {
            let tests = FrameTests::parse(&text.value)
                .and_then(|tests| tests.check_transfers(bus.protocol()).map(|()| tests));
            tests.map_err(|error| problems.push(moved(error, ErrorKind::Setup, &text.place))).ok()
        };
        let wanted: Vec<FrameTests> = transfers.value.iter().filter_map(&mut tests).collect();
        let only = self.has.as_ref().and_then(&mut tests);
        if transfers.value.is_empty() {
            problems.push(wrong(&self.name, "this expects nothing", "give at least one transfer"));
        }
        if let Some(field) = &self.field {
            let help = r#"name it in the tests: transfers = ["mosi bytes \"08 10\""]"#;
            problems.push(wrong(field, "a transfer is tested as a whole, not by one field", help));
        }
        let after = self.begins_after(board, problems);
        let (within, complete) = (self.within, self.complete);
        Some(Transfers { bus: bus.clone(), only, wanted, after, within, complete })
    }

    fn payload(&self, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<Payload> {
        let (name, bus) = self.serial_bus(board, problems)?;
        let mut values = Vec::new();
        if let Some(text) = &self.text {
            values.extend(text.value.bytes().map(u64::from));
        }
        for item in self.bytes.iter().flat_map(|list| &list.value) {
            for word in item.value.split_whitespace() {
                match u64::from_str_radix(word.trim_start_matches("0x"), 16) {
                    Ok(value) => values.push(value),
                    Err(_) => problems.push(wrong(
                        item,
                        &format!("'{word}' is no hexadecimal number"),
                        "write bytes in hex, with blanks between them: \"08 10 00\"",
                    )),
                }
            }
        }
        if values.is_empty() {
            let place = self.text.as_ref().unwrap_or(&self.name);
            problems.push(wrong(place, "this expects nothing", "give at least one byte"));
        }
        if let Some(field) = &self.field
            && !bus.protocol().words().contains(&field.value.as_str())
        {
            let help = suggest(&field.value, bus.protocol().words().iter().copied(), "field of this bus");
            problems.push(wrong(field, &format!("this bus has no field '{}'", field.value), &help));
        }
        if self.field.is_none() && matches!(bus.protocol(), Protocol::Spi(_)) {
            let help = "say which way: field = \"mosi\", or field = \"miso\"";
            problems.push(wrong(name, "an SPI bus carries two words at once", help));
        }
        let only = self.has.as_ref().and_then(|has| {
            let tests =
                FrameTests::parse(&has.value).and_then(|tests| tests.check(bus.protocol()).map(|()| tests));
            tests.map_err(|error| problems.push(moved(error, ErrorKind::Setup, &has.place))).ok()
        });
        let after = self.begins_after(board, problems);
        let field = self.field.as_ref().map(|field| field.value.clone());
        let (within, complete) = (self.within, self.complete);
        Some(Payload { bus: bus.clone(), field, only, values, after, within, complete })
    }

    fn states(&self, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<Order> {
        let states = match (&self.bus, &self.lines) {
            (Some(bus), None) => self.encoded(bus, board, problems)?,
            (None, Some(lines)) => one_hot(&lines.value, board, problems),
            _ => {
                let help = "either bus = \"STATE\" with states = { idle = \"0x0\" }, or lines = [\"IDLE\", \"RUN\"], \
                            of which one is high";
                problems.push(wrong(&self.name, "the states are those of a bus, or of lines", help));
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
            for to in to.split(',') {
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
            let parsed = match text.strip_prefix("0b") {
                Some(bits) => u64::from_str_radix(bits, 2).ok(),
                None => match text.strip_prefix("0x") {
                    Some(hex) => u64::from_str_radix(hex, 16).ok(),
                    None => text.parse().ok(),
                },
            };
            let fits = parsed.filter(|value| bus.lines.len() >= 64 || value >> bus.lines.len() == 0);
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

fn wrong(at: &Placed<String>, message: &str, help: &str) -> Error {
    Error::new(ErrorKind::Setup, message).with_help(help).at(Place::Text(at.place.clone()))
}
