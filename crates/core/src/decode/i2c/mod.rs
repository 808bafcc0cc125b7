//! The two-wire bus of UM10204 (I2C-bus specification and user manual, revision 7).

mod plain;

use std::ops::ControlFlow;

use crate::bus::{Ahead, BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::line::{Level, Levels};
use crate::time::Tick;

/// The lines, in the decoder's order.
const CLOCK: usize = 0;
const DATA: usize = 1;

/// How addresses are shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct I2cConfig {
    /// What the addresses of the bus are.
    pub addresses: I2cAddresses,
}

settable!(I2cConfig { addresses: I2cAddresses });

/// What the addresses of a two-wire bus are. One of ten bits is read whatever is said here.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum I2cAddresses {
    /// Seven bits: 0x51.
    #[default]
    SevenBits,
    /// Seven bits, and the read/write bit, as some data sheets give them: 0xA2 and 0xA3 instead of 0x51.
    WithDirection,
    /// Seven or ten bits (3.1.11): tests may ask for those of ten, too.
    TenBits,
}

impl I2cAddresses {
    /// Bits of the widest that a test may ask for.
    pub(super) fn bits(self) -> u32 {
        match self {
            I2cAddresses::SevenBits => 7,
            I2cAddresses::WithDirection => 8,
            I2cAddresses::TenBits => 10,
        }
    }

    /// What may have been meant by an address that has more bits.
    pub(super) fn meant(self, value: u64) -> Option<String> {
        let ten = "where parts have addresses of ten bits, say 'addresses = \"10-bit\"' of the bus";
        match (self, value) {
            (I2cAddresses::SevenBits, ..=0xff) => Some(format!(
                "{:#04x} with its read/write bit is {value:#04x}: write it without, or say 'addresses = \"8-bit\"' of the bus; {ten}",
                value >> 1
            )),
            (I2cAddresses::TenBits, _) | (_, 0x400..) => None,
            _ => Some(ten.to_string()),
        }
    }
}

/// Decodes the two-wire bus; its lines are the clock and the data.
///
/// A frame goes from a start or repeated start to the next, or to a stop (3.1.4). Its kind is
/// `write`, `read`, `general-call` (3.1.13), or `partial` where it ends within its address; its fields are `address` (7 bits, 8 with the
/// direction if that is asked for, or 10 where they are used, 3.1.11; its first byte alone, 0x78 to 0x7B, where nobody
/// acknowledges that), `data` for each byte, and after each of them `ack` or `nack` (3.1.6). Faults are
/// `incomplete` (a start or stop within a byte), `unknown`, `order` (data and clock change too close
/// to each other to tell) and `cut-off`.
#[derive(Clone, Debug, Default)]
pub struct I2c {
    config: I2cConfig,
    levels: Levels,
    /// Within a frame.
    open: Option<Open>,
    /// The ten-bit address that was written last: a read repeats only its first two bits.
    ten_bits: Option<u64>,
}

#[derive(Clone, Debug)]
struct Open {
    start: Tick,
    /// Whether no other frame was open when it started.
    begins: bool,
    /// Where the present byte began, and its bits so far.
    byte: Option<Tick>,
    bits: u32,
    value: u64,
    kind: &'static str,
    fields: Vec<Field>,
    faults: Vec<Fault>,
    /// The first two bits of a ten-bit address, whose other bits follow, and where they began.
    high_address: Option<(u64, Tick)>,
}

impl I2c {
    /// The instants of its frames: `begin` is a `start` or a `restart` (a repeated start).
    pub const MARKS: &'static [&'static str] = &["begin", "end", "sample", "start", "restart", "stop"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] = &[
        "write",
        "read",
        "general-call",
        "partial",
        "address",
        "data",
        "ack",
        "nack",
        "incomplete",
        "order",
        "spike",
        "unknown",
        "cut-off",
    ];

    /// A decoder; the bus has no speed to be set, since its clock is one of its lines.
    pub fn new(config: I2cConfig) -> Self {
        I2c { config, ..I2c::default() }
    }

    fn finish(&mut self, at: Tick, fault: Option<Fault>, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(mut open) = self.open.take() else { return ControlFlow::Continue(()) };
        // The clock rises once before a stop or a repeated start; more is a byte that was begun.
        if fault.is_none() && open.bits > 1 {
            let what = format!("it ends after {} bits of a byte", open.bits);
            open.faults.push(Fault::new("incomplete", at, what));
        }
        open.faults.extend(fault);
        if open.fields.is_empty() && open.faults.is_empty() {
            return ControlFlow::Continue(());
        }
        let kind = if open.kind.is_empty() { "partial" } else { open.kind };
        let (begins, fields, faults) = (open.begins, open.fields, open.faults);
        out.frame(Frame { begins, fields, faults, ..Frame::new(kind, open.start..at) })
    }

    /// A bit, taken with the rising clock.
    fn bit(&mut self, at: Tick, level: Level) {
        let Some(open) = &mut self.open else { return };
        if level == Level::Unknown {
            open.faults.push(Fault::unknown(at));
        }
        let start = *open.byte.get_or_insert(at);
        if open.bits < 8 {
            open.value = open.value << 1 | u64::from(level == Level::High);
            open.bits += 1;
            if open.bits == 8 {
                self.byte(start, at);
            }
            return;
        }
        let (name, value) = if level == Level::Low { ("ack", 0) } else { ("nack", 1) };
        // Nobody has these first two bits of a ten-bit address: its other bits do not come.
        if let Some((high, start)) = open.high_address.filter(|_| level != Level::Low) {
            open.high_address = None;
            let value = 0b11110 << 2 | high;
            open.fields.push(Field::new(FieldKind::Address, "address", start..at, value, 7));
        }
        open.fields.push(Field::new(FieldKind::Control, name, at..Tick(at.0 + 1), value, 1));
        (open.byte, open.bits, open.value) = (None, 0, 0);
    }

    /// Eight bits are there, the last of which was taken at this tick.
    fn byte(&mut self, start: Tick, at: Tick) {
        let Some(open) = &mut self.open else { return };
        let value = open.value;
        let data = Field::new(FieldKind::Data, "data", start..Tick(at.0 + 1), value, 8);
        let address =
            |value, bits| Field { name: "address", value, bits, kind: FieldKind::Address, ..data.clone() };
        if let Some((high, start)) = open.high_address.take() {
            let value = high << 8 | value;
            self.ten_bits = Some(value);
            // It began before the first acknowledge.
            open.fields.insert(0, Field { start, ..address(value, 10) });
        } else if !open.kind.is_empty() {
            open.fields.push(data);
        } else {
            open.kind = match value & 1 {
                _ if value == 0 => "general-call",
                0 => "write",
                _ => "read",
            };
            // 11110xx: a ten-bit address.
            match (value >> 3 == 0b11110, value & 1) {
                (true, 0) => open.high_address = Some((value >> 1 & 0b11, start)),
                (true, _) if self.ten_bits.is_some_and(|known| known >> 8 == value >> 1 & 0b11) => {
                    open.fields.push(address(self.ten_bits.unwrap_or(0), 10));
                }
                _ if self.config.addresses == I2cAddresses::WithDirection => {
                    open.fields.push(address(value, 8));
                }
                _ => open.fields.push(address(value >> 1, 7)),
            }
        }
    }
}

impl Decoder for I2c {
    fn lines(&self) -> usize {
        2
    }

    fn begin(&mut self, _: Tick, levels: Levels) {
        *self = I2c { config: self.config, levels, ..I2c::default() };
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let before = std::mem::replace(&mut self.levels, levels);
        let clock = (before.level(CLOCK), levels.level(CLOCK));
        let data = (before.level(DATA), levels.level(DATA));
        if clock == (Level::High, Level::High) {
            match data {
                (Level::High, Level::Low) => {
                    let begins = self.open.is_none();
                    self.finish(at, None, out)?;
                    out.settled(at);
                    out.look(Look::telling(at, 1 << CLOCK).room(1));
                    out.mark(BusMark::new("begin", at))?;
                    out.mark(BusMark::new(if begins { "start" } else { "restart" }, at))?;
                    let (fields, faults) = (Vec::new(), Vec::new());
                    let (byte, bits, value, kind, high_address) = (None, 0, 0, "", None);
                    self.open = Some(Open {
                        start: at,
                        begins,
                        byte,
                        bits,
                        value,
                        kind,
                        fields,
                        faults,
                        high_address,
                    });
                }
                (Level::Low, Level::High) => {
                    self.finish(at, None, out)?;
                    // A read repeats a part of a ten-bit address only after a repeated start.
                    self.ten_bits = None;
                    out.settled(at);
                    out.look(Look::telling(at, 1 << CLOCK).room(1));
                    out.mark(BusMark::new("stop", at))?;
                }
                _ => {}
            }
        } else if clock == (Level::Low, Level::High) {
            if data.0 != data.1
                && let Some(open) = &mut self.open
            {
                let what = "data and clock change at the same sample: record faster";
                open.faults.push(Fault::new("order", at, what));
            }
            if self.open.is_some() {
                // A change just after this edge would be a start or a stop.
                out.look(Look::taking(at, 0).shifting(1 << DATA));
            }
            self.bit(at, data.0);
        }
        ControlFlow::Continue(())
    }

    fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        self.plain_bytes(ahead, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.finish(at, Some(Fault::cut_off(at)), out)
    }
}
