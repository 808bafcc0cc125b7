//! From syntax tree to a program over lines.

use super::ast::*;
use super::names::{Meaning, Scope};
use super::parser::located;
use crate::error::{Error, Result};
use crate::line::{Bus, Level, LineId, Value};
use crate::time::Time;

/// A condition over lines, ready to be asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Test3 {
    And(Vec<Test3>),
    Or(Vec<Test3>),
    Not(Box<Test3>),
    Level(LineId, bool),
    /// The bus lies between two values, both included.
    Range(Bus, u64, u64),
    /// The bus has these bits where none is open.
    Match(Bus, u64, u64),
}

impl Test3 {
    /// Whether it holds; `None` when unknown levels leave that open.
    pub(crate) fn eval(&self, level: &mut impl FnMut(LineId) -> Level) -> Option<bool> {
        match self {
            Test3::And(all) => {
                let mut outcome = Some(true);
                for test in all {
                    match test.eval(level) {
                        Some(false) => return Some(false),
                        None => outcome = None,
                        Some(true) => {}
                    }
                }
                outcome
            }
            Test3::Or(any) => {
                let mut outcome = Some(false);
                for test in any {
                    match test.eval(level) {
                        Some(true) => return Some(true),
                        None => outcome = None,
                        Some(false) => {}
                    }
                }
                outcome
            }
            Test3::Not(inner) => inner.eval(level).map(|holds| !holds),
            Test3::Level(line, high) => level(*line).bit().map(|bit| bit == *high),
            Test3::Range(bus, low, high) => {
                let Value { bits, unknown, .. } = bus.value(level);
                // The value lies between all open bits low and all open bits high.
                let (least, most) = (bits, bits | unknown);
                if least >= *low && most <= *high {
                    Some(true)
                } else if least_from(bits, unknown, *low).is_none_or(|least| least > *high) {
                    Some(false)
                } else {
                    None
                }
            }
            Test3::Match(bus, bits, open) => {
                let value = bus.value(level);
                if (value.bits ^ bits) & !open & !value.unknown != 0 {
                    Some(false)
                } else if value.unknown & !open != 0 {
                    None
                } else {
                    Some(true)
                }
            }
        }
    }

    fn collect(&self, lines: &mut Vec<LineId>) {
        match self {
            Test3::And(tests) | Test3::Or(tests) => tests.iter().for_each(|t| t.collect(lines)),
            Test3::Not(inner) => inner.collect(lines),
            Test3::Level(line, _) => lines.push(*line),
            Test3::Range(bus, ..) | Test3::Match(bus, ..) => lines.extend(&bus.lines),
        }
    }

    pub(crate) fn lines(&self) -> Vec<LineId> {
        let mut lines = Vec::new();
        self.collect(&mut lines);
        lines.sort_unstable();
        lines.dedup();
        lines
    }
}

/// The least value from `low` on that has these bits where they are not unknown.
fn least_from(bits: u64, unknown: u64, low: u64) -> Option<u64> {
    let fits = |value: u64, mask: u64| (value ^ bits) & !unknown & mask == 0;
    if fits(low, u64::MAX) {
        return Some(low);
    }
    // Like `low` down to some bit, which is one instead of zero, and as small as possible below.
    (0..u64::BITS).find_map(|place| {
        let (bit, above) = (1 << place, u64::MAX.checked_shl(place + 1).unwrap_or(0));
        let raised = low & bit == 0 && (bits | unknown) & bit != 0 && fits(low, above);
        raised.then_some(low & above | bit | bits & (bit - 1))
    })
}

/// What a program waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    Edge(LineId, Direction),
    Changes(Vec<LineId>),
    When(Test3),
    Lasting(Test3, Lasting),
}

/// A condition checked against the lines and buses it names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ConditionProgram {
    pub(crate) test: Test3,
    pub(crate) lines: Vec<LineId>,
    text: String,
}

impl ConditionProgram {
    /// Reads and checks a condition.
    ///
    /// # Errors
    /// [`ErrorKind::Event`](crate::ErrorKind::Event) with the column, for what does not parse, an
    /// unknown name, or a value that the bus cannot have.
    pub fn compile(text: &str, scope: &Scope) -> Result<Self> {
        let test = Checker { text, scope }.condition(&Condition::parse(text)?)?;
        Ok(ConditionProgram { lines: test.lines(), test, text: text.to_string() })
    }

    /// Whether it holds, given a way to ask for levels; `None` when unknown levels leave that open.
    pub fn holds(&self, mut level: impl FnMut(LineId) -> Level) -> Option<bool> {
        self.test.eval(&mut level)
    }

    /// The lines it looks at.
    pub fn lines(&self) -> &[LineId] {
        &self.lines
    }

    /// The text it was made from.
    pub fn text(&self) -> &str {
        &self.text
    }
}

/// An event checked against the lines and buses it names, ready to be searched for.
///
/// Sequences (`then`), alternatives (`or`), counts, `no`, and frames parse but are not evaluated
/// yet; compiling them is refused by name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Program {
    pub(crate) form: Form,
    pub(crate) guard: Option<Test3>,
    text: String,
}

impl Program {
    /// Reads and checks an event.
    ///
    /// # Errors
    /// [`ErrorKind::Event`](crate::ErrorKind::Event) with the column, for what does not parse, an
    /// unknown name, a value that the bus cannot have, or a form that is not evaluated yet.
    pub fn compile(text: &str, scope: &Scope) -> Result<Self> {
        let (form, guard) = Checker { text, scope }.event(&Event::parse(text)?, &mut Vec::new())?;
        Ok(Program { form, guard, text: text.to_string() })
    }

    /// The same event, only where a condition holds too.
    #[must_use]
    pub fn guarded(mut self, condition: &ConditionProgram) -> Self {
        self.guard = both(self.guard, Some(condition.test.clone()));
        self
    }

    /// The text it was made from.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The lines whose edges make it happen.
    pub fn event_lines(&self) -> Vec<LineId> {
        match &self.form {
            Form::Edge(line, _) => vec![*line],
            Form::Changes(lines) => lines.clone(),
            Form::When(test) | Form::Lasting(test, _) => test.lines(),
        }
    }

    /// All lines it looks at, those of its `while` included.
    pub fn lines(&self) -> Vec<LineId> {
        let mut lines = self.event_lines();
        lines.extend(self.guard.iter().flat_map(Test3::lines));
        lines.sort_unstable();
        lines.dedup();
        lines
    }

    /// The edge it is, if it is the edge of one line, and the levels its `while` asks for, if those
    /// are plain levels that must all hold: what a simple hardware trigger can do.
    pub fn as_qualified_edge(&self) -> Option<LineEdge> {
        let (line, direction) = match &self.form {
            Form::Edge(line, direction) => (*line, *direction),
            Form::Changes(lines) if lines.len() == 1 => (lines[0], Direction::Changes),
            _ => return None,
        };
        let mut levels = Vec::new();
        if let Some(guard) = &self.guard {
            plain_levels(guard, &mut levels)?;
        }
        Some(LineEdge { line, direction, levels })
    }
}

/// An edge of one line while others have given levels.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LineEdge {
    /// The line with the edge.
    pub line: LineId,
    /// Which way it changes.
    pub direction: Direction,
    /// Lines and whether they must be high.
    pub levels: Vec<(LineId, bool)>,
}

/// Collects a conjunction of levels, bus patterns included; `None` when it is anything else.
fn plain_levels(test: &Test3, levels: &mut Vec<(LineId, bool)>) -> Option<()> {
    match test {
        Test3::And(all) => all.iter().try_for_each(|t| plain_levels(t, levels)),
        Test3::Level(line, high) => {
            levels.push((*line, *high));
            Some(())
        }
        Test3::Match(bus, bits, open) => {
            for (place, line) in bus.lines.iter().rev().enumerate() {
                if open >> place & 1 == 0 {
                    levels.push((*line, bits >> place & 1 == 1));
                }
            }
            Some(())
        }
        _ => None,
    }
}

struct Checker<'a> {
    text: &'a str,
    scope: &'a Scope,
}

impl Checker<'_> {
    fn refuse<T>(&self, span: &Span, message: impl Into<String>, help: &str) -> Result<T> {
        Err(located(self.text, span.clone(), message.into(), Some(help.to_string())))
    }

    fn event(&self, event: &Event, seen: &mut Vec<String>) -> Result<(Form, Option<Test3>)> {
        let later = "search for its parts one by one for now";
        if let [_, second, ..] = event.steps.as_slice() {
            return self.refuse(&second.span, "sequences with 'then' cannot be evaluated yet", later);
        }
        let Some(step) = event.steps.first() else {
            return self.refuse(&event.span, "an event has at least one step", later);
        };
        if step.absent {
            return self.refuse(&step.span, "'no' cannot be evaluated yet", later);
        }
        if step.times.is_some() {
            return self.refuse(&step.span, "counts with 'times' cannot be evaluated yet", later);
        }
        match step.any.as_slice() {
            [simple] => self.simple(simple, seen),
            [_, second, ..] => {
                self.refuse(&second.span, "alternatives with 'or' cannot be evaluated yet", later)
            }
            [] => self.refuse(&step.span, "a step has at least one event", later),
        }
    }

    fn simple(&self, simple: &Simple, seen: &mut Vec<String>) -> Result<(Form, Option<Test3>)> {
        let guard = simple.guard.as_ref().map(|g| self.condition(g)).transpose()?;
        let form = match &simple.kind {
            SimpleKind::Edge(name, Direction::Changes) => {
                Form::Changes(self.scope.find_bus(self.text, name)?.lines)
            }
            SimpleKind::Edge(name, direction) => {
                Form::Edge(self.scope.find_line(self.text, name)?, *direction)
            }
            SimpleKind::When(condition) => Form::When(self.condition(condition)?),
            SimpleKind::Lasting(condition, lasting) => Form::Lasting(self.condition(condition)?, *lasting),
            SimpleKind::Named(name) => {
                let (body, event) = self.scope.find_event(self.text, name, seen)?;
                seen.push(name.text.clone());
                let inner = Checker { text: &body, scope: self.scope }.event(&event, seen);
                seen.pop();
                let (form, inner_guard) = inner.map_err(|e| self.within(name, &e))?;
                return Ok((form, both(inner_guard, guard)));
            }
            SimpleKind::Group(event) => {
                let (form, inner_guard) = self.event(event, seen)?;
                return Ok((form, both(inner_guard, guard)));
            }
            SimpleKind::Crossing(name, ..) => {
                return self.refuse(&name.span, "analog lines cannot be searched yet", "use a digital line");
            }
            SimpleKind::Frame(name, _) => {
                return self.refuse(
                    &name.span,
                    "frames cannot be searched yet",
                    "search for edges of the bus's lines",
                );
            }
        };
        Ok((form, guard))
    }

    /// An error inside a named event, told at the name.
    fn within(&self, name: &Name, inner: &Error) -> Error {
        let message = format!("the event '{}' is wrong: {inner}", name.text);
        located(self.text, name.span.clone(), message, inner.help().map(str::to_string))
    }

    fn condition(&self, condition: &Condition) -> Result<Test3> {
        Ok(match condition {
            Condition::And(all) => Test3::And(all.iter().map(|c| self.condition(c)).collect::<Result<_>>()?),
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
                Test3::Level(self.scope.find_line(self.text, name)?, *high)
            }
            Condition::Bus(name, test) => self.bus_test(name, test)?,
        })
    }

    fn bus_test(&self, name: &Name, test: &Test) -> Result<Test3> {
        let bus = self.scope.find_bus(self.text, name)?;
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

fn both(a: Option<Test3>, b: Option<Test3>) -> Option<Test3> {
    match (a, b) {
        (Some(a), Some(b)) => Some(Test3::And(vec![a, b])),
        (a, b) => a.or(b),
    }
}

/// Ticks after the start of a stretch at which it has lasted longer than `time`; `None` when that
/// does not fit into a record.
pub(crate) fn ticks_over(base: crate::time::TimeBase, time: Time) -> Option<u64> {
    let ticks = base.ticks_in(time)?.floor().checked_add(1)?;
    u64::try_from(ticks).ok()
}
