//! Expectations, as they stand in a setup.

use super::board::{Board, wrong};
use super::message::DraftMessage;
use super::states::DraftStates;
use crate::decode::{Protocol, SerialBus};
use crate::error::{Error, ErrorKind, suggest};
use crate::event::{FrameTests, Program};
use crate::exchange::{Exchange, ExchangeStep};
use crate::expect::{Beginning, Exchanges, Expectation, Expected, Messages};
use crate::quantity::Time;
use crate::reader::{Placed, Section, moved};
use crate::setup::files::Files;

/// An expectation as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftExpectation {
    pub(in crate::setup) name: Placed<String>,
    bus: Option<Placed<String>>,
    messages: Vec<DraftMessage>,
    in_turn: bool,
    transfers: Option<Placed<Vec<Placed<String>>>>,
    field: Option<Placed<String>>,
    has: Option<Placed<String>>,
    after: Option<Placed<String>>,
    once: bool,
    within: Option<Time>,
    complete: bool,
    states: DraftStates,
}

/// Reads an expectation.
pub(in crate::setup) fn read_expectation(section: &Section<'_>) -> Option<DraftExpectation> {
    let name = section.required("name", "name = \"greeting\"");
    let own = DraftMessage::read(section);
    let mut messages = Vec::new();
    for inner in section.sections("messages", "text") {
        match DraftMessage::read(&inner) {
            Some(message) => messages.push(message),
            None => inner.missing("bytes', 'text' or 'file", "{ text = \"ready\" }"),
        }
        inner.finish();
    }
    let is_list = section.has("messages");
    let draft = DraftExpectation {
        name: name?,
        bus: section.text("bus"),
        messages: own.into_iter().chain(messages).collect(),
        in_turn: section.flag("in-turn").unwrap_or(false),
        transfers: section.list("transfers"),
        field: section.text("field"),
        has: section.text("has"),
        after: section.text("after"),
        once: section.flag("once").unwrap_or(false),
        within: section.parsed::<Time>("within").map(|within| within.value),
        complete: section.flag("complete").unwrap_or(false),
        states: DraftStates::read(section),
    };
    let has_message = is_list || ["text", "bytes", "file"].iter().any(|key| section.has(key));
    let kinds = [has_message, draft.transfers.is_some(), draft.states.is_stated()];
    match kinds.iter().filter(|kind| **kind).count() {
        0 => {
            let example = "bytes = \"08 10 00\", transfers = [\"write, length == 3\"], or order = [\"idle -> run\", \"run -> idle\"]";
            section.missing("bytes', 'text', 'file', 'messages', 'transfers' or 'order", example);
        }
        1 => {}
        _ => {
            let message = "this expects more than one of messages, transfers and an order of states";
            section.complain(message, "make an expectation of each");
        }
    }
    Some(draft)
}

impl DraftExpectation {
    /// Binds it to the lines and buses of the board.
    pub(in crate::setup) fn resolve(&self, board: &Board<'_>, files: &mut Files<'_>) -> Option<Expectation> {
        let before = files.problems.len();
        let what = if self.states.is_stated() {
            let states = self.states.resolve(&self.name, self.bus.as_ref(), board, &mut files.problems);
            states.map(Expected::Order)
        } else if let Some(transfers) = &self.transfers {
            let transfers = self.transfers(transfers, board, &mut files.problems);
            transfers.map(|transfers| Expected::Transfers(Box::new(transfers)))
        } else {
            self.messages(board, files).map(|messages| Expected::Messages(Box::new(messages)))
        };
        let what = what.filter(|_| files.problems.len() == before)?;
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
        board.serial_bus(name, problems).map(|bus| (name, bus))
    }

    /// Where it begins.
    fn begins(&self, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<Beginning> {
        let Some(after) = &self.after else {
            return Some(if self.once { Beginning::Record } else { Beginning::Transfer });
        };
        let program = Program::compile(&after.value, board.scope);
        let program = program.map_err(|error| problems.push(moved(error, ErrorKind::Setup, &after.place)));
        let program = Box::new(program.ok()?);
        Some(if self.once { Beginning::AfterFirst(program) } else { Beginning::After(program) })
    }

    fn transfers(
        &self,
        transfers: &Placed<Vec<Placed<String>>>,
        board: &Board<'_>,
        problems: &mut Vec<Error>,
    ) -> Option<Exchanges> {
        let (_, bus) = self.serial_bus(board, problems)?;
        let mut tests = |text: &Placed<String>| board.transfer_tests(text, bus, problems);
        let wanted: Vec<FrameTests> = transfers.value.iter().filter_map(&mut tests).collect();
        let only = self.has.as_ref().and_then(&mut tests);
        if transfers.value.is_empty() {
            problems.push(wrong(&self.name, "this expects nothing", "give at least one transfer"));
        }
        if let Some(field) = &self.field {
            let help = r#"name it in the tests: transfers = ["mosi bytes \"08 10\""]"#;
            problems.push(wrong(field, "a transfer is tested as a whole, not by one field", help));
        }
        let begins = self.begins(board, problems)?;
        let exchange = Exchange::new(self.name.value.clone(), vec![bus.clone()]).ok()?;
        let exchange =
            wanted.into_iter().fold(exchange, |exchange, tests| exchange.step(ExchangeStep::new(tests)));
        let exchange = match only {
            Some(only) => exchange.only(only),
            None => exchange,
        };
        Some(Exchanges { exchange, begins, within: self.within, complete: self.complete })
    }

    fn messages(&self, board: &Board<'_>, files: &mut Files<'_>) -> Option<Messages> {
        let (name, bus) = self.serial_bus(board, &mut files.problems)?;
        let mut any_of = Vec::new();
        for draft in &self.messages {
            let Some(message) = draft.resolve(files) else { continue };
            let place = draft.place().unwrap_or(&self.name);
            let problems = &mut files.problems;
            if message.is_empty() {
                problems.push(wrong(place, "this expects nothing", "give at least one byte"));
            }
            let names = ["data", "mosi", "miso", "tdi", "tdo"];
            let widest = match &self.field {
                Some(field) => bus.protocol().widest(&field.value),
                None => names.iter().filter_map(|name| bus.protocol().widest(name)).max(),
            };
            if let Some(bits) = widest.filter(|bits| *bits < 64 && message.largest() >> bits != 0) {
                let message =
                    format!("0x{:X} has more than the {bits} bits of a value on this bus", message.largest());
                problems.push(wrong(place, &message, "leave spaces between the values: \"08 10 00\""));
            }
            any_of.push(message);
        }
        let problems = &mut files.problems;
        if self.messages.is_empty() || self.messages.iter().all(|draft| draft.place().is_none()) {
            problems.push(wrong(&self.name, "this expects nothing", "give at least one message"));
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
        let begins = self.begins(board, problems)?;
        let is_stream = !matches!(begins, Beginning::Transfer);
        let only = self.has.as_ref().and_then(|has| match is_stream {
            false => board.transfer_tests(has, bus, problems),
            true => {
                let tests = FrameTests::parse(&has.value).and_then(|tests| tests.of(bus));
                tests.map_err(|error| problems.push(moved(error, ErrorKind::Setup, &has.place))).ok()
            }
        });
        if is_stream && any_of.iter().any(|message| !message.ends_by_itself()) {
            let help =
                "give it a {length} before, or leave 'after' and 'once' out: a transfer says where it ends";
            problems.push(wrong(&self.name, "nothing says where '...' ends", help));
        }
        if !is_stream && bus.carries_one_value() && any_of.iter().any(|message| message.shortest() > 1) {
            let help = "say where the message begins: after = \"RESET_N rises\", or once = true for the record's \
                        start; or give the bus a transfer-gap or transfer-length";
            problems.push(wrong(name, "each transfer of this bus has one value, and the message more", help));
        }
        let field = self.field.as_ref().map(|field| field.value.clone());
        let (in_turn, within, complete) = (self.in_turn, self.within, self.complete);
        Some(Messages { bus: bus.clone(), field, only, any_of, in_turn, begins, within, complete })
    }
}
