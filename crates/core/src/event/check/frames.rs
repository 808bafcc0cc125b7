//! What is asked of the frames of a serial bus.

use crate::bus::{Fault, Frame};
use crate::decode::{Protocol, SerialBus};
use crate::error::{Result, suggest};
use crate::event::syntax::{Comparison, FieldTest, Test, ValuePattern, field_tests, located};

/// What a frame must have: `address == 0x51, data in 1 .. 9, nack`. All of it must be met.
///
/// A name alone is met by a frame of that kind, with such a field, or with such a fault; `fault` by
/// any fault. A name with a value is met when a field of that name has such a value; of several, one
/// is enough.
///
/// ```
/// use deep_tap_core::bus::{Field, FieldKind, Frame};
/// use deep_tap_core::decode::{I2cConfig, Protocol};
/// use deep_tap_core::event::FrameTests;
/// use deep_tap_core::time::Tick;
///
/// let span = Tick(0)..Tick(9);
/// let mut frame = Frame::new("write", span.clone());
/// frame.fields.push(Field::new(FieldKind::Address, "address", span.clone(), 0x51, 7));
/// frame.fields.push(Field::new(FieldKind::Check, "nack", span, 1, 1));
/// let tests = FrameTests::parse("address == 0x5x, nack")?;
/// assert!(tests.are_met_by(&frame));
/// tests.check(&Protocol::I2c(I2cConfig::default()))?;
/// let error = tests.check(&Protocol::Mdio).unwrap_err();
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
    /// [`ErrorKind::Event`](crate::ErrorKind::Event), with the column and what was expected there.
    pub fn parse(text: &str) -> Result<Self> {
        Ok(FrameTests::new(field_tests(text)?, text))
    }

    /// Checks that frames of this protocol can meet each of the tests.
    ///
    /// # Errors
    /// [`ErrorKind::Event`](crate::ErrorKind::Event) with the column of a name that it does not know, of a range that
    /// nothing lies in, or of a value that the field has no bits for.
    pub fn check(&self, protocol: &Protocol) -> Result<()> {
        let words = protocol.words();
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
            let most =
                protocol.widest(&field.text).filter(|bits| *bits < 64).map(|bits| (bits, (1 << bits) - 1));
            if let (Some((bits, most)), Some(test)) = (most, test)
                && let Some(pattern) = test.beyond(most)
            {
                let has = if bits == 1 { "1 bit".to_string() } else { format!("{bits} bits") };
                let message = format!("'{}' has {has} on this bus, which is {most:#x} at most", field.text);
                let help = protocol.meant(&field.text, pattern.bits);
                let help =
                    help.unwrap_or_else(|| "no frame can meet this: give a value that it can have".into());
                return Err(located(&self.text, pattern.span.clone(), message, Some(help)));
            }
        }
        Ok(())
    }

    /// Whether a frame meets all tests.
    pub fn are_met_by(&self, frame: &Frame) -> bool {
        let named = |name: &str| {
            let fault = |fault: &Fault| name == "fault" || fault.kind == name;
            frame.kind == name || frame.field(name).is_some() || frame.faults.iter().any(fault)
        };
        self.tests.iter().all(|FieldTest { field, test }| match test {
            None => named(&field.text),
            Some(test) => frame.fields.iter().any(|f| f.name == field.text && test.is_met(f.value)),
        })
    }
}

impl Test {
    /// The value of the test, where none up to `most` passes because it is too great.
    fn beyond(&self, most: u64) -> Option<&ValuePattern> {
        let (pattern, never) = match self {
            Test::In(low, _) => (low, low.bits > most),
            Test::Compare(Comparison::Equal, to) => (to, to.bits & !to.open & !most != 0),
            Test::Compare(Comparison::Greater, to) => (to, to.bits >= most),
            Test::Compare(Comparison::GreaterOrEqual, to) => (to, to.bits > most),
            Test::Compare(Comparison::NotEqual | Comparison::Less | Comparison::LessOrEqual, _) => {
                return None;
            }
        };
        never.then_some(pattern)
    }

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
    pub(crate) bus: SerialBus,
    pub(crate) tests: FrameTests,
}
