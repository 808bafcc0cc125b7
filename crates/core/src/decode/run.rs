//! Decoding a stored capture, and samples as they arrive.

use std::ops::{ControlFlow, Range};

use crate::bus::{Decoder, FrameSink};
use crate::capture::{Capture, Edges};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Level, Levels, LineId};
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
    while walk.step(decoder, sink) == ControlFlow::Continue(true) {}
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

/// Edges that are fetched at a time.
const BATCH: usize = 512;

/// The edges of one line, many of which are at hand.
struct Lane<'a> {
    edges: Edges<'a>,
    ready: Vec<(u64, Level)>,
    at: usize,
    /// The line's bit among the levels.
    bit: u64,
}

impl<'a> Lane<'a> {
    fn new(mut edges: Edges<'a>, line: usize) -> Self {
        let mut ready = Vec::with_capacity(BATCH + GROUP);
        edges.fill(BATCH, &mut ready);
        Lane { edges, ready, at: 0, bit: 1u64.checked_shl(line as u32).unwrap_or(0) }
    }

    /// The tick of the next edge, beyond all ticks where there is none.
    fn tick(&self) -> u64 {
        self.ready.get(self.at).map_or(u64::MAX, |(tick, _)| *tick)
    }

    /// Passes the next edge, which changes a level; the tick of the one after it.
    #[inline]
    fn pass(&mut self, levels: &mut Levels) -> u64 {
        let level = self.ready.get(self.at).map_or(Level::Unknown, |(_, level)| *level);
        let (high, unknown) = (levels.high & !self.bit, levels.unknown & !self.bit);
        levels.high = if level == Level::High { high | self.bit } else { high };
        levels.unknown = if level.bit().is_none() { unknown | self.bit } else { unknown };
        self.at += 1;
        if self.at >= self.ready.len() {
            self.ready.clear();
            self.edges.fill(BATCH, &mut self.ready);
            self.at = 0;
        }
        self.tick()
    }
}

/// A decoder on its way through stored lines.
pub(super) struct Walk<'a> {
    lanes: Vec<Lane<'a>>,
    /// The tick of each line's next edge. There are few lines: looking at all of them is faster than
    /// keeping them in order.
    next: Vec<u64>,
    levels: Levels,
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
        let level = |(line, id): (usize, &LineId)| (line, capture.trace(*id).level_at(range.start));
        let levels = lines.iter().enumerate().map(level);
        let levels = levels.fold(Levels::default(), |all, (line, level)| all.with(line, level));
        decoder.begin(range.start, levels);
        let rest = Tick(range.start.0.saturating_add(1))..range.end;
        let edges = lines.iter().map(|id| capture.trace(*id).edges(rest.clone())).enumerate();
        let lanes: Vec<Lane<'a>> = edges.map(|(line, edges)| Lane::new(edges, line)).collect();
        let next = lanes.iter().map(Lane::tick).collect();
        Ok(Walk { lanes, next, levels, end: range.end })
    }

    /// Goes on to the next change; `false` once the end is reached.
    #[inline]
    pub(super) fn step(
        &mut self,
        decoder: &mut dyn Decoder,
        sink: &mut dyn FrameSink,
    ) -> ControlFlow<(), bool> {
        let tick = self.next.iter().copied().min().unwrap_or(u64::MAX);
        if tick == u64::MAX {
            decoder.pass(self.end, sink)?;
            decoder.end(self.end, sink)?;
            return ControlFlow::Continue(false);
        }
        for (next, lane) in self.next.iter_mut().zip(&mut self.lanes).filter(|(next, _)| **next == tick) {
            *next = lane.pass(&mut self.levels);
        }
        decoder.change(Tick(tick), self.levels, sink)?;
        ControlFlow::Continue(true)
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
        let level = |(line, id): (usize, &LineId)| (line, capture.trace(*id).level_at(before));
        let levels = self.lines.iter().enumerate().map(level);
        let mut levels = levels.fold(Levels::default(), |all, (line, level)| all.with(line, level));
        if from == Tick(0) {
            decoder.begin(from, levels);
        }
        let rest = Tick(from.0.max(1))..to;
        let edges = self.lines.iter().map(|id| capture.trace(*id).edges(rest.clone())).enumerate();
        let mut lanes: Vec<Lane<'_>> = edges.map(|(line, edges)| Lane::new(edges, line)).collect();
        loop {
            let tick = lanes.iter().map(Lane::tick).min().unwrap_or(u64::MAX);
            if tick == u64::MAX {
                break;
            }
            for lane in lanes.iter_mut().filter(|lane| lane.tick() == tick) {
                lane.pass(&mut levels);
            }
            decoder.change(Tick(tick), levels, sink)?;
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
