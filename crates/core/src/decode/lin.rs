//! The local interconnect network (ISO 17987-3 and -4): a break, a sync byte, an identifier, and an
//! answer with its checksum.

use std::ops::ControlFlow;

use super::uart::{Uart, UartConfig};
use crate::bus::{BusMark, Decoder, Fault, Field, FieldKind, Frame, FrameSink, Look};
use crate::error::Result;
use crate::line::Levels;
use crate::quantity::{Frequency, Rational};
use crate::time::{Tick, TimeBase};

/// How frames are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LinConfig {
    /// Bits per second.
    pub bit_rate: Frequency,
    /// Whether the checksum is over the data only, as before version 2; else the identifier counts, too,
    /// but for diagnostic frames (0x3C and 0x3D).
    pub classic: bool,
}

impl LinConfig {
    /// With checksums over the identifier and the data.
    pub fn new(bit_rate: Frequency) -> Self {
        LinConfig { bit_rate, classic: false }
    }
}

settable!(LinConfig { bit_rate: Frequency, classic: bool });

/// Bits without a whole byte after which a frame is over.
const SILENCE: i64 = 22;
/// The same before the first byte of an answer.
const LONG_SILENCE: i64 = 44;

/// Decodes a local interconnect network; its line is the bus behind a transceiver, which rests high.
///
/// Frames are `data`, and `header` for one that nobody answers, with the fields `identifier` (6 bits),
/// `data` for each byte, and `checksum`. Faults are `sync`, `parity` (of the identifier), `checksum`,
/// `no-answer`, `framing` (a byte within the frame), `unknown` and `cut-off`.
#[derive(Clone, Debug)]
pub struct Lin {
    config: LinConfig,
    uart: Uart,
    bytes: Bytes,
    silence: (u64, u64),
    open: Option<Open>,
}

/// What the bytes' own decoder found, and has not been taken yet.
#[derive(Clone, Debug, Default)]
struct Bytes {
    frames: Vec<Frame>,
    looks: Vec<Look>,
    /// Edges of start bits.
    starts: Vec<Tick>,
}

impl FrameSink for Bytes {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.frames.push(frame);
        ControlFlow::Continue(())
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        self.starts.push(mark.at);
        ControlFlow::Continue(())
    }

    fn look(&mut self, look: Look) {
        self.looks.push(look);
    }
}

#[derive(Clone, Debug)]
struct Open {
    frame: Frame,
    /// Bytes after the break.
    count: usize,
    /// The end of the last one.
    last: Tick,
    data: Vec<(u64, Tick, Tick)>,
}

impl Lin {
    /// The instants of its frames: `delimiter` is the end of the break, `response` the first start bit after
    /// the header.
    pub const MARKS: &'static [&'static str] = &["end", "sample", "delimiter", "response"];

    /// The words of its frames.
    pub const WORDS: &'static [&'static str] = &[
        "data",
        "header",
        "identifier",
        "checksum",
        "sync",
        "parity",
        "no-answer",
        "framing",
        "spike",
        "unknown",
        "cut-off",
    ];

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// When there are fewer than three samples per bit, with the rate that is needed.
    pub fn new(config: LinConfig, base: TimeBase) -> Result<Self> {
        let uart = Uart::new(UartConfig::new(config.bit_rate), base)?;
        let bit = base.rate().to_rational().checked_div(config.bit_rate.to_rational());
        let ticks = |bits: i64| {
            let ticks = bit.and_then(|bit| bit.checked_mul(Rational::from(bits))).map(Rational::floor);
            ticks.and_then(|ticks| u64::try_from(ticks).ok()).unwrap_or(u64::MAX)
        };
        Ok(Lin {
            config,
            uart,
            bytes: Bytes::default(),
            silence: (ticks(SILENCE), ticks(LONG_SILENCE)),
            open: None,
        })
    }

    /// The tick at which the open frame is over if no byte comes.
    fn deadline(&self) -> Option<Tick> {
        let open = self.open.as_ref()?;
        let silence = if open.count <= 2 { self.silence.1 } else { self.silence.0 };
        Some(Tick(open.last.0.saturating_add(silence)))
    }

    /// Takes what the bytes say, up to a tick.
    fn settle(&mut self, now: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.bytes.looks.drain(..).for_each(|look| out.look(look));
        for byte in std::mem::take(&mut self.bytes.frames) {
            if let Some(deadline) = self.deadline().filter(|deadline| *deadline < byte.end) {
                self.close(deadline, None, out)?;
            }
            match (byte.kind, &mut self.open) {
                ("break", _) => {
                    self.close(byte.end, None, out)?;
                    out.settled(byte.end);
                    out.mark(BusMark::new("delimiter", byte.end))?;
                    let frame = Frame::new("data", byte.start..byte.end);
                    self.open = Some(Open { frame, count: 0, last: byte.end, data: Vec::new() });
                }
                ("byte", Some(open)) => open.byte(&byte),
                _ => {}
            }
        }
        if let Some(deadline) = self.deadline().filter(|deadline| *deadline < now) {
            self.close(deadline, None, out)?;
        }
        let answered = self.open.as_ref().is_some_and(|open| open.count == 2);
        for start in self.bytes.starts.drain(..).filter(|_| answered) {
            out.mark(BusMark::new("response", start))?;
        }
        ControlFlow::Continue(())
    }

    fn close(&mut self, end: Tick, fault: Option<Fault>, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some(mut open) = self.open.take() else { return ControlFlow::Continue(()) };
        let cut = fault.is_some();
        open.frame.faults.extend(fault);
        open.frame.end = end;
        if open.data.is_empty() && !cut {
            open.frame.kind = "header";
            let what =
                "nobody answers this header: the node is absent, or not the one that has this identifier";
            open.frame.faults.push(Fault::new("no-answer", open.last, what));
        }
        let Some((checksum, start, last)) = open.data.pop() else { return out.frame(open.frame) };
        let identifier = open.frame.field("identifier").map_or(0, |field| field.value);
        let protected = protect(identifier);
        let classic = self.config.classic || matches!(identifier, 0x3c | 0x3d);
        let first = if classic { 0 } else { protected };
        // The sum with its carries, inverted.
        let carried = |sum: u64| if sum > 0xff { sum - 0xff } else { sum };
        let sum = open.data.iter().fold(first, |sum, (byte, ..)| carried(sum + byte));
        let wanted = !sum & 0xff;
        for (byte, start, end) in &open.data {
            open.frame.fields.push(Field::new(FieldKind::Data, "data", *start..*end, *byte, 8));
        }
        open.frame.fields.push(Field::new(FieldKind::Check, "checksum", start..last, checksum, 8));
        if checksum != wanted && !cut {
            let kind = if classic { "classic" } else { "enhanced" };
            let what = format!("the checksum is {checksum:#04X}, the {kind} one would be {wanted:#04X}");
            open.frame.faults.push(Fault::new("checksum", start, what));
        }
        out.frame(open.frame)
    }
}

/// An identifier with its parity bits (ISO 17987-3, 5.2.2.5).
fn protect(identifier: u64) -> u64 {
    let bit = |place: u32| identifier >> place & 1;
    let even = bit(0) ^ bit(1) ^ bit(2) ^ bit(4);
    let odd = bit(1) ^ bit(3) ^ bit(4) ^ bit(5) ^ 1;
    identifier & 0x3f | even << 6 | odd << 7
}

impl Open {
    fn byte(&mut self, byte: &Frame) {
        let Some(data) = byte.field("data") else { return };
        self.count += 1;
        self.last = byte.end;
        for fault in &byte.faults {
            let kind = if fault.kind == "unknown" { "unknown" } else { "framing" };
            self.frame.faults.push(Fault::new(kind, fault.at, fault.what.clone()));
        }
        match self.count {
            1 if data.value != 0x55 => {
                let what = format!("the sync byte is {:#04X} instead of 0x55: another bit rate", data.value);
                self.frame.faults.push(Fault::new("sync", data.start, what));
            }
            1 => {}
            2 => {
                let identifier = data.value & 0x3f;
                let span = data.start..data.end;
                self.frame.fields.push(Field::new(FieldKind::Address, "identifier", span, identifier, 6));
                if protect(identifier) != data.value {
                    let what = "the identifier and its parity bits do not fit";
                    self.frame.faults.push(Fault::new("parity", data.start, what));
                }
            }
            // Eight bytes and a checksum at the most.
            3..=11 => self.data.push((data.value, data.start, data.end)),
            _ => {}
        }
    }
}

impl Decoder for Lin {
    fn lines(&self) -> usize {
        1
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        self.uart.begin(at, levels);
        (self.open, self.bytes) = (None, Bytes::default());
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.uart.change(at, levels, &mut self.bytes)?;
        self.settle(at, out)
    }

    fn due(&self) -> Option<Tick> {
        self.uart.due().into_iter().chain(self.deadline()).min()
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.uart.pass(until, &mut self.bytes)?;
        self.settle(until, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.uart.pass(at, &mut self.bytes)?;
        self.settle(at, out)?;
        self.close(at, Some(Fault::cut_off(at)), out)
    }
}
