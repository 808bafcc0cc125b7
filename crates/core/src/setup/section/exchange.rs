//! The sections of exchanges.

use std::str::FromStr;

use super::expect::{Board, wrong};
use super::value_names::{field_names, read_field_names};
use crate::decode::{FieldNames, Pick, SerialBus};
use crate::error::{Error, ErrorKind};
use crate::event::FrameTests;
use crate::exchange::{Exchange, ExchangeStep, Repeats, Taken};
use crate::expect::{Beginning, Exchanges, Expectation, Expected};
use crate::quantity::Time;
use crate::reader::{NamedText, Placed, Section, moved};

/// An exchange as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftExchange {
    pub(in crate::setup) name: Placed<String>,
    bus: Option<Placed<String>>,
    has: Option<Placed<String>>,
    longest_pause: Option<Time>,
    complete: bool,
    steps: Vec<DraftStep>,
    names: FieldNames,
}

/// A step as written.
#[derive(Clone, Debug)]
struct DraftStep {
    name: Option<Placed<String>>,
    bus: Option<Placed<String>>,
    has: Placed<String>,
    when: Option<Placed<String>>,
    times: Option<Placed<Repeats>>,
    optional: bool,
    length: Option<Placed<Taken>>,
    at_least: Option<Time>,
    within: Option<Time>,
    fields: Vec<NamedText>,
}

impl DraftExchange {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let name = section.required("name", "name = \"read the time\"");
        let bus = section.text("bus");
        let steps = section.sections("step", "name");
        let steps = steps.iter().filter_map(|inner| {
            let step = DraftStep::read(inner);
            inner.finish();
            step
        });
        let steps: Vec<DraftStep> = steps.collect();
        if !section.has("step") {
            section.missing(
                "step",
                "[[exchange.step]] with name = \"command\" and has = \"write, length == 1\"",
            );
        }
        let fields = || steps.iter().flat_map(|step| step.fields.iter().map(|(name, _)| name.value.as_str()));
        let names = field_names(section, &read_field_names(section), fields(), None);
        Some(DraftExchange {
            name: name?,
            bus,
            names,
            has: section.text("has"),
            longest_pause: section.parsed::<Time>("longest-pause").map(|pause| pause.value),
            complete: section.flag("complete").unwrap_or(false),
            steps,
        })
    }
}

impl DraftStep {
    fn read(section: &Section<'_>) -> Option<Self> {
        let has = section.required("has", "has = \"write, bytes \\\"02\\\"\"");
        let times = section.text("times");
        let times = times.and_then(|text| match text.value.parse::<Repeats>() {
            Ok(value) => Some(Placed { value, place: text.place }),
            Err(error) => {
                section.refuse(&text.place, error.message(), error.help().unwrap_or_default());
                None
            }
        });
        let step = DraftStep {
            name: section.text("name"),
            bus: section.text("bus"),
            has: has?,
            when: section.text("when"),
            times,
            optional: section.flag("optional").unwrap_or(false),
            length: section.parsed::<Taken>("length"),
            at_least: section.parsed::<Time>("at-least").map(|time| time.value),
            within: section.parsed::<Time>("within").map(|time| time.value),
            fields: section.map("fields").unwrap_or_default(),
        };
        if let (Some(least), Some(most)) = (step.at_least, step.within)
            && least > most
        {
            let message = format!("it may not begin before {least}, and not after {most}");
            section.complain(message, "give 'within' the longer time");
        }
        Some(step)
    }

    fn times(&self, problems: &mut Vec<Error>) -> Repeats {
        match (&self.times, self.optional) {
            (None, false) => Repeats::ONCE,
            (None, true) => Repeats::Between(0, 1),
            (Some(times), false) => times.value.clone(),
            (Some(times), true) => match times.value {
                Repeats::Between(_, most) => Repeats::Between(0, most),
                _ => {
                    let message = "an optional step cannot take its number from a field";
                    let help = "leave 'optional' out: a field of zero leaves it out";
                    problems.push(problem(&times.place, message, help));
                    times.value.clone()
                }
            },
        }
    }
}

fn problem(at: &crate::error::TextPlace, message: &str, help: &str) -> Error {
    crate::setup::files::wrong(at, message, help)
}

impl DraftExchange {
    /// The buses that its steps are on, each once.
    fn buses(&self, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<Vec<SerialBus>> {
        let before = problems.len();
        let mut buses: Vec<SerialBus> = Vec::new();
        for name in self.bus.iter().chain(self.steps.iter().filter_map(|step| step.bus.as_ref())) {
            if let Some(bus) = board.serial_bus(name, problems)
                && !buses.iter().any(|known| known.name() == bus.name())
            {
                buses.push(bus.clone());
            }
        }
        if self.bus.is_none()
            && let Some(step) = self.steps.iter().find(|step| step.bus.is_none())
        {
            problems.push(wrong(
                &step.has,
                "this step has no bus",
                "give the step, or the exchange, a 'bus'",
            ));
        }
        (problems.len() == before).then_some(buses)
    }

    /// The exchange on the board's buses.
    pub(in crate::setup) fn resolve(&self, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<Exchange> {
        let before = problems.len();
        let buses = self.buses(board, problems)?;
        let at_name = |error: Error| wrong(&self.name, error.message(), error.help().unwrap_or_default());
        let mut exchange = match Exchange::new(self.name.value.clone(), buses.clone()) {
            Ok(exchange) => exchange,
            Err(error) => {
                problems.push(at_name(error));
                return None;
            }
        };
        if let (Some(has), Some(bus)) = (&self.has, buses.first()) {
            let known = buses
                .iter()
                .find(|bus| FrameTests::parse(&has.value).is_ok_and(|tests| tests.of_transfers(bus).is_ok()));
            if let Some(only) = board.transfer_tests(has, known.unwrap_or(bus), problems) {
                exchange = exchange.only(only);
            }
        }
        if let Some(pause) = self.longest_pause {
            exchange = exchange.longest_pause(pause);
        }
        exchange = exchange.names(self.names.clone());
        let mut earlier: Vec<String> = Vec::new();
        for draft in &self.steps {
            let own = draft.bus.as_ref().or(self.bus.as_ref());
            let number =
                buses.iter().position(|bus| own.is_some_and(|name| bus.name() == name.value)).unwrap_or(0);
            let known = (earlier.as_slice(), exchange.bus().ok());
            let Some(step) = draft.resolve(&buses[number], known, board, problems) else { continue };
            earlier.extend(draft.fields.iter().map(|(name, _)| name.value.clone()));
            exchange = exchange.step(step.on(number));
        }
        if !self.steps.is_empty() && self.steps.iter().all(|step| matches!(step.least(), Some(0))) {
            let message = "every step may be left out, so that nothing says when it begins";
            problems.push(wrong(
                &self.name,
                message,
                "let at least one step be neither optional nor conditional",
            ));
        }
        if let Err(error) = exchange.bus()
            && problems.len() == before
            && !self.steps.is_empty()
        {
            problems.push(at_name(error));
        }
        (problems.len() == before && !self.steps.is_empty()).then_some(exchange)
    }

    /// That each of them comes whole.
    pub(in crate::setup) fn expectation(&self, exchange: &Exchange) -> Expectation {
        let exchanges = Exchanges {
            exchange: exchange.clone(),
            begins: Beginning::Transfer,
            within: None,
            complete: self.complete,
        };
        Expectation { name: self.name.value.clone(), what: Expected::Exchange(Box::new(exchanges)) }
    }
}

impl DraftStep {
    /// The fewest times that it comes, where that is known.
    fn least(&self) -> Option<u32> {
        if self.optional || self.when.is_some() {
            return Some(0);
        }
        match self.times.as_ref().map(|times| &times.value) {
            Some(Repeats::Between(least, _)) => Some(*least),
            Some(_) => None,
            None => Some(1),
        }
    }

    fn resolve(
        &self,
        bus: &SerialBus,
        (earlier, before_it): (&[String], Option<SerialBus>),
        board: &Board<'_>,
        problems: &mut Vec<Error>,
    ) -> Option<ExchangeStep> {
        let before = problems.len();
        let tests = board.transfer_tests(&self.has, bus, problems);
        let earlier: Vec<&str> = earlier.iter().map(String::as_str).collect();
        let when = self.when.as_ref().and_then(|when| {
            let possible = |tests: FrameTests| {
                tests.check_names(&earlier)?;
                before_it.as_ref().map_or(Ok(tests.clone()), |bus| tests.of(bus))
            };
            let tests = FrameTests::parse(&when.value).and_then(possible);
            tests.map_err(|error| problems.push(moved(error, ErrorKind::Setup, &when.place))).ok()
        });
        let mut step = ExchangeStep::new(tests?).times(self.times(problems));
        if let Some(name) = &self.name {
            step = step.called(name.value.clone());
        }
        if let Some(when) = when {
            step = step.when(when);
        }
        if let Some(length) = &self.length {
            step = step.length(length.value.clone());
        }
        if let Some(least) = self.at_least {
            step = step.at_least(least);
        }
        if let Some(within) = self.within {
            step = step.within(within);
        }
        for (name, from) in &self.fields {
            let text = from.value.clone().unwrap_or_default();
            if !is_a_name(&name.value) {
                let help = "use letters, digits, - and _: it is asked for like any field";
                problems.push(wrong(name, &format!("'{}' is no name for a field", name.value), help));
                continue;
            }
            step = match rest(&text) {
                Some(place) => step.rest(name.value.clone(), place),
                None => match Pick::from_str(&text) {
                    Ok(pick) => step.field(name.value.clone(), pick),
                    Err(error) => {
                        problems.push(problem(
                            &from.place,
                            error.message(),
                            error.help().unwrap_or_default(),
                        ));
                        continue;
                    }
                },
            };
        }
        if let Err(error) = step.check(bus.protocol(), &earlier) {
            problems.push(wrong(&self.has, error.message(), error.help().unwrap_or_default()));
        }
        (problems.len() == before).then_some(step)
    }
}

/// `data[2..]`: all data from a place on.
fn rest(text: &str) -> Option<usize> {
    text.trim().strip_prefix("data[")?.strip_suffix("..]")?.parse().ok()
}

/// Whether a field of this name can be asked for without quotes.
fn is_a_name(name: &str) -> bool {
    let reserved = ["exchange", "broken", "unclear", "cut-off", "fault", "length", "text", "bytes"];
    name.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '-')
        && !reserved.contains(&name)
}
