//! Decoding a stored capture, and samples as they arrive.

use std::ops::{ControlFlow, Range};

use super::changes::{Changes, levels_at};
use crate::bus::{Decoder, FrameSink};
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result};
use crate::line::LineId;
use crate::scan::{Feeder, GROUP, Plane, SPAN, Samples, Slicer, Stretch};
use crate::time::Tick;

/// Decodes a stretch of a stored capture as if it were all of it, until the sink says stop; what lies in a
/// window of it, read as it is in the whole, gives [`SerialBus::decode`](super::SerialBus::decode). `lines` are those that the decoder
/// asks for, in its order.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::decode::{Uart, UartConfig, decode};
/// use deep_tap_core::line::{Level, Line, LineId};
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// // 'A' is 0x41: a start bit, 1000 0010 with the lowest bit first, a stop bit; 10 ticks each.
/// let mut line = TraceBuilder::new(Level::High);
/// for (tick, high) in [(100, false), (110, true), (120, false), (170, true), (180, false), (190, true)] {
///     line.push_edge(Tick(tick), Level::from(high))?;
/// }
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let capture = Capture::builder(base, 400).line(Line::named("TX"), line.finish(400)).build()?;
/// let mut uart = Uart::new(UartConfig::new("100 kHz".parse()?), base)?;
/// let mut frames = Vec::new();
/// decode(&capture, &[LineId(0)], capture.range(), &mut uart, &mut frames)?;
/// assert_eq!(frames[0].field("data").unwrap().value, 0x41);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
///
/// # Errors
/// When there are more lines or fewer than the decoder asks for.
pub fn decode(
    capture: &Capture,
    lines: &[LineId],
    range: Range<Tick>,
    decoder: &mut dyn Decoder,
    sink: &mut dyn FrameSink,
) -> Result<()> {
    let mut walk = Walk::begin(capture, lines, range, decoder)?;
    while walk.stride(decoder, sink) == ControlFlow::Continue(true) {}
    Ok(())
}

/// A decoder is given as many lines as it asks for.
fn check_lines(decoder: &dyn Decoder, lines: usize) -> Result<()> {
    if decoder.lines() == lines {
        return Ok(());
    }
    let message = format!("the decoder takes {} lines, not {lines}", decoder.lines());
    Err(Error::new(ErrorKind::Unknown, message)
        .with_help("give the lines that its documentation names, in that order"))
}

/// A decoder on its way through stored lines.
pub(super) struct Walk<'a> {
    changes: Changes<'a>,
    end: Tick,
}

impl<'a> Walk<'a> {
    pub(super) fn begin(
        capture: &'a Capture,
        lines: &[LineId],
        range: Range<Tick>,
        decoder: &mut dyn Decoder,
    ) -> Result<Self> {
        check_lines(decoder, lines.len())?;
        let range = range.start..range.end.min(Tick(capture.len()));
        let levels = levels_at(capture, lines, range.start);
        decoder.begin(range.start, levels);
        let rest = Tick(range.start.0.saturating_add(1))..range.end;
        Ok(Walk { changes: Changes::new(capture, lines, rest, levels), end: range.end })
    }

    /// Goes on to the next change; `false` once the end is reached.
    #[inline]
    pub(super) fn step(
        &mut self,
        decoder: &mut dyn Decoder,
        sink: &mut dyn FrameSink,
    ) -> ControlFlow<(), bool> {
        let Some((tick, levels)) = self.changes.next() else { return self.end(decoder, sink) };
        decoder.change(tick, levels, sink)?;
        ControlFlow::Continue(true)
    }

    /// Goes on by many changes; `false` once the end is reached.
    pub(super) fn stride(
        &mut self,
        decoder: &mut dyn Decoder,
        sink: &mut dyn FrameSink,
    ) -> ControlFlow<(), bool> {
        match self.changes.next_many() {
            [] => self.end(decoder, sink),
            changes => decoder.changes(changes, sink).map_continue(|()| true),
        }
    }

    fn end(&self, decoder: &mut dyn Decoder, sink: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        decoder.pass(self.end, sink)?;
        decoder.end(self.end, sink)?;
        ControlFlow::Continue(false)
    }
}

/// A decoder on its way through a record that goes on.
pub(crate) struct Onward {
    decoder: Box<dyn Decoder>,
    lines: Vec<LineId>,
    read: Tick,
}

impl std::fmt::Debug for Onward {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Onward").field("lines", &self.lines).field("read", &self.read).finish_non_exhaustive()
    }
}

impl Onward {
    pub(super) fn new(decoder: Box<dyn Decoder>, lines: &[LineId]) -> Result<Self> {
        check_lines(&*decoder, lines.len())?;
        Ok(Onward { decoder, lines: lines.to_vec(), read: Tick(0) })
    }

    /// Reads on to a tick; `ended` says whether the record ends there.
    pub(crate) fn read(
        &mut self,
        capture: &Capture,
        to: Tick,
        ended: bool,
        sink: &mut dyn FrameSink,
    ) -> ControlFlow<()> {
        let decoder = &mut *self.decoder;
        let from = std::mem::replace(&mut self.read, to);
        let before = Tick(from.0.saturating_sub(1));
        let levels = levels_at(capture, &self.lines, before);
        if from == Tick(0) {
            decoder.begin(from, levels);
        }
        let mut changes = Changes::new(capture, &self.lines, Tick(from.0.max(1))..to, levels);
        loop {
            match changes.next_many() {
                [] => break,
                some => decoder.changes(some, sink)?,
            }
        }
        decoder.pass(to, sink)?;
        if ended { decoder.end(to, sink) } else { ControlFlow::Continue(()) }
    }
}

/// Decodes samples as they arrive.
pub struct StreamDecoder<'a> {
    decoder: &'a mut dyn Decoder,
    /// The bit of a sample that each of its lines is.
    bits: Vec<u32>,
    slicer: Slicer,
    planes: Vec<Plane>,
    unknown: Vec<Plane>,
    feeder: Feeder,
    position: u64,
}

impl<'a> StreamDecoder<'a> {
    /// Decodes samples of which these bits are the decoder's lines, in its order.
    ///
    /// # Errors
    /// When there are more bits or fewer than the decoder asks for lines.
    pub fn new(decoder: &'a mut dyn Decoder, bits: &[u32]) -> Result<Self> {
        check_lines(decoder, bits.len())?;
        let planes = vec![[0; SPAN]; bits.len()];
        Ok(StreamDecoder {
            decoder,
            bits: bits.to_vec(),
            slicer: Slicer::new(),
            unknown: planes.clone(),
            planes,
            feeder: Feeder::new((0..bits.len()).collect()),
            position: 0,
        })
    }

    /// Takes samples in.
    pub fn push(&mut self, samples: Samples<'_>, sink: &mut dyn FrameSink) -> ControlFlow<()> {
        let mut at = 0;
        while at < samples.len() {
            let end = (at + SPAN * GROUP).min(samples.len());
            self.span(samples.slice(at..end), sink)?;
            at = end;
        }
        ControlFlow::Continue(())
    }

    fn span(&mut self, samples: Samples<'_>, sink: &mut dyn FrameSink) -> ControlFlow<()> {
        let (count, width) = (samples.len(), samples.width());
        self.slicer.planes(samples.levels(), width, &self.bits, &mut self.planes);
        let open = !samples.unknown().is_empty();
        if open {
            self.slicer.planes(samples.unknown(), width, &self.bits, &mut self.unknown);
        }
        let unknown = open.then_some(&self.unknown[..]);
        let stretch = Stretch { planes: &self.planes, unknown, len: count };
        if let Some(levels) = self.feeder.begin(stretch) {
            self.decoder.begin(Tick(self.position), levels);
        }
        self.feeder.feed(stretch, |sample, levels| {
            self.decoder.change(Tick(self.position + sample as u64), levels, sink)
        })?;
        self.position += count as u64;
        self.decoder.pass(Tick(self.position), sink)
    }

    /// The samples are over.
    pub fn finish(self, sink: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.end(Tick(self.position), sink)
    }
}
