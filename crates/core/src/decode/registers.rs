//! Registers behind a bus: what is read and written, by number and name, with values in their unit.

use std::collections::BTreeMap;

use super::{Protocol, SpiData};
use crate::bus::{Field, Frame};
use crate::line::BitOrder;
use crate::quantity::Rational;
use crate::time::Tick;

/// What is known of a register.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Register {
    /// The bus.
    pub bus: String,
    /// The address of its part, on a bus that has addresses; any part otherwise.
    pub part: Option<u64>,
    /// Its number.
    pub number: u64,
    /// Its name.
    pub name: String,
    /// Bytes of its value, 1 to 8.
    pub bytes: u32,
    /// Which byte comes first.
    pub order: BitOrder,
    /// What the bits mean.
    pub coding: Coding,
    /// On clocked serial, whether it is written, not read; told from the data when not stated.
    pub write: Option<bool>,
    /// The value of one count, and of zero.
    pub per_count: Rational,
    /// The value at zero.
    pub offset: Rational,
    /// The unit of these; nothing for a plain number.
    pub unit: String,
}

/// What the bits of a value mean.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Coding {
    /// A number from zero on.
    #[default]
    Unsigned,
    /// Two's complement.
    Signed,
    /// Four bits for each decimal digit.
    Decimal,
}

impl Register {
    /// The value that these bits stand for, in the register's unit; `None` for digits above nine.
    ///
    /// ```
    /// use deep_tap_core::decode::{Coding, Register};
    /// use deep_tap_core::line::BitOrder;
    /// use deep_tap_core::quantity::Rational;
    ///
    /// let temperature = Register {
    ///     bus: "sensors".into(),
    ///     part: Some(0x48),
    ///     number: 0,
    ///     name: "temperature".into(),
    ///     bytes: 2,
    ///     order: BitOrder::HighestFirst,
    ///     coding: Coding::Signed,
    ///     write: None,
    ///     per_count: Rational::new(1, 256).unwrap(),
    ///     offset: Rational::ZERO,
    ///     unit: "degC".into(),
    /// };
    /// assert_eq!(temperature.value(0xe6c0).unwrap().to_f64(), -25.25);
    /// ```
    pub fn value(&self, raw: u64) -> Option<Rational> {
        let bits = self.bytes.clamp(1, 8) * 8;
        let count = match self.coding {
            Coding::Unsigned => i128::from(raw),
            Coding::Signed => {
                let above = 64 - bits;
                i128::from((raw << above) as i64 >> above)
            }
            Coding::Decimal => (0..bits / 4).rev().try_fold(0i128, |value, digit| {
                let digit = i128::from(raw >> (4 * digit) & 0xf);
                (digit <= 9).then_some(value * 10 + digit)
            })?,
        };
        Rational::new(count, 1)?.checked_mul(self.per_count)?.checked_add(self.offset)
    }

    fn is(&self, bus: &str, part: Option<u64>, number: u64) -> bool {
        self.bus == bus && self.number == number && self.part.is_none_or(|own| part == Some(own))
    }
}

/// One register read or written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Access {
    /// Its first tick.
    pub start: Tick,
    /// The tick after its last.
    pub end: Tick,
    /// The address of the part, on a bus that has addresses.
    pub part: Option<u64>,
    /// The register's number; `None` when the record does not show it.
    pub number: Option<u64>,
    /// Whether it is written, not read.
    pub write: bool,
    /// Its bits.
    pub raw: u64,
    /// How many.
    pub bits: u32,
    /// The description of the register, by its place in the list.
    pub register: Option<usize>,
    /// Whether the transfer ended within the register.
    pub cut: bool,
}

/// Follows the frames of a two-wire bus or of clocked serial, and tells registers.
///
/// On two wires, the first byte that is written is a register's number; what is written after it, or
/// read in this transfer or a later one, goes there and to the registers that follow. On clocked serial,
/// the first word of a selection is the number, as it is on the wire; the words after it are the value:
/// what comes from the controller when written, what goes to it when read.
#[derive(Clone, Debug)]
pub struct Registers<'a> {
    bus: &'a str,
    known: &'a [Register],
    /// Bits of a byte on two wires, of a word on clocked serial.
    width: u32,
    /// Per part, the number that comes next.
    next: BTreeMap<u64, u64>,
    /// Within a selection.
    selection: Option<Selection>,
}

#[derive(Clone, Debug)]
struct Selection {
    number: u64,
    /// What goes each way after it.
    out: Vec<Byte>,
    back: Vec<Byte>,
}

/// A byte, its first tick, and the one after its last.
type Byte = (u64, Tick, Tick);

impl<'a> Registers<'a> {
    /// Follows a bus by name with what is known of its registers; `None` for a bus that has none of
    /// this kind: clocked serial needs words of whole bytes, and a line from the controller.
    pub fn new(bus: &'a str, protocol: &Protocol, known: &'a [Register]) -> Option<Self> {
        let width = match protocol {
            Protocol::I2c(_) => 8,
            Protocol::Spi(config)
                if matches!(config.data, SpiData::Both | SpiData::Mosi) && config.bits.is_multiple_of(8) =>
            {
                config.bits
            }
            _ => return None,
        };
        Some(Registers { bus, known, width, next: BTreeMap::new(), selection: None })
    }

    fn known(&self, part: Option<u64>, number: Option<u64>) -> Option<(usize, &'a Register)> {
        let number = number?;
        self.known.iter().enumerate().find(|(_, register)| register.is(self.bus, part, number))
    }

    /// Takes the next frame; what it completes.
    pub fn frame(&mut self, frame: &Frame) -> Vec<Access> {
        match frame.kind {
            "write" | "read" => self.two_wires(frame),
            "word" => self.word(frame),
            _ => Vec::new(),
        }
    }

    /// What is complete once there is no frame any more.
    pub fn finish(&mut self) -> Vec<Access> {
        self.selection.take().map_or(Vec::new(), |selection| self.close(selection))
    }

    fn two_wires(&mut self, frame: &Frame) -> Vec<Access> {
        let seven_bits = |field: &Field| if field.bits == 8 { field.value >> 1 } else { field.value };
        let Some(part) = frame.field("address").map(seven_bits) else { return Vec::new() };
        let data = frame.fields.iter().filter(|field| field.name == "data");
        let mut data: Vec<_> = data.map(|field| (field.value, field.start, field.end)).collect();
        let write = frame.kind == "write";
        if write {
            if data.is_empty() {
                return Vec::new();
            }
            let (number, ..) = data.remove(0);
            self.next.insert(part, number);
        }
        let start = self.next.get(&part).copied();
        let (found, after) = self.split(Some(part), start, write, &data);
        if let Some(after) = after {
            self.next.insert(part, after);
        }
        found
    }

    /// Parts bytes into registers from a number on; also the number that comes after.
    fn split(
        &self,
        part: Option<u64>,
        start: Option<u64>,
        write: bool,
        bytes: &[Byte],
    ) -> (Vec<Access>, Option<u64>) {
        let (mut number, mut rest, mut found) = (start, bytes, Vec::new());
        while let Some((_, begin, _)) = rest.first().copied() {
            let known = self.known(part, number);
            let wanted = known.map_or(1, |(_, register)| register.bytes.clamp(1, 8) * 8 / self.width);
            let wanted = wanted.max(1) as usize;
            let own = &rest[..wanted.min(rest.len())];
            let order = known.map_or(BitOrder::HighestFirst, |(_, register)| register.order);
            // All of them together have 64 bits at the most.
            let raw = own.iter().enumerate().fold(0u64, |raw, (place, (byte, ..))| {
                order.append(raw, self.width * place as u32, *byte, self.width)
            });
            found.push(Access {
                start: begin,
                end: own.last().map_or(begin, |(_, _, end)| *end),
                part,
                number,
                write,
                raw,
                bits: self.width * own.len() as u32,
                register: known.map(|(place, _)| place),
                cut: own.len() < wanted,
            });
            rest = &rest[own.len()..];
            number = number.map(|number| number.wrapping_add(own.len() as u64));
        }
        (found, number)
    }

    fn word(&mut self, frame: &Frame) -> Vec<Access> {
        // What is not whole says nothing.
        let whole = |name: &str| frame.field(name).filter(|field| field.bits == self.width);
        let value = |name: &str| whole(name).map(|field| (field.value, frame.start, frame.end));
        let (out, back) = (value("mosi"), value("miso"));
        let found = match self.selection.take_if(|_| frame.begins) {
            Some(selection) => self.close(selection),
            None => Vec::new(),
        };
        match &mut self.selection {
            Some(selection) => {
                selection.out.extend(out);
                selection.back.extend(back);
            }
            None => {
                let Some((word, ..)) = out else { return found };
                let (out, back) = (Vec::new(), Vec::new());
                self.selection = Some(Selection { number: word, out, back });
            }
        }
        found
    }

    fn close(&self, selection: Selection) -> Vec<Access> {
        // Where it is not stated, it is a read if anything came back that is not all zeros or ones.
        let ones = u64::MAX >> (64 - self.width);
        let says = |run: &[Byte]| run.iter().any(|(word, ..)| *word != 0 && *word != ones);
        let stated = self.known(None, Some(selection.number)).and_then(|(_, register)| register.write);
        let write = stated.unwrap_or(!says(&selection.back) && says(&selection.out));
        let run = if write { selection.out } else { selection.back };
        self.split(None, Some(selection.number), write, &run).0
    }
}
