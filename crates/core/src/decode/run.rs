//! Decoding a stored capture, and samples as they arrive.

use std::ops::{ControlFlow, Range};

use crate::bus::{Ahead, Decoder, FrameSink, Upcoming};
use crate::capture::{Capture, Edges};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Levels, LineId};
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

/// A decoder on its way through stored lines.
pub(super) struct Walk<'a> {
    edges: Vec<Edges<'a>>,
    upcoming: Vec<Upcoming>,
    /// The tick of each line's next edge. There are few lines: looking at all of them is faster than
    /// keeping them in order.
    next: Vec<Tick>,
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
        let walk = Walk::after(capture, lines, range.clone());
        decoder.begin(range.start, walk.levels);
        Ok(walk)
    }

    /// What comes after the first tick of a range.
    fn after(capture: &'a Capture, lines: &[LineId], range: Range<Tick>) -> Self {
        let levels = lines.iter().enumerate().fold(Levels::default(), |levels, (number, line)| {
            levels.with(number, capture.trace(*line).level_at(range.start))
        });
        let rest = Tick(range.start.0.saturating_add(1))..range.end;
        let edges = lines.iter().map(|line| capture.trace(*line).edges(rest.clone())).collect();
        let upcoming = vec![Upcoming::from(range.start); lines.len()];
        let mut walk = Walk { edges, upcoming, next: Vec::new(), levels, end: range.end };
        walk.top_up();
        walk
    }

    /// Puts more edges at hand on lines that have fewer.
    fn top_up(&mut self) {
        for (upcoming, edges) in self.upcoming.iter_mut().zip(&mut self.edges) {
            upcoming.top_up(|most, more| edges.fill(most, more));
        }
        self.next.clear();
        self.next.extend(self.upcoming.iter().map(Upcoming::tick));
    }

    /// Goes on to the next change; `false` once the end is reached.
    #[inline]
    pub(super) fn step(
        &mut self,
        decoder: &mut dyn Decoder,
        sink: &mut dyn FrameSink,
    ) -> ControlFlow<(), bool> {
        let more = self.advance(decoder, sink)?;
        if !more {
            decoder.pass(self.end, sink)?;
            decoder.end(self.end, sink)?;
        }
        ControlFlow::Continue(more)
    }

    /// Goes on to the next change, or further where that can be read at once; `false` where there is none left.
    #[inline]
    fn advance(&mut self, decoder: &mut dyn Decoder, sink: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        let tick = self.next.iter().copied().min().unwrap_or(NEVER);
        if tick == NEVER {
            return ControlFlow::Continue(false);
        }
        if self.read_plain(decoder, sink)? {
            return ControlFlow::Continue(true);
        }
        let lines = self.next.iter_mut().zip(&mut self.upcoming).enumerate();
        let mut few = false;
        for (number, (next, upcoming)) in lines.filter(|(_, (next, _))| **next == tick) {
            self.levels = self.levels.with(number, upcoming.pass());
            *next = upcoming.tick();
            few |= upcoming.has_few();
        }
        if few {
            self.top_up();
        }
        decoder.change(tick, self.levels, sink)?;
        ControlFlow::Continue(true)
    }

    fn read_plain(&mut self, decoder: &mut dyn Decoder, sink: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        let mut ahead = Ahead::new(&mut self.upcoming, self.levels, self.end);
        let read = decoder.read_plain(&mut ahead, sink)?;
        if read {
            self.levels = ahead.levels();
            self.upcoming.iter_mut().for_each(Upcoming::forget_taken);
            self.top_up();
        }
        ControlFlow::Continue(read)
    }
}

/// Beyond all ticks.
const NEVER: Tick = Tick(u64::MAX);

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
        let mut walk = Walk::after(capture, &self.lines, before..to);
        if from == Tick(0) {
            decoder.begin(from, walk.levels);
        }
        while walk.advance(decoder, sink)? {}
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
