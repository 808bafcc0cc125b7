//! The bits of a frame, and what they mean: classical frames, and those with a flexible data rate.

use std::ops::Range;

use crate::bus::{Fault, Field, FieldKind, Frame};
use crate::time::Tick;

/// What the next bits of a frame are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Part {
    Start,
    Identifier,
    /// Remote request or its substitute, identifier extension, and what comes before the length.
    Control,
    Length,
    Data,
    Crc,
    /// Of a flexible data-rate frame: the count of stuff bits and the checksum, with a stuff bit before each four
    /// of their bits; counted.
    Check(u32),
    /// Delimiter, acknowledge, delimiter, and seven bits of end, counted.
    Tail(u32),
}

#[derive(Clone, Debug)]
pub(super) struct Open {
    pub(super) frame: Frame,
    pub(super) part: Part,
    /// Whether bits come at the data rate.
    pub(super) fast: bool,
    /// Whether there is one.
    has_data_rate: bool,
    /// Bits of the present part, without stuff bits: their number, value, and where they began.
    bits: u32,
    value: u64,
    since: Tick,
    /// The last level on the wire, and how often in a row.
    run: (bool, u32),
    identifier: u64,
    identifier_span: Range<Tick>,
    extended: bool,
    remote: bool,
    left: u32,
    crc: u16,
    /// Of a flexible data-rate frame: both checksums that it may have, and the stuff bits so far.
    long: [u32; 2],
    stuffed: u32,
}

/// The checksums of flexible data-rate frames: bits and polynomial (ISO 11898-1:2015, 10.4.2.6).
const LONG: [(u32, u32); 2] = [(17, 0x1_685b), (21, 0x10_2899)];

/// Bytes of data for each length code above eight (ISO 11898-1:2015, table 5).
const LENGTHS: [u32; 7] = [12, 16, 20, 24, 32, 48, 64];

/// What comes after a bit.
pub(super) enum Next {
    More,
    /// The frame is over, in order.
    Whole,
    /// It is not; an error flag follows.
    Broken(Fault),
    /// The rest is of another format.
    Other,
}

impl Open {
    pub(super) fn new(start: Tick, has_data_rate: bool) -> Open {
        Open {
            frame: Frame::new("data", start..start),
            part: Part::Start,
            fast: false,
            has_data_rate,
            bits: 0,
            value: 0,
            since: start,
            run: (true, 0),
            identifier: 0,
            identifier_span: start..start,
            extended: false,
            remote: false,
            left: 0,
            crc: 0,
            long: LONG.map(|(bits, _)| 1 << (bits - 1)),
            stuffed: 0,
        }
    }

    fn is_flexible(&self) -> bool {
        self.frame.kind == "fd"
    }

    /// The checksums of flexible data-rate frames are over stuff bits, too.
    fn add_long(&mut self, recessive: bool) {
        for (crc, (bits, polynomial)) in self.long.iter_mut().zip(LONG) {
            let out = (*crc >> (bits - 1) & 1 == 1) != recessive;
            *crc = (*crc << 1 & (u32::MAX >> (32 - bits))) ^ if out { polynomial } else { 0 };
        }
    }

    /// The next bit on the wire.
    pub(super) fn bit(&mut self, recessive: bool, span: &Range<Tick>) -> Next {
        match self.part {
            Part::Tail(place) => return self.tail(place, recessive, span),
            Part::Check(place) => return self.check(place, recessive, span),
            _ => self.add_long(recessive),
        }
        let (last, equal) = self.run;
        self.run = (recessive, if recessive == last { equal + 1 } else { 1 });
        // After five bits of a level comes one of the other, which says nothing (10.5.2).
        if equal >= 5 {
            if recessive == last {
                let what = "six bits of the same level: a node saw an error, or another bit rate";
                return Next::Broken(Fault::new("stuff", span.start, what));
            }
            if self.part == Part::Crc && self.bits == 15 {
                self.finish_crc(span.start);
            }
            self.stuffed += 1;
            return Next::More;
        }
        if self.part == Part::Crc && self.bits == 15 {
            self.finish_crc(span.start);
            return self.tail(0, recessive, span);
        }
        if self.bits == 0 {
            self.since = span.start;
        }
        self.bits += 1;
        self.value = self.value << 1 | u64::from(recessive);
        if self.part != Part::Crc {
            // x^15 + x^14 + x^10 + x^8 + x^7 + x^4 + x^3 + 1 (10.4.2.6), over all bits so far.
            let out = self.crc >> 14 & 1 != u16::from(recessive);
            self.crc = (self.crc << 1 & 0x7fff) ^ if out { 0x4599 } else { 0 };
        }
        self.part_bit(span)
    }

    fn begin(&mut self, part: Part) {
        (self.part, self.bits, self.value) = (part, 0, 0);
    }

    fn part_bit(&mut self, span: &Range<Tick>) -> Next {
        match self.part {
            Part::Start => self.begin(Part::Identifier),
            Part::Identifier if !self.extended && self.bits == 11 => {
                (self.identifier, self.identifier_span) = (self.value, self.since..span.end);
                self.begin(Part::Control);
            }
            Part::Identifier if self.extended && self.bits == 18 => {
                self.identifier = self.identifier << 18 | self.value;
                self.identifier_span.end = span.end;
                self.push_identifier(29);
                self.begin(Part::Control);
            }
            Part::Control => return self.control(),
            Part::Length if self.bits == 4 => {
                let field =
                    Field::new(FieldKind::Control, "length", self.since..span.end, self.value, self.bits);
                self.left = match usize::try_from(self.value).ok().and_then(|code| code.checked_sub(9)) {
                    _ if self.remote => 0,
                    Some(code) if self.is_flexible() => LENGTHS.get(code).copied().unwrap_or(64),
                    // More than eight means eight (10.4.2.4).
                    _ => self.value.min(8) as u32,
                };
                let field = match self.is_flexible() {
                    true => Field { value: u64::from(self.left), bits: 7, ..field },
                    false => field,
                };
                self.frame.fields.push(field);
                self.after_data();
            }
            Part::Data if self.bits == 8 => {
                let field = Field::new(FieldKind::Data, "data", self.since..span.end, self.value, 8);
                self.frame.fields.push(field);
                self.left -= 1;
                self.after_data();
            }
            _ => {}
        }
        Next::More
    }

    /// More data, or the checksum.
    fn after_data(&mut self) {
        let next = match (self.left, self.is_flexible()) {
            (1.., _) => Part::Data,
            (0, true) => Part::Check(0),
            (0, false) => Part::Crc,
        };
        self.begin(next);
    }

    fn push_identifier(&mut self, bits: u32) {
        let span = self.identifier_span.clone();
        let field = Field::new(FieldKind::Address, "identifier", span, self.identifier, bits);
        self.frame.fields.push(field);
    }

    /// After 11 bits of identifier: remote request, extension, a reserved bit. After 29: remote
    /// request and two reserved bits. The first reserved bit is recessive in the other format, and followed by
    /// one that is not, by the switch of the bit rate, and by the sender's state (ISO 11898-1:2015, 10.4.2.3).
    fn control(&mut self) -> Next {
        let recessive = self.value & 1 == 1;
        if self.is_flexible() {
            match self.bits - if self.extended { 2 } else { 3 } {
                1 if recessive => {
                    return self.other("a frame of a format that is newer, or another bit rate");
                }
                2 if recessive && !self.has_data_rate => {
                    return self.other(
                        "a flexible data-rate frame, not read beyond its identifier: state its 'data-bit-rate'; \
                         or another bit rate",
                    );
                }
                2 => self.fast = recessive,
                3 => self.begin(Part::Length),
                _ => {}
            }
            return Next::More;
        }
        match (self.extended, self.bits) {
            (false, 2) if recessive => {
                self.extended = true;
                self.begin(Part::Identifier);
            }
            (false, 2) => {
                self.remote = self.value & 0b10 != 0;
                self.push_identifier(11);
            }
            (true, 1) => self.remote = recessive,
            (false, 3) | (true, 2) if recessive => {
                self.frame.kind = "fd";
                // There is no remote request for it.
                self.remote = false;
                return Next::More;
            }
            (false, 3) | (true, 3) => self.begin(Part::Length),
            _ => {}
        }
        if self.remote && self.frame.kind == "data" {
            self.frame.kind = "remote";
        }
        Next::More
    }

    /// The rest is not read.
    fn other(&mut self, what: &str) -> Next {
        self.frame.faults.push(Fault::new("format", self.since, what));
        Next::Other
    }

    /// The count of stuff bits and the checksum: before each four of their bits comes one that is not as the
    /// bit before it, and says nothing (ISO 11898-1:2015, 10.5).
    fn check(&mut self, place: u32, recessive: bool, span: &Range<Tick>) -> Next {
        let last = std::mem::replace(&mut self.run, (recessive, 1)).0;
        self.part = Part::Check(place + 1);
        if place.is_multiple_of(5) {
            if recessive == last {
                let what = "a stuff bit of the checksum is as the bit before it: a node saw an error, or another data bit rate";
                return Next::Broken(Fault::new("stuff", span.start, what));
            }
            return Next::More;
        }
        if self.bits == 0 {
            self.since = span.start;
        }
        (self.bits, self.value) = (self.bits + 1, self.value << 1 | u64::from(recessive));
        if place < 5 {
            self.add_long(recessive);
            if place == 4 {
                self.finish_count();
                (self.bits, self.value) = (0, 0);
            }
            return Next::More;
        }
        let data = self.frame.fields.iter().filter(|field| field.kind == FieldKind::Data).count();
        let which = usize::from(data > 16);
        let (bits, own) = (LONG[which].0, self.long[which]);
        if self.bits == bits {
            self.push_crc(span.end, u64::from(own), bits);
            self.part = Part::Tail(0);
        }
        Next::More
    }

    /// The number of stuff bits, in Gray's code with a parity bit (ISO 11898-1:2015, 10.4.2.6).
    fn finish_count(&mut self) {
        let count = u64::from(self.stuffed % 8);
        let gray = count ^ count >> 1;
        let wanted = gray << 1 | u64::from(gray.count_ones() % 2 == 1);
        if self.value != wanted {
            let what = format!(
                "the count of stuff bits is {:#03x}, of these bits it would be {wanted:#03x}",
                self.value
            );
            self.frame.faults.push(Fault::new("crc", self.since, what));
        }
    }

    fn push_crc(&mut self, end: Tick, own: u64, bits: u32) {
        let field = Field::new(FieldKind::Check, "crc", self.since..end, self.value, bits);
        if self.value != own {
            let what = format!("the checksum is {:#06X}, of these bits it would be {own:#06X}", self.value);
            self.frame.faults.push(Fault::new("crc", self.since, what));
        }
        self.frame.fields.push(field);
    }

    fn finish_crc(&mut self, end: Tick) {
        self.push_crc(end, u64::from(self.crc), 15);
        self.part = Part::Tail(0);
    }

    /// Delimiter, acknowledge, delimiter, seven bits of end; without stuff bits.
    fn tail(&mut self, place: u32, recessive: bool, span: &Range<Tick>) -> Next {
        self.part = Part::Tail(place + 1);
        // The delimiter of the checksum ends what comes at the data rate.
        self.fast = false;
        if place == 1 {
            if recessive {
                let what = "no node acknowledges: no other one is there, or at another bit rate";
                self.frame.faults.push(Fault::new("no-ack", span.start, what));
            } else {
                self.frame.fields.push(Field::new(FieldKind::Control, "ack", span.clone(), 0, 1));
            }
            return Next::More;
        }
        // To a receiver, a dominant last bit is an overload, not an error (10.4.6.3).
        if !recessive && place < 9 {
            let what = "a bit that is always recessive is dominant: a node saw an error";
            return Next::Broken(Fault::new("form", span.start, what));
        }
        if place == 9 { Next::Whole } else { Next::More }
    }
}
