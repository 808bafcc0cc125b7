//! From syntax tree to a program over lines.

use super::condition::{Test3, both};
use super::form::{Form, Guarded, Stage, Tree, plain_levels};
use super::frames::{Asked, FrameForm, FrameTests};
use super::names::{Meaning, Scope};
use super::values::test_of;
use crate::error::{Error, Result, suggest};
use crate::event::syntax::{
    BusUnit, Comparison, Condition, Direction, Event, Name, Simple, SimpleKind, StepLimit, Test, TextSpan,
    ValuePattern, located,
};
use crate::line::{LineId, Side, Signal};

/// Checks an expression against the names it uses.
pub(super) struct Checker<'a> {
    pub(super) text: &'a str,
    pub(super) scope: &'a Scope,
}

impl Checker<'_> {
    fn refuse<T>(&self, span: &TextSpan, message: impl Into<String>, help: &str) -> Result<T> {
        Err(located(self.text, span.clone(), message.into(), Some(help.to_string())))
    }

    pub(super) fn event(&self, event: &Event, seen: &mut Vec<String>) -> Result<Guarded> {
        let mut stages: Vec<Stage> = Vec::new();
        let mut unless = Vec::new();
        for (i, step) in event.steps.iter().enumerate() {
            let any = step.any.iter().map(|simple| self.simple(simple, seen)).collect::<Result<Vec<_>>>()?;
            let event = match <[Guarded; 1]>::try_from(any) {
                Ok([one]) => one,
                Err(any) => Guarded { tree: Tree::Any(any), guard: None },
            };
            if !step.absent {
                let unless = std::mem::take(&mut unless);
                let times = step.times.unwrap_or(1);
                stages.push(Stage { event, absent: false, unless, times, limit: step.limit });
                continue;
            }
            let help = "write 'A then no B within 5 us', or 'A then no B then C'";
            if i == 0 {
                return self.refuse(&step.span, "'no' needs something that comes before it", help);
            }
            if step.times.is_some() {
                return self.refuse(&step.span, "'no' and a count do not go together", help);
            }
            match step.limit {
                Some(StepLimit::Within(_)) => {
                    let unless = std::mem::take(&mut unless);
                    stages.push(Stage { event, absent: true, unless, times: 1, limit: step.limit });
                }
                Some(StepLimit::After(_)) => {
                    return self.refuse(&step.span, "'no' and 'after' do not go together", help);
                }
                None => unless.push(event),
            }
        }
        if !unless.is_empty() {
            let help = "without a time it can always still come: add 'within 5 us', or what must come first";
            return self.refuse(
                &event.span,
                "the last step waits for something not to happen, without end",
                help,
            );
        }
        Ok(match <[Stage; 1]>::try_from(stages) {
            Ok([Stage { event, times: 1, .. }]) => event,
            Ok([stage]) => Guarded { tree: Tree::Sequence(vec![stage]), guard: None },
            Err(stages) => Guarded { tree: Tree::Sequence(stages), guard: None },
        })
    }

    fn simple(&self, simple: &Simple, seen: &mut Vec<String>) -> Result<Guarded> {
        let guard = simple.guard.as_ref().map(|g| self.condition(g)).transpose()?;
        let form = match &simple.kind {
            SimpleKind::Edge(name, Direction::Changes) => {
                let bus = self.scope.find_bus(self.text, name)?;
                Form::Changes(bus.lines.iter().map(Signal::from).collect())
            }
            SimpleKind::Edge(name, direction) => {
                Form::Edge(self.scope.find_line(self.text, name)?.into(), *direction)
            }
            SimpleKind::Driven(name, driven) => {
                match self.scope.find_bus(self.text, name)?.lines.as_slice() {
                    [line] => {
                        let direction = if *driven { Direction::Rises } else { Direction::Falls };
                        Form::Edge(Signal::Drive(*line), direction)
                    }
                    lines => Form::When(all_driven(lines, *driven)),
                }
            }
            SimpleKind::When(condition) => Form::When(self.condition(condition)?),
            SimpleKind::Lasting(condition, lasting) => Form::Lasting(self.condition(condition)?, *lasting),
            SimpleKind::Named(name) => {
                let (body, event) = self.scope.find_event(self.text, name, seen)?;
                seen.push(name.text.clone());
                let inner = Checker { text: &body, scope: self.scope }.event(&event, seen);
                seen.pop();
                let inner = inner.map_err(|e| self.within(name, &e))?;
                return Ok(Guarded { guard: both(inner.guard, guard), ..inner });
            }
            SimpleKind::Group(event) => {
                let inner = self.event(event, seen)?;
                return Ok(Guarded { guard: both(inner.guard, guard), ..inner });
            }
            SimpleKind::Crossing(name, direction, level) => {
                let side = if *direction == Direction::Falls { Side::Above } else { Side::Below };
                Form::Edge(self.scope.find_crossing(self.text, name, *level, side)?.into(), *direction)
            }
            SimpleKind::Frame(name, unit, tests) => {
                let bus = self.scope.find_frames(self.text, name)?.clone();
                let tests = FrameTests::new(tests.clone(), self.text);
                let tests = match unit {
                    BusUnit::Frame => tests.of(&bus)?,
                    BusUnit::Transfer => tests.of_transfers(&bus)?,
                };
                Form::Frame(Box::new(FrameForm { bus, asked: Asked::Units(*unit, tests) }))
            }
            SimpleKind::Mark(name, mark) => {
                let bus = self.scope.find_frames(self.text, name)?.clone();
                let marks = bus.protocol().marks();
                let Some(known) = marks.iter().find(|known| **known == mark.text) else {
                    let help = suggest(&mark.text, marks.iter().copied(), "instant of this bus");
                    let message = format!("'{}' has no instant '{}'", name.text, mark.text);
                    return self.refuse(&mark.span, message, &help);
                };
                Form::Frame(Box::new(FrameForm { asked: Asked::Mark(known), bus }))
            }
        };
        Ok(Guarded { tree: Tree::Simple(form), guard })
    }

    /// An error inside a named event, told at the name.
    fn within(&self, name: &Name, inner: &Error) -> Error {
        let message = format!("the event '{}' is wrong: {inner}", name.text);
        located(self.text, name.span.clone(), message, inner.help().map(str::to_string))
    }

    pub(super) fn condition(&self, condition: &Condition) -> Result<Test3> {
        Ok(match condition {
            Condition::And(all) => {
                let all = Test3::And(all.iter().map(|c| self.condition(c)).collect::<Result<_>>()?);
                if let Some(signal) = contradiction(&all) {
                    let name = signal.line().and_then(|line| self.scope.line_name(line)).unwrap_or("a line");
                    let message =
                        format!("this can never hold: {name} would have to be high and low at once");
                    return self.refuse(
                        &(0..self.text.len()),
                        message,
                        "take one of them out, or join them with 'or'",
                    );
                }
                all
            }
            Condition::Or(any) => Test3::Or(any.iter().map(|c| self.condition(c)).collect::<Result<_>>()?),
            Condition::Not(inner) => Test3::Not(Box::new(self.condition(inner)?)),
            Condition::Level(name, high) => {
                if let Some(Meaning::Event(_)) = self.scope.get(&name.text) {
                    return self.refuse(
                        &name.span,
                        format!("'{}' is a named event; only a line is high or low", name.text),
                        "an event is an instant; a condition holds over time",
                    );
                }
                Test3::Level(self.scope.find_line(self.text, name)?.into(), *high)
            }
            Condition::Bus(name, test) => self.bus_test(name, test)?,
            Condition::Driven(name, driven) => {
                all_driven(&self.scope.find_bus(self.text, name)?.lines, *driven)
            }
            Condition::Voltage(name, above, level) => {
                let side = if *above { Side::Below } else { Side::Above };
                Test3::Level(self.scope.find_crossing(self.text, name, *level, side)?.into(), *above)
            }
        })
    }

    fn bus_test(&self, name: &Name, test: &Test) -> Result<Test3> {
        let bus = self.scope.find_bus(self.text, name)?;
        let test = &test_of(self.text, &name.text, test, &bus.names)?;
        let width = bus.lines.len() as u32;
        let most = if width >= 64 { u64::MAX } else { (1 << width) - 1 };
        let fits = |value: &ValuePattern| -> Result<()> {
            if value.bits <= most {
                return Ok(());
            }
            let needs = 64 - value.bits.leading_zeros();
            let message = format!("the value needs {needs} bits, '{}' has {width}", name.text);
            self.refuse(&value.span, message, &format!("values of '{}' are at most {most:#X}", name.text))
        };
        let exact = |value: &ValuePattern| -> Result<u64> {
            fits(value)?;
            if value.open & most != 0 {
                return self.refuse(
                    &value.span,
                    "a value with open digits can only be compared with '==' or '!='",
                    "give all digits",
                );
            }
            Ok(value.bits)
        };
        Ok(match test {
            Test::Row(row) => {
                let span = row.first().map_or(name.span.clone(), |value| value.span.clone());
                return self.refuse(
                    &span,
                    "only frames have values in a row",
                    "compare the bus with one value",
                );
            }
            Test::In(low, high) => {
                let (from, to) = (exact(low)?, exact(high)?);
                if from > to {
                    let help = format!("write 'in {to:#x} .. {from:#x}'");
                    return self.refuse(&(low.span.start..high.span.end), "the range is upside down", &help);
                }
                Test3::Range(bus, from, to)
            }
            Test::Compare(Comparison::Equal, value) => {
                fits(value)?;
                Test3::Match(bus, value.bits, value.open & most)
            }
            Test::Compare(Comparison::NotEqual, value) => {
                fits(value)?;
                Test3::Not(Box::new(Test3::Match(bus, value.bits, value.open & most)))
            }
            Test::Compare(Comparison::LessOrEqual, value) => Test3::Range(bus, 0, exact(value)?),
            Test::Compare(Comparison::GreaterOrEqual, value) => Test3::Range(bus, exact(value)?, most),
            Test::Compare(Comparison::Less, value) => match exact(value)?.checked_sub(1) {
                Some(last) => Test3::Range(bus, 0, last),
                None => {
                    return self.refuse(&value.span, "no value is less than 0", "values are not negative");
                }
            },
            Test::Compare(Comparison::Greater, value) => {
                let first = exact(value)?;
                if first == most {
                    let message = format!("no value of '{}' is greater than {first:#X}", name.text);
                    return self.refuse(&value.span, message, "lower the value");
                }
                Test3::Range(bus, first + 1, most)
            }
        })
    }
}

/// Whether all lines are driven, or all of them float.
fn all_driven(lines: &[LineId], driven: bool) -> Test3 {
    let mut tests: Vec<Test3> = lines.iter().map(|line| Test3::Level(Signal::Drive(*line), driven)).collect();
    if tests.len() == 1 { tests.remove(0) } else { Test3::And(tests) }
}

/// A line that would have to have both levels, among levels that must all be met.
fn contradiction(test: &Test3) -> Option<Signal> {
    let mut levels = Vec::new();
    if let Test3::And(all) = test {
        for part in all {
            let known = levels.len();
            if plain_levels(part, &mut levels).is_none() {
                levels.truncate(known);
            }
        }
    }
    levels.iter().find(|(line, high)| levels.contains(&(*line, !high))).map(|(line, _)| *line)
}
