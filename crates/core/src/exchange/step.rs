//! The steps of an exchange.

use std::str::FromStr;

use crate::bus::{FieldKind, Frame};
use crate::decode::{Pick, Protocol};
use crate::error::{Error, ErrorKind, Result};
use crate::event::FrameTests;
use crate::quantity::Time;

/// One transfer of an exchange.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExchangeStep {
    name: Option<String>,
    bus: usize,
    tests: FrameTests,
    when: Option<FrameTests>,
    times: Repeats,
    length: Option<Taken>,
    fields: Vec<(String, FieldFrom)>,
    at_least: Option<Time>,
    within: Option<Time>,
}

/// What a field of an exchange is taken from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum FieldFrom {
    /// One number.
    Number(Pick),
    /// All data from a place on, each value a field of the same name.
    Rest(usize),
}

/// How often a step comes.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Repeats {
    /// At least so often, at most so often.
    Between(u32, u32),
    /// As often as a field of an earlier step says.
    As(Taken),
}

/// A number that an earlier step gave: a field, and how much more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Taken {
    field: String,
    more: i64,
}

impl Taken {
    /// Of what has come of an exchange; `None` where it has no such field.
    pub(super) fn of(&self, exchange: &Frame) -> Option<u64> {
        // Of a step that came several times, the last one counts.
        let value = exchange.fields.iter().rev().find(|field| field.name == self.field)?.value;
        value.checked_add_signed(self.more)
    }

    /// The name of the field.
    pub fn field(&self) -> &str {
        &self.field
    }
}

impl FromStr for Taken {
    type Err = Error;

    /// `count`, `count+2`, `count-1`.
    fn from_str(text: &str) -> Result<Self> {
        let (field, more) = match text.rfind(['+', '-']) {
            Some(at) if text[at + 1..].trim().bytes().all(|c| c.is_ascii_digit()) && at > 0 => {
                let number: i64 = text[at + 1..].trim().parse().unwrap_or(0);
                (&text[..at], if text[at..].starts_with('-') { -number } else { number })
            }
            _ => (text, 0),
        };
        let field = field.trim();
        if field.is_empty() {
            let error = Error::new(ErrorKind::Unknown, "a number is taken from no field");
            return Err(error.with_help("write the name of a field of an earlier step: count, or count+2"));
        }
        Ok(Taken { field: field.to_string(), more })
    }
}

impl Repeats {
    /// Exactly once.
    pub const ONCE: Repeats = Repeats::Between(1, 1);

    /// How often at least, and at most, after what has come.
    pub(super) fn of(&self, exchange: &Frame) -> (u64, u64) {
        match self {
            Repeats::Between(least, most) => (u64::from(*least), u64::from(*most)),
            Repeats::As(taken) => {
                let times = taken.of(exchange).unwrap_or(0);
                (times, times)
            }
        }
    }
}

impl FromStr for Repeats {
    type Err = Error;

    /// `3`, `1 .. 4`, or the name of a field.
    fn from_str(text: &str) -> Result<Self> {
        let wrong = || {
            let error = Error::new(ErrorKind::Unknown, format!("'{text}' is no number of times"));
            error.with_help("write it like \"3\", \"1 .. 4\", or the name of a field of an earlier step")
        };
        if let Some((least, most)) = text.split_once("..") {
            let number = |part: &str| part.trim().parse::<u32>().ok();
            let (least, most) = number(least).zip(number(most)).ok_or_else(wrong)?;
            if least > most || most == 0 {
                return Err(wrong());
            }
            return Ok(Repeats::Between(least, most));
        }
        match text.trim().parse::<u32>() {
            Ok(0) => Err(wrong()),
            Ok(times) => Ok(Repeats::Between(times, times)),
            Err(_) if text.trim().starts_with(|c: char| c.is_ascii_digit()) => Err(wrong()),
            Err(_) => text.parse().map(Repeats::As),
        }
    }
}

/// How a step is described.
impl ExchangeStep {
    /// A transfer that meets these tests, on the first bus of the exchange.
    pub fn new(tests: FrameTests) -> Self {
        ExchangeStep {
            name: None,
            bus: 0,
            tests,
            when: None,
            times: Repeats::ONCE,
            length: None,
            fields: Vec::new(),
            at_least: None,
            within: None,
        }
    }

    /// With a name.
    #[must_use]
    pub fn called(self, name: impl Into<String>) -> Self {
        ExchangeStep { name: Some(name.into()), ..self }
    }

    /// On another bus of the exchange, counted from 0.
    #[must_use]
    pub fn on(self, bus: usize) -> Self {
        ExchangeStep { bus, ..self }
    }

    /// Only where what has come of the exchange meets these tests; it is left out elsewhere.
    #[must_use]
    pub fn when(self, when: FrameTests) -> Self {
        ExchangeStep { when: Some(when), ..self }
    }

    /// Several times.
    #[must_use]
    pub fn times(self, times: Repeats) -> Self {
        ExchangeStep { times, ..self }
    }

    /// With as many values of data as an earlier step said.
    #[must_use]
    pub fn length(self, length: Taken) -> Self {
        ExchangeStep { length: Some(length), ..self }
    }

    /// Gives the exchange a field.
    #[must_use]
    pub fn field(mut self, name: impl Into<String>, from: Pick) -> Self {
        self.fields.push((name.into(), FieldFrom::Number(from)));
        self
    }

    /// Gives the exchange a field of this name for each value of data from a place on.
    #[must_use]
    pub fn rest(mut self, name: impl Into<String>, from: usize) -> Self {
        self.fields.push((name.into(), FieldFrom::Rest(from)));
        self
    }

    /// It must not begin sooner than this after the end of the step before.
    #[must_use]
    pub fn at_least(self, time: Time) -> Self {
        ExchangeStep { at_least: Some(time), ..self }
    }

    /// It must begin within this after the end of the step before.
    #[must_use]
    pub fn within(self, time: Time) -> Self {
        ExchangeStep { within: Some(time), ..self }
    }

    /// Its name.
    pub fn name(&self) -> Option<&str> {
        self.name.as_deref()
    }

    /// The number of its bus.
    pub fn bus(&self) -> usize {
        self.bus
    }

    /// The shortest and the longest time that may lie between the step before and it.
    pub fn limits(&self) -> (Option<Time>, Option<Time>) {
        (self.at_least, self.within)
    }

    /// Its tests.
    pub fn tests(&self) -> &FrameTests {
        &self.tests
    }

    pub(super) fn fields(&self) -> impl Iterator<Item = (&str, &FieldFrom)> {
        self.fields.iter().map(|(name, from)| (name.as_str(), from))
    }

    /// Bits of the widest value that a field can have; `None` where that is not known.
    pub(super) fn widest(&self, field: &str, protocol: &Protocol) -> Option<u32> {
        let of = |from: &FieldFrom| match from {
            FieldFrom::Number(pick) => pick.bits(|field| protocol.widest(field)),
            FieldFrom::Rest(_) => {
                ["data", "mosi", "miso"].iter().filter_map(|name| protocol.widest(name)).max()
            }
        };
        let own = self.fields.iter().filter(|(name, _)| name == field);
        own.map(|(_, from)| of(from)).collect::<Option<Vec<u32>>>()?.into_iter().max()
    }

    pub(super) fn repeats(&self) -> &Repeats {
        &self.times
    }
}

/// How transfers compare with a step.
impl ExchangeStep {
    /// Whether it has to come at all, after what has come.
    pub(super) fn applies(&self, exchange: &Frame) -> bool {
        self.when.as_ref().is_none_or(|when| when.are_met_by(exchange))
    }

    /// Whether a transfer on its bus is this step.
    pub(super) fn is(&self, transfer: &Frame, exchange: &Frame) -> bool {
        let length = self.length.as_ref();
        let long = length.is_none_or(|length| length.of(exchange) == Some(transfer.length() as u64));
        long && self.tests.are_met_by(transfer)
    }

    /// What it asks for, in words.
    pub(super) fn words(&self, exchange: &Frame) -> String {
        match self.length.as_ref() {
            Some(length) => match length.of(exchange) {
                Some(count) => format!("{}, {count} values ({})", self.tests.text(), length.field()),
                None => format!("{}, with a length that no step gave", self.tests.text()),
            },
            None => self.tests.text().to_string(),
        }
    }

    /// Adds its fields to what has come.
    pub(super) fn add_fields(&self, transfer: &Frame, exchange: &mut Frame) {
        use crate::bus::{Field, word};
        for (name, from) in self.fields() {
            match from {
                FieldFrom::Number(pick) => {
                    if let Some(picked) = pick.of(transfer) {
                        let span = picked.start..picked.end;
                        let field = Field::new(FieldKind::Data, word(name), span, picked.value, picked.bits);
                        exchange.fields.push(field);
                    }
                }
                FieldFrom::Rest(place) => {
                    let data = transfer.fields.iter().filter(|field| field.kind == FieldKind::Data);
                    let own = data.skip(*place).map(|field| Field { name: word(name), ..field.clone() });
                    exchange.fields.extend(own);
                }
            }
        }
    }
}

/// What is wrong with a list of steps.
impl ExchangeStep {
    /// Checks it against its bus, and against the fields that the steps before it give.
    ///
    /// # Errors
    /// When it asks for what its bus does not have, or for a field that no earlier step gives.
    pub fn check(&self, protocol: &Protocol, earlier: &[&str]) -> Result<()> {
        self.tests.check_transfers(protocol)?;
        let taken = self.length.iter().chain(match &self.times {
            Repeats::As(taken) => Some(taken),
            Repeats::Between(..) => None,
        });
        for taken in taken {
            if !earlier.contains(&taken.field.as_str()) {
                let message = format!("no earlier step gives '{}'", taken.field);
                let help =
                    crate::error::suggest(&taken.field, earlier.iter().copied(), "field of an earlier step");
                return Err(Error::new(ErrorKind::Unknown, message).with_help(help));
            }
        }
        if let Some(when) = &self.when {
            when.check_names(earlier)?;
        }
        for (_, from) in self.fields() {
            let FieldFrom::Number(pick) = from else { continue };
            if let Some(field) = pick.fields().find(|field| !protocol.words().contains(field)) {
                let message = format!("this bus has no field '{field}'");
                let help =
                    crate::error::suggest(field, protocol.words().iter().copied(), "field of this bus");
                return Err(Error::new(ErrorKind::Unknown, message).with_help(help));
            }
        }
        Ok(())
    }
}
