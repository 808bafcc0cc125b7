//! Frames of serial buses, as the event language knows them: it asks for them, decoders find them.

use std::any::Any;
use std::fmt;
use std::sync::Arc;

use super::ast::{Comparison, FieldTest, Test, ValuePattern};
use super::parser::located;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::line::LineId;
use crate::time::{Tick, TimeBase};

/// A serial bus that an event can ask for frames.
pub trait FrameSource: Any + fmt::Debug + Send + Sync {
    /// The lines it is decoded from, in the reader's order.
    fn lines(&self) -> &[LineId];

    /// The words that a test may use: names of fields, kinds of frames, kinds of faults.
    fn words(&self) -> &[&'static str];

    /// Reads records with this time base for frames that meet these tests.
    ///
    /// # Errors
    /// When a record with this time base cannot be decoded.
    fn reader(&self, base: TimeBase, tests: &FrameTests) -> Result<Box<dyn FrameReader>>;
}

/// Reads levels as they come and tells of the frames that meet its tests: the tick of each frame's
/// end, in order. `begin` comes first and once, then `change` and `pass` with rising ticks.
pub trait FrameReader: Send {
    /// The levels at the first tick, a bit for each line: whether it is high, and whether its level
    /// is unknown.
    fn begin(&mut self, at: Tick, high: u64, unknown: u64);

    /// At this tick, at least one line has another level than before.
    fn change(&mut self, at: Tick, high: u64, unknown: u64, ends: &mut Vec<Tick>);

    /// Up to before this tick, nothing has changed.
    fn pass(&mut self, until: Tick, ends: &mut Vec<Tick>);

    /// The next tick by which a frame may be found although no line changes.
    fn due(&self) -> Option<Tick>;
}

/// A bus that has a name in a [`Scope`](super::Scope). Two are the same when they are one.
#[derive(Clone, Debug)]
pub struct FrameBus(pub(crate) Arc<dyn FrameSource>);

impl FrameBus {
    /// A name for a source of frames.
    pub fn new(source: impl FrameSource + 'static) -> Self {
        FrameBus(Arc::new(source))
    }

    /// The source, if it is of this type.
    pub fn source<S: FrameSource>(&self) -> Option<&S> {
        let source: &dyn Any = &*self.0;
        source.downcast_ref()
    }
}

impl PartialEq for FrameBus {
    fn eq(&self, other: &FrameBus) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl Eq for FrameBus {}

/// What a frame must have: `address == 0x51, data in 1 .. 9, nack`. All of it must be met.
///
/// A name alone is met by a frame of that kind, with such a field, or with such a fault; `fault` by
/// any fault. A name with a value is met when a field of that name has such a value; of several, one
/// is enough.
///
/// ```
/// use deep_tap_core::event::FrameTests;
///
/// let tests = FrameTests::parse("address == 0x5x, nack")?;
/// let fields = [("address", 0x51), ("nack", 1)];
/// let has = |name: &str, meets: &dyn Fn(u64) -> bool| fields.iter().any(|f| f.0 == name && meets(f.1));
/// assert!(tests.met(|name| has(name, &|_| true), has));
/// let error = tests.check(&["address", "data", "ack"]).unwrap_err();
/// assert!(error.to_string().contains("no 'nack'"), "{error}");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FrameTests {
    pub(super) tests: Vec<FieldTest>,
    text: String,
}

impl FrameTests {
    pub(super) fn new(tests: Vec<FieldTest>, text: &str) -> Self {
        FrameTests { tests, text: text.to_string() }
    }

    /// Reads tests as they stand after `has`.
    ///
    /// # Errors
    /// [`ErrorKind::Event`], with the column and what was expected there.
    pub fn parse(text: &str) -> Result<Self> {
        Ok(FrameTests::new(super::parser::field_tests(text)?, text))
    }

    /// Checks that a bus knows all the names.
    ///
    /// # Errors
    /// [`ErrorKind::Event`] with the column of a name that it does not know, or of a range that
    /// nothing lies in.
    pub fn check(&self, words: &[&'static str]) -> Result<()> {
        for FieldTest { field, test } in &self.tests {
            if field.text != "fault" && !words.contains(&field.text.as_str()) {
                let help = suggest(&field.text, words.iter().copied(), "field, kind or fault of this bus");
                let message = format!("this bus has no '{}'", field.text);
                return Err(located(&self.text, field.span.clone(), message, Some(help)));
            }
            if field.text == "fault" && test.is_some() {
                let help = Some("write 'fault' alone, or the name of one".to_string());
                let message = "a fault has no value".to_string();
                return Err(located(&self.text, field.span.clone(), message, help));
            }
            if let Some(Test::In(low, high)) = test
                && low.bits > high.bits
            {
                let help = Some(format!("write 'in {:#x} .. {:#x}'", high.bits, low.bits));
                let message = "the range is upside down".to_string();
                return Err(located(&self.text, low.span.start..high.span.end, message, help));
            }
        }
        Ok(())
    }

    /// Whether a frame meets all tests. `named` says whether a name is that of its kind, a field or
    /// a fault; `valued` whether a field of a name has a value that passes.
    pub fn met(
        &self,
        named: impl Fn(&str) -> bool,
        valued: impl Fn(&str, &dyn Fn(u64) -> bool) -> bool,
    ) -> bool {
        self.tests.iter().all(|FieldTest { field, test }| match test {
            None => named(&field.text),
            Some(test) => valued(&field.text, &|value| test.is_met(value)),
        })
    }
}

impl Test {
    /// Whether a value passes.
    pub fn is_met(&self, value: u64) -> bool {
        let fits = |pattern: &ValuePattern| (value ^ pattern.bits) & !pattern.open == 0;
        match self {
            Test::In(low, high) => (low.bits..=high.bits).contains(&value),
            Test::Compare(Comparison::Equal, to) => fits(to),
            Test::Compare(Comparison::NotEqual, to) => !fits(to),
            Test::Compare(Comparison::Less, to) => value < to.bits,
            Test::Compare(Comparison::LessOrEqual, to) => value <= to.bits,
            Test::Compare(Comparison::Greater, to) => value > to.bits,
            Test::Compare(Comparison::GreaterOrEqual, to) => value >= to.bits,
        }
    }
}

/// A bus and what its frames must have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FrameForm {
    pub(crate) name: String,
    pub(crate) bus: FrameBus,
    pub(crate) tests: FrameTests,
}

impl FrameForm {
    /// A reader for records with this time base.
    pub(crate) fn reader(&self, base: TimeBase) -> Result<Box<dyn FrameReader>> {
        self.bus.0.reader(base, &self.tests).map_err(|error| {
            let told = Error::new(ErrorKind::Event, format!("bus '{}': {}", self.name, error.message()));
            told.with_help(error.help().unwrap_or("see its settings").to_string())
        })
    }
}
