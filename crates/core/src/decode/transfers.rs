//! Frames that belong together: what one selection, one message, one command with its answer carries.

use std::ops::ControlFlow;

use super::Protocol;
use crate::bus::{Ahead, BusMark, Decoder, FieldKind, Frame, FrameSink, Look};
use crate::line::Levels;
use crate::quantity::{Rational, Time};
use crate::time::{Tick, TimeBase};

/// Most fields of a transfer: one that has more goes on as another.
const MOST_FIELDS: usize = 65_536;

/// Bits of rest that end a message on a line of bytes, unless something else is said.
const REST_BITS: i64 = 20;

/// What ends a transfer on a bus, beside what ends one by its protocol: the end of a selection, a stop.
///
/// ```
/// use deep_tap_core::decode::TransferEnds;
///
/// let lines = TransferEnds::default().value(0x0a);
/// let blocks = TransferEnds::default().gap("2 ms".parse()?).length(16);
/// assert_ne!(lines, blocks);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct TransferEnds {
    gap: Option<Time>,
    value: Option<u64>,
    length: Option<u32>,
}

impl TransferEnds {
    /// A rest that is longer than this.
    #[must_use]
    pub fn gap(self, gap: Time) -> Self {
        TransferEnds { gap: Some(gap), ..self }
    }

    /// Data of this value, such as a line feed.
    #[must_use]
    pub fn value(self, value: u64) -> Self {
        TransferEnds { value: Some(value), ..self }
    }

    /// So many values of data.
    #[must_use]
    pub fn length(self, length: u32) -> Self {
        TransferEnds { length: Some(length), ..self }
    }
}

impl Protocol {
    /// The instants that end a transfer; `None` where every frame is one.
    pub(crate) fn closing(&self) -> Option<&'static [&'static str]> {
        match self {
            Protocol::I2c(_) => Some(&["stop"]),
            Protocol::Spi(_) | Protocol::Pulses(_) => Some(&["release", "rest"]),
            Protocol::Clocked(config) if config.enable.is_some() || config.gap.is_some() => {
                Some(&["disable", "rest"])
            }
            Protocol::OneWire => Some(&["reset"]),
            // A message of bytes ends with a rest.
            Protocol::Uart(_) => Some(&[]),
            _ => None,
        }
    }

    /// What transfers are called that are not of one kind of frame.
    pub(crate) fn transfer_kinds(&self) -> &'static [&'static str] {
        match self {
            Protocol::I2c(_) => &["write-read", "transfer"],
            Protocol::Uart(_) | Protocol::OneWire => &["bytes", "transfer"],
            _ => &["words", "transfer"],
        }
    }

    /// Whether data of one frame goes on in the next, whatever begins with it.
    pub fn is_stream(&self) -> bool {
        matches!(
            self,
            Protocol::Uart(_)
                | Protocol::Clocked(_)
                | Protocol::Parallel(_)
                | Protocol::I2s(_)
                | Protocol::OneWire
        )
    }
}

/// A decoder that gives out transfers in place of frames: each as one frame, with the fields and faults of
/// all that belong to it.
///
/// What ends by a rest is known, and ends, when that is over. Its kind is that of its frames, `bytes` or `words`
/// for several of them, `write-read` for a write with a read after a repeated start, and `transfer` for any
/// others.
#[derive(Debug)]
pub(super) struct Gathering {
    decoder: Box<dyn Decoder>,
    open: Opened,
}

#[derive(Debug)]
struct Opened {
    closes: &'static [&'static str],
    each: bool,
    gap: Option<u64>,
    /// Within so many ticks, it is not known whether a rest was longer than the gap.
    margin: u64,
    value: Option<u64>,
    length: Option<u64>,
    /// Whether it is not known where the next transfer begins.
    unsure: bool,
    /// What was gathered, and how many values of data it has.
    transfer: Option<(Frame, u64)>,
    /// A frame that has begun and is not whole.
    begun: Option<Tick>,
    /// The end of the last frame.
    last: Tick,
    /// Whether a transfer was seen to end: from there on, it is known where one begins.
    joined: bool,
}

impl Gathering {
    pub(super) fn gather(
        decoder: Box<dyn Decoder>,
        protocol: &Protocol,
        ends: TransferEnds,
        base: TimeBase,
        margin: u64,
    ) -> Box<dyn Decoder> {
        let closing = protocol.closing();
        let stated = ends != TransferEnds::default();
        let ticks = |time| base.ticks_in(time).and_then(|ticks: Rational| u64::try_from(ticks.floor()).ok());
        let rest = || {
            let bit = protocol.bit_rate()?.to_rational().recip()?;
            ticks(Time::from_rational(bit.checked_mul(Rational::from(REST_BITS))?))
        };
        let gap = ends.gap.and_then(ticks).or_else(|| if stated { None } else { rest() });
        let (value, length) = (ends.value, ends.length.map(u64::from));
        let (transfer, begun, last, joined) = (None, None, Tick(0), false);
        let (closes, each) = (closing.unwrap_or(&[]), closing.is_none() && !stated);
        let unsure = false;
        let open = Opened { closes, each, gap, margin, value, length, unsure, transfer, begun, last, joined };
        Box::new(Gathering { decoder, open })
    }
}

impl Opened {
    /// The tick at which a rest is over.
    fn rested(&self) -> Option<Tick> {
        Some(Tick(self.last.0.saturating_add(self.gap?)))
    }

    fn add(&mut self, frame: Frame) {
        let data = frame.fields.iter().filter(|field| field.kind == FieldKind::Data).count() as u64;
        (self.last, self.begun) = (frame.end, None);
        let Some((transfer, count)) = &mut self.transfer else {
            // Where it is not known that nothing came before, it may have begun before the record.
            let begins = self.joined || (!self.closes.is_empty() && frame.begins);
            let certain = frame.certain && begins && !std::mem::take(&mut self.unsure);
            self.transfer = Some((Frame { begins, certain, ..frame }, data));
            return;
        };
        *count += data;
        transfer.kind = match (transfer.kind, frame.kind) {
            ("byte" | "bytes", "byte") => "bytes",
            ("word" | "words", "word") => "words",
            (one, other) if one == other => one,
            ("write", "read") => "write-read",
            _ => "transfer",
        };
        transfer.end = frame.end;
        transfer.certain &= frame.certain;
        transfer.fields.extend(frame.fields);
        transfer.faults.extend(frame.faults);
    }

    fn close(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let Some((transfer, _)) = self.transfer.take() else { return ControlFlow::Continue(()) };
        out.frame(Frame { end: transfer.end.max(at), ..transfer })
    }

    /// A frame begins: a rest may be over with it, or not, and which of both may not be known.
    fn begins(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let near = |over: Tick| over.0.abs_diff(at.0) <= self.margin;
        if self.margin > 0 && self.begun.is_none() && self.rested().is_some_and(near) {
            self.unsure = true;
            if let Some((transfer, _)) = &mut self.transfer {
                transfer.certain = false;
            }
        }
        self.rest(at, 0, out)?;
        // Where it goes on, nothing else begins.
        self.unsure &= self.transfer.is_none();
        ControlFlow::Continue(())
    }

    /// Nothing has begun before a tick: a rest may be over, which is known so many ticks later.
    fn rest(&mut self, now: Tick, later: u64, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let is_over = |over: &Tick| over.0.saturating_add(later) < now.0;
        let Some(over) = self.rested().filter(|over| is_over(over) && self.begun.is_none()) else {
            return ControlFlow::Continue(());
        };
        self.joined = true;
        self.close(Tick(over.0 + 1), out)
    }
}

struct Collecting<'a> {
    open: &'a mut Opened,
    out: &'a mut dyn FrameSink,
}

impl FrameSink for Collecting<'_> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        let open = &mut *self.open;
        if open.each {
            return self.out.frame(frame);
        }
        if open.begun.is_none() {
            open.begins(frame.start, self.out)?;
        }
        let end = frame.end;
        let last = frame.fields.iter().rev().find(|field| field.kind == FieldKind::Data);
        let ends = open.value.is_some() && last.map(|field| field.value) == open.value;
        open.add(frame);
        let count = open.transfer.as_ref().map_or(0, |(_, count)| *count);
        let full = open.transfer.as_ref().is_some_and(|(transfer, _)| transfer.fields.len() >= MOST_FIELDS);
        open.joined |= ends;
        if ends || full || open.length.is_some_and(|length| count >= length) {
            return open.close(end, self.out);
        }
        ControlFlow::Continue(())
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        let open = &mut *self.open;
        if mark.name == "begin" {
            // One that led to no frame does not count.
            open.begun = None;
            open.begins(mark.at, self.out)?;
            open.begun = Some(mark.at);
        }
        if open.closes.contains(&mark.name) {
            (open.joined, open.begun) = (true, None);
            open.close(mark.at, self.out)?;
        }
        self.out.mark(mark)
    }

    fn look(&mut self, look: Look) {
        self.out.look(look);
    }

    fn doubt(&mut self, at: Tick) {
        self.out.doubt(at);
    }

    fn settled(&mut self, at: Tick) {
        // In the middle of a transfer, what came before is not over.
        if self.open.each || (self.open.joined && self.open.transfer.is_none()) {
            self.out.settled(at);
        }
    }
}

impl Decoder for Gathering {
    fn lines(&self) -> usize {
        self.decoder.lines()
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        let open = &mut self.open;
        (open.transfer, open.begun, open.last, open.joined) = (None, None, at, false);
        open.unsure = false;
        self.decoder.begin(at, levels);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.change(at, levels, &mut Collecting { open: &mut self.open, out })
    }

    fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        self.decoder.read_plain(ahead, &mut Collecting { open: &mut self.open, out })
    }

    fn due(&self) -> Option<Tick> {
        let waits = self.open.transfer.is_some() && self.open.begun.is_none();
        let later = |over: Tick| Tick(over.0.saturating_add(self.open.margin));
        self.decoder.due().into_iter().chain(self.open.rested().filter(|_| waits).map(later)).min()
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.pass(until, &mut Collecting { open: &mut self.open, out })?;
        self.open.rest(until, self.open.margin, out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.end(at, &mut Collecting { open: &mut self.open, out })?;
        self.open.rest(at, self.open.margin, out)?;
        // What may go on after the record's end is not whole.
        let Some((transfer, _)) = &mut self.open.transfer else { return ControlFlow::Continue(()) };
        if transfer.faults.iter().all(|fault| fault.kind != "cut-off") {
            transfer.faults.push(crate::bus::Fault::cut_off(at));
        }
        transfer.certain = false;
        self.open.close(at, out)
    }
}
