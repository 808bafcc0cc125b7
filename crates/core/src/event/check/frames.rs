//! What is asked of the frames of a serial bus.

use std::collections::VecDeque;
use std::ops::Range;

use super::values::test_of;
use crate::bus::{Decoder, Fault, FieldKind, Frame, FrameSink};
use crate::capture::Capture;
use crate::decode::{FieldNames, Onward, Protocol, Reading, Reads, SerialBus};
use crate::error::{Result, suggest};
use crate::event::syntax::{BusUnit, Comparison, FieldTest, Test, ValuePattern, field_tests, located};
use crate::line::ValueNames;
use crate::quantity::{Rational, Time};
use crate::time::{Tick, TimeBase};

/// What a frame must have: `address == 0x51, data in 1 .. 9, nack`. All of it must be met.
///
/// A name alone is met by a frame of that kind, with such a field, or with such a fault; `fault` by
/// any fault. A name with a value is met when a field of that name has such a value; of several, one
/// is enough, but for `data[1]`, which counts them from 0. `length` is the number of values, where it is
/// no field. `text "ready"` and `bytes "08 10 xx"` are met by values in a row, `mosi bytes "9f"` by those of
/// one name.
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

    /// The text that they were read from.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Reads tests as they stand after `has`.
    ///
    /// # Errors
    /// [`ErrorKind::Event`](crate::ErrorKind::Event), with the column and what was expected there.
    pub fn parse(text: &str) -> Result<Self> {
        Ok(FrameTests::new(field_tests(text)?, text))
    }

    /// The same tests on frames of a bus, which can meet each of them; names of values are what the bus calls
    /// so.
    ///
    /// # Errors
    /// As [`check`](FrameTests::check), and for a name that no value of its field has.
    pub fn of(&self, bus: &SerialBus) -> Result<FrameTests> {
        let tests = self.named(bus.names())?;
        tests.check(bus.protocol()).map(|()| tests)
    }

    /// The same of transfers.
    ///
    /// # Errors
    /// As [`of`](FrameTests::of).
    pub fn of_transfers(&self, bus: &SerialBus) -> Result<FrameTests> {
        let tests = self.named(bus.names())?;
        tests.check_transfers(bus.protocol()).map(|()| tests)
    }

    /// The same with the names of values replaced by what they mean.
    ///
    /// # Errors
    /// For a name that no value of its field has.
    pub fn named(&self, names: &FieldNames) -> Result<FrameTests> {
        let named = |own: &FieldTest| {
            let field = &own.field.text;
            let test = own.test.as_ref().map(|test| test_of(&self.text, field, test, names.of(field)));
            Ok(FieldTest { test: test.transpose()?, ..own.clone() })
        };
        Ok(FrameTests {
            tests: self.tests.iter().map(named).collect::<Result<_>>()?,
            text: self.text.clone(),
        })
    }

    /// Checks that frames of this protocol can meet each of the tests.
    ///
    /// # Errors
    /// [`ErrorKind::Event`](crate::ErrorKind::Event) with the column of a name that it does not know, of a range that
    /// nothing lies in, or of a value that the field has no bits for.
    pub fn check(&self, protocol: &Protocol) -> Result<()> {
        self.tests.iter().try_for_each(|test| self.check_one(test, protocol, protocol.words()))
    }

    /// The same for transfers of this protocol, which have kinds of their own.
    ///
    /// # Errors
    /// As [`check`](FrameTests::check).
    pub fn check_transfers(&self, protocol: &Protocol) -> Result<()> {
        let words = protocol.words().iter().chain(protocol.transfer_kinds()).copied();
        let words: Vec<&str> = words.collect();
        self.tests.iter().try_for_each(|test| self.check_one(test, protocol, &words))
    }

    /// Checks that they ask for nothing but these fields.
    ///
    /// # Errors
    /// [`ErrorKind::Event`](crate::ErrorKind::Event) with the column of a name that is none of them.
    pub fn check_names(&self, known: &[&str]) -> Result<()> {
        for FieldTest { field, .. } in &self.tests {
            if !known.contains(&field.text.as_str()) {
                let help = suggest(&field.text, known.iter().copied(), "field of an earlier step");
                let message = format!("no earlier step gives '{}'", field.text);
                return Err(located(&self.text, field.span.clone(), message, Some(help)));
            }
        }
        Ok(())
    }

    fn check_one(&self, test: &FieldTest, protocol: &Protocol, words: &[&str]) -> Result<()> {
        let FieldTest { field, place, test } = test;
        if let Some(test) = test {
            test_of(&self.text, &field.text, test, &ValueNames::default())?;
        }
        let any_data = matches!((field.text.as_str(), test), ("text" | "bytes", Some(Test::Row(_))));
        let counts = field.text == LENGTH && test.is_some();
        if field.text != "fault" && !words.contains(&field.text.as_str()) && !any_data && !counts {
            let help = suggest(&field.text, words.iter().copied(), "field, kind or fault of this bus");
            let message = format!("this bus has no '{}'", field.text);
            return Err(located(&self.text, field.span.clone(), message, Some(help)));
        }
        if field.text == "fault" && (test.is_some() || place.is_some()) {
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
        let widest = match any_data {
            true => DATA.iter().filter_map(|name| protocol.widest(name)).max(),
            false => protocol.widest(&field.text),
        };
        let most = widest.filter(|bits| *bits < 64).map(|bits| (bits, (1 << bits) - 1));
        if let (Some((bits, most)), Some(test)) = (most, test)
            && let Some(pattern) = test.beyond(most)
        {
            let has = if bits == 1 { "1 bit".to_string() } else { format!("{bits} bits") };
            let what = if any_data { "data" } else { field.text.as_str() };
            let message = format!("'{what}' has {has} on this bus, which is {most:#x} at most");
            let help = match test {
                Test::Row(_) => Some("leave spaces between the values: \"08 10 xx\"".to_string()),
                _ => protocol.meant(&field.text, pattern.bits),
            };
            let help = help.unwrap_or_else(|| "no frame can meet this: give a value that it can have".into());
            return Err(located(&self.text, pattern.span.clone(), message, Some(help)));
        }
        Ok(())
    }

    /// Whether a frame meets all tests; values in a row are looked for in this frame alone.
    pub fn are_met_by(&self, frame: &Frame) -> bool {
        self.matching(false).meets(frame)
    }

    /// Tests frame after frame. Where data goes on from frame to frame (`is_stream`), values in a row may
    /// begin in one and end in another; elsewhere, in frames of one transfer. See
    /// [`Protocol::is_stream`](crate::decode::Protocol::is_stream).
    pub fn matching(&self, is_stream: bool) -> FrameMatcher {
        FrameMatcher { tests: self.tests.clone(), is_stream, longest: self.longest_row(), rows: Vec::new() }
    }

    /// The fields whose values are asked for, each once.
    pub(crate) fn tested_fields(&self) -> Vec<String> {
        let tested = self.tests.iter().filter(|test| test.test.is_some());
        let mut fields: Vec<String> = tested
            .map(|test| match test.field.text.as_str() {
                "text" | "bytes" => "data".to_string(),
                name => name.to_string(),
            })
            .collect();
        fields.sort_unstable();
        fields.dedup();
        fields
    }

    /// The number of values of the longest row that they ask for.
    pub(crate) fn longest_row(&self) -> usize {
        let longest = |tests: &FieldTest| tests.row().map_or(0, <[ValuePattern]>::len);
        self.tests.iter().map(longest).max().unwrap_or(0)
    }

    /// Whether they look at frames before the one that meets them.
    pub fn look_back(&self) -> bool {
        self.longest_row() > 0
    }
}

/// What asks for the number of values, where it is no field.
const LENGTH: &str = "length";

/// Names of fields that carry data.
const DATA: [&str; 5] = ["data", "mosi", "miso", "tdi", "tdo"];

impl FieldTest {
    fn row(&self) -> Option<&[ValuePattern]> {
        match &self.test {
            Some(Test::Row(row)) => Some(row),
            _ => None,
        }
    }
}

/// Tests on their way from frame to frame of one bus. Made by [`FrameTests::matching`].
#[derive(Clone, Debug)]
pub struct FrameMatcher {
    tests: Vec<FieldTest>,
    is_stream: bool,
    /// Values of the longest row.
    longest: usize,
    /// The last data of each name.
    rows: Vec<Row>,
}

/// The last data of one name, each with whether it is certain.
#[derive(Clone, Debug)]
struct Row {
    name: &'static str,
    last: VecDeque<(u64, bool)>,
}

impl Row {
    /// Whether the row's last values are these.
    fn ends_with(&self, wanted: &[ValuePattern]) -> bool {
        let fits = |((value, _), wanted): (&(u64, bool), &ValuePattern)| wanted.fits(*value);
        self.last.len() >= wanted.len() && self.last.iter().rev().zip(wanted.iter().rev()).all(fits)
    }
}

impl FrameMatcher {
    /// Whether this frame, the next one on its bus, meets all tests.
    pub fn meets(&mut self, frame: &Frame) -> bool {
        self.meets_for_sure(frame).0
    }

    /// The same, and whether all frames that it depends on are certain.
    pub(crate) fn meets_for_sure(&mut self, frame: &Frame) -> (bool, bool) {
        let mut certain = frame.certain;
        if self.longest == 0 {
            return (self.tests.iter().all(|test| test.is_met_by(frame)), certain);
        }
        let has_data = frame.fields.iter().any(|field| field.kind == FieldKind::Data);
        if !has_data || (frame.begins && !self.is_stream) {
            self.rows.clear();
        }
        let mut met: Vec<bool> =
            self.tests.iter().map(|test| test.row().is_none() && test.is_met_by(frame)).collect();
        for field in frame.fields.iter().filter(|field| field.kind == FieldKind::Data) {
            let place = self.rows.iter().position(|row| row.name == field.name).unwrap_or(self.rows.len());
            if place == self.rows.len() {
                self.rows.push(Row { name: field.name, last: VecDeque::new() });
            }
            let row = &mut self.rows[place];
            if row.last.len() == self.longest {
                row.last.pop_front();
            }
            row.last.push_back((field.value, frame.certain));
            for (test, met) in self.tests.iter().zip(&mut met) {
                let own =
                    matches!(test.field.text.as_str(), "text" | "bytes") || test.field.text == field.name;
                let Some(wanted) = test.row().filter(|_| own && !*met) else { continue };
                *met = row.ends_with(wanted);
                certain &= row.last.iter().rev().take(wanted.len()).all(|(_, certain)| *certain);
            }
        }
        (met.iter().all(|met| *met), certain)
    }
}

impl FieldTest {
    /// Whether a frame meets it; a row is another matter.
    fn is_met_by(&self, frame: &Frame) -> bool {
        let FieldTest { field, place, test } = self;
        let named = || frame.fields.iter().filter(|own| own.name == field.text);
        match (test, place) {
            (Some(Test::Row(_)), _) => false,
            (None, None) => {
                let fault = |fault: &Fault| field.text == "fault" || fault.kind == field.text;
                frame.kind == field.text || named().next().is_some() || frame.faults.iter().any(fault)
            }
            (test, Some(place)) => {
                let value = usize::try_from(*place).ok().and_then(|place| named().nth(place));
                value.is_some_and(|own| test.as_ref().is_none_or(|test| test.is_met(own.value)))
            }
            (Some(test), None) if field.text == LENGTH && named().next().is_none() => {
                test.is_met(frame.length() as u64)
            }
            (Some(test), None) => named().any(|own| test.is_met(own.value)),
        }
    }
}

impl ValuePattern {
    fn fits(&self, value: u64) -> bool {
        (value ^ self.bits) & !self.open == 0
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
            Test::Row(row) => return row.iter().find(|value| value.bits & !value.open & !most != 0),
            Test::Compare(Comparison::NotEqual | Comparison::Less | Comparison::LessOrEqual, _) => {
                return None;
            }
        };
        never.then_some(pattern)
    }

    /// Whether a value passes.
    pub fn is_met(&self, value: u64) -> bool {
        match self {
            Test::Row(row) => matches!(row.as_slice(), [one] if one.fits(value)),
            Test::In(low, high) => (low.bits..=high.bits).contains(&value),
            Test::Compare(Comparison::Equal, to) => to.fits(value),
            Test::Compare(Comparison::NotEqual, to) => !to.fits(value),
            Test::Compare(Comparison::Less, to) => value < to.bits,
            Test::Compare(Comparison::LessOrEqual, to) => value <= to.bits,
            Test::Compare(Comparison::Greater, to) => value > to.bits,
            Test::Compare(Comparison::GreaterOrEqual, to) => value >= to.bits,
        }
    }
}

/// What is asked of a bus.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Asked {
    /// Frames, or transfers, that meet tests.
    Units(BusUnit, FrameTests),
    /// An instant of this name.
    Mark(&'static str),
}

/// A bus and what is asked of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FrameForm {
    pub(crate) bus: SerialBus,
    pub(crate) asked: Asked,
}

impl FrameForm {
    /// A decoder that finds what is asked for.
    pub(crate) fn decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
        match self.asked {
            Asked::Units(BusUnit::Transfer, _) => self.bus.transfer_decoder(base),
            Asked::Units(BusUnit::Frame, _) | Asked::Mark(_) => self.bus.decoder(base),
        }
    }

    /// How long the shortest of what is asked for takes, where its bits have a known rate.
    pub(super) fn shortest(&self) -> Time {
        let (protocol, asked) = (self.bus.protocol(), &self.asked);
        let bits = match (protocol, asked) {
            (_, Asked::Mark(_)) => 0,
            (Protocol::Uart(config), Asked::Units(_, tests)) => {
                (config.data_bits as usize + 2) * tests.longest_row().max(1)
            }
            // A frame without data, up to its last bit (ISO 11898-1, 10.4.2), and a LIN header with a byte.
            (Protocol::Can(_), Asked::Units(..)) => 44,
            (Protocol::Lin(_), Asked::Units(..)) => 54,
            _ => 0,
        };
        let bit = protocol.bit_rate().and_then(|rate| rate.to_rational().recip());
        let time = bit.and_then(|bit| bit.checked_mul(Rational::from(bits as i64)));
        time.map_or(Time::ZERO, Time::from_rational)
    }

    /// Reads a window of a record, with how certain everything in it is.
    pub(crate) fn read<'a>(
        &self,
        capture: &'a Capture,
        window: Range<Tick>,
        sink: &mut dyn FrameSink,
    ) -> Result<Reading<'a>> {
        self.bus.reading(capture, window, self.reads(), sink)
    }

    /// Reads a record like this that goes on.
    pub(crate) fn onward(&self, capture: &Capture) -> Result<Onward> {
        self.bus.onward(capture, self.reads())
    }

    fn reads(&self) -> Reads {
        match self.asked {
            Asked::Units(BusUnit::Transfer, _) => Reads::Transfers,
            Asked::Mark("sample") => Reads::Samples,
            Asked::Units(BusUnit::Frame, _) | Asked::Mark(_) => Reads::Frames,
        }
    }

    /// Whether it happens between two ticks, not with an edge.
    pub(crate) fn is_between_ticks(&self) -> bool {
        let timed = self.bus.protocol().bit_rate().is_some();
        match self.asked {
            Asked::Units(..) | Asked::Mark("end" | "rest") => true,
            Asked::Mark(name) => timed && name == "sample",
        }
    }
}
