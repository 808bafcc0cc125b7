//! The sections of values and what they cause.

use super::expect::{Board, wrong};
use crate::decode::{Pick, SerialBus};
use crate::error::{Error, ErrorKind, suggest};
use crate::event::{Meaning, Program};
use crate::expect::{Expectation, Expected, Follow, FollowSource, FollowTarget, ValueOn};
use crate::quantity::{Rational, Time, Voltage};
use crate::reader::{Placed, Section, moved};

/// A value and what it causes, as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftFollow {
    pub(in crate::setup) name: Placed<String>,
    from: DraftEnd,
    to: DraftEnd,
    per_count: Option<Placed<String>>,
    offset: Option<Placed<String>>,
    at_least: Option<Time>,
    within: Time,
}

/// Where a value is asked for, or shows.
#[derive(Clone, Debug)]
struct DraftEnd {
    name: Placed<String>,
    has: Option<Placed<String>>,
    value: Option<Placed<String>>,
    at: Option<Placed<String>>,
    tolerance: Option<Voltage>,
}

impl DraftEnd {
    fn read(section: &Section<'_>, key: &'static str, example: &str) -> Option<Self> {
        let Some(inner) = section.section(key) else {
            section.must_have(key, example);
            return None;
        };
        let (bus, analog) = (inner.text("bus"), inner.text("analog"));
        let end = DraftEnd {
            name: match (bus, analog) {
                (Some(name), None) | (None, Some(name)) => name,
                _ => {
                    inner.complain("this is a value of one 'bus', or of one 'analog' line", example);
                    return None;
                }
            },
            has: inner.text("has"),
            value: inner.text("value"),
            at: inner.text("at"),
            tolerance: inner.parsed::<Voltage>("tolerance").map(|tolerance| tolerance.value),
        };
        inner.finish();
        Some(end)
    }
}

impl DraftFollow {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let name = section.required("name", "name = \"the output follows what is written\"");
        let from =
            DraftEnd::read(section, "from", "from = { bus = \"memory\", has = \"write\", value = \"data\" }");
        let to = DraftEnd::read(section, "to", "to = { analog = \"TIDE_OUT\", tolerance = \"20 mV\" }");
        let within = section.parsed::<Time>("within");
        section.must_have("within", "within = \"5 us\"");
        Some(DraftFollow {
            name: name?,
            from: from?,
            to: to?,
            per_count: section.text("per-count"),
            offset: section.text("offset"),
            at_least: section.parsed::<Time>("at-least").map(|time| time.value),
            within: within?.value,
        })
    }

    pub(in crate::setup) fn resolve(
        &self,
        board: &Board<'_>,
        problems: &mut Vec<Error>,
    ) -> Option<Expectation> {
        let before = problems.len();
        let from = self.source(board, problems);
        let to = self.target(board, problems);
        let is_voltage = matches!(to, Some(FollowTarget::Voltage(..)));
        let mut number = |text: &Option<Placed<String>>, default: Rational| match text {
            None => default,
            Some(text) => scale(&text.value, is_voltage).unwrap_or_else(|| {
                let help = match is_voltage {
                    true => "write it in volts: per-count = \"10 mV\", or \"3.3 V / 4095\"",
                    false => "write a number without a unit: per-count = \"4\", or \"1/16\"",
                };
                problems.push(wrong(text, &format!("'{}' does not scale what shows", text.value), help));
                default
            }),
        };
        let per_count = number(&self.per_count, Rational::ONE);
        let offset = number(&self.offset, Rational::ZERO);
        if is_voltage && self.per_count.is_none() {
            let help = "add the voltage of one count: per-count = \"10 mV\"";
            problems.push(wrong(&self.to.name, "nothing says which voltage a value is", help));
        }
        if self.at_least.is_some_and(|least| least > self.within) || self.within <= Time::ZERO {
            let message = "no time is within this and not before it";
            problems.push(wrong(&self.name, message, "give 'within' the longer time, above zero"));
        }
        let (at_least, within) = (self.at_least, self.within);
        let follow = Follow { from: from?, to: to?, per_count, offset, at_least, within };
        let what = Expected::Follow(Box::new(follow));
        (problems.len() == before).then(|| Expectation { name: self.name.value.clone(), what })
    }

    fn source(&self, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<FollowSource> {
        let end = &self.from;
        match board.scope.get(&end.name.value) {
            Some(Meaning::Frames(bus)) => {
                let on = value_on(end, bus, board, problems)?;
                Some(FollowSource::Transfers(Box::new(on)))
            }
            Some(Meaning::Bus(bus)) => {
                let Some(at) = &end.at else {
                    let help = "say when it counts: from = { bus = \"DATA\", at = \"WE_N rises\" }";
                    problems.push(wrong(&end.name, "parallel lines have a value at all times", help));
                    return None;
                };
                let program = Program::compile(&at.value, board.scope);
                let program =
                    program.map_err(|error| problems.push(moved(error, ErrorKind::Setup, &at.place))).ok()?;
                Some(FollowSource::Lines(bus.clone(), Box::new(program)))
            }
            _ => {
                unknown(&end.name, board, problems);
                None
            }
        }
    }

    fn target(&self, board: &Board<'_>, problems: &mut Vec<Error>) -> Option<FollowTarget> {
        let end = &self.to;
        match board.scope.get(&end.name.value) {
            Some(Meaning::Frames(bus)) => {
                let on = value_on(end, bus, board, problems)?;
                Some(FollowTarget::Transfers(Box::new(on)))
            }
            Some(Meaning::Bus(bus)) => Some(FollowTarget::Lines(bus.clone())),
            Some(Meaning::Analog(line)) => match end.tolerance {
                Some(tolerance) if tolerance > Voltage::ZERO => Some(FollowTarget::Voltage(*line, tolerance)),
                _ => {
                    let help = "add tolerance = \"20 mV\"";
                    problems.push(wrong(&end.name, "nothing says how near a voltage must come", help));
                    None
                }
            },
            _ => {
                unknown(&end.name, board, problems);
                None
            }
        }
    }
}

fn unknown(name: &Placed<String>, board: &Board<'_>, problems: &mut Vec<Error>) {
    let help = suggest(&name.value, board.scope.names(), "bus or analog line");
    problems.push(wrong(name, &format!("'{}' is no bus and no analog line", name.value), &help));
}

fn value_on(
    end: &DraftEnd,
    bus: &SerialBus,
    board: &Board<'_>,
    problems: &mut Vec<Error>,
) -> Option<ValueOn> {
    let before = problems.len();
    let only = end.has.as_ref().and_then(|has| board.transfer_tests(has, bus, problems));
    let value = match &end.value {
        None => {
            let words = bus.protocol().words();
            let field =
                ["data", "mosi", "miso"].into_iter().find(|field| words.contains(field)).unwrap_or("data");
            let help = format!("say which: value = \"{field}[0]\"");
            problems.push(wrong(&end.name, "a transfer has more than one value", &help));
            return None;
        }
        Some(text) => match text.value.parse::<Pick>() {
            Ok(pick) => pick,
            Err(error) => {
                problems.push(wrong(text, error.message(), error.help().unwrap_or_default()));
                return None;
            }
        },
    };
    let words = bus.protocol().words();
    if let Some(field) = value.fields().find(|field| !words.contains(field))
        && let Some(text) = &end.value
    {
        let help = suggest(field, words.iter().copied(), "field of this bus");
        problems.push(wrong(text, &format!("this bus has no field '{field}'"), &help));
    }
    (problems.len() == before).then(|| ValueOn { bus: bus.clone(), only, value })
}

/// What one count is: `10 mV`, `3.3 V / 4095`, or a plain number.
fn scale(text: &str, is_voltage: bool) -> Option<Rational> {
    if !is_voltage {
        return text.trim().parse().ok().or_else(|| text.trim().parse::<i64>().ok().map(Rational::from));
    }
    let (volts, counts) = match text.split_once('/') {
        Some((volts, counts)) => (volts, counts.trim().parse::<i64>().ok().filter(|counts| *counts != 0)?),
        None => (text, 1),
    };
    volts.trim().parse::<Voltage>().ok()?.to_rational().checked_div(Rational::from(counts))
}
