//! One analog line over time: codes of a converter, with their extremes at hand.
//!
//! Codes lie in blocks of up to 65 536. Each block knows its extremes before its codes are
//! fetched, and every 512 codes theirs afterwards: the extremes of any stretch, which is what a
//! column of a picture asks for, cost a look at its whole blocks and at no more than a few hundred
//! codes.

use std::fmt;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use super::builder::TraceBuilder;
use super::sample_times::SampleTimes;
use super::trace::Trace;
use crate::line::{AnalogId, AnalogScale, Gate, Level};
use crate::quantity::Voltage;
use crate::time::Tick;

/// Most codes in one block.
pub const ANALOG_BLOCK: usize = 1 << 16;
/// Codes that share one entry of extremes.
const GROUP: usize = 512;

/// The lowest and the highest code of a stretch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Extremes {
    /// The lowest.
    pub least: i16,
    /// The highest.
    pub most: i16,
}

impl Extremes {
    /// The extremes of some codes; `None` when there are none.
    pub fn of(codes: &[i16]) -> Option<Extremes> {
        let (first, rest) = codes.split_first()?;
        let start = Extremes { least: *first, most: *first };
        Some(
            rest.iter()
                .fold(start, |e, code| Extremes { least: e.least.min(*code), most: e.most.max(*code) }),
        )
    }

    pub(crate) fn join(self, other: Extremes) -> Extremes {
        Extremes { least: self.least.min(other.least), most: self.most.max(other.most) }
    }
}

/// Where the codes of a stored analog line come from.
pub trait AnalogSource: Send + Sync + fmt::Debug {
    /// The codes of a block; `None` when they are damaged.
    fn load(&self, line: AnalogId, block: usize) -> Option<Vec<i16>>;
}

/// A block of a stored analog line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StoredCodes {
    /// Number of codes, at most [`ANALOG_BLOCK`].
    pub count: usize,
    /// Their extremes.
    pub extremes: Extremes,
}

/// One analog line over time.
///
/// Where it was sampled, sample `i` was taken at tick `first + i * every`, and between samples the voltage is not
/// known. Where it [holds](AnalogTrace::holds), as a number of a simulation does, the first sample is at tick 0, each other
/// one where the voltage changed, and it is the same until the next.
///
/// ```
/// use deep_tap_core::capture::AnalogBuilder;
/// use deep_tap_core::line::AnalogScale;
/// use deep_tap_core::time::Tick;
///
/// let volts = |text: &str| text.parse().unwrap();
/// let scale = AnalogScale::new(volts("0 V"), volts("1 mV"), volts("0 V")).unwrap();
/// let mut builder = AnalogBuilder::new();
/// builder.push(&[0, 1200, 3300, 3290]);
/// let rail = builder.finish(scale, 5, 100);
/// assert_eq!(rail.voltage_at(Tick(212)), Some(volts("3.3 V")));
/// let extremes = rail.extremes(Tick(100)..Tick(400)).unwrap();
/// assert_eq!((extremes.least, extremes.most), (1200, 3300));
/// ```
#[derive(Debug)]
pub struct AnalogTrace {
    scale: AnalogScale,
    instants: SampleTimes,
    len: u64,
    blocks: Vec<Block>,
    source: Option<(Arc<dyn AnalogSource>, AnalogId)>,
}

#[derive(Debug)]
struct Block {
    /// Samples in the blocks before.
    start: u64,
    count: usize,
    extremes: Extremes,
    /// `None` inside when they were damaged.
    loaded: OnceLock<Option<Loaded>>,
}

#[derive(Debug)]
struct Loaded {
    codes: Vec<i16>,
    /// The extremes of each [`GROUP`] of codes.
    groups: Vec<Extremes>,
}

impl Loaded {
    fn new(codes: Vec<i16>) -> Self {
        let groups = codes.chunks(GROUP).filter_map(Extremes::of).collect();
        Loaded { codes, groups }
    }

    fn extremes(&self, range: Range<usize>) -> Option<Extremes> {
        let whole = range.start.div_ceil(GROUP)..range.end / GROUP;
        if whole.start >= whole.end {
            return Extremes::of(&self.codes[range]);
        }
        let edges = [range.start..whole.start * GROUP, whole.end * GROUP..range.end];
        let edges = edges.into_iter().filter_map(|edge| Extremes::of(&self.codes[edge]));
        edges.chain(self.groups[whole].iter().copied()).reduce(Extremes::join)
    }
}

impl AnalogTrace {
    /// A line whose codes are fetched from `source` when they are first asked for.
    pub fn from_stored(
        source: &Arc<dyn AnalogSource>,
        line: AnalogId,
        blocks: &[StoredCodes],
        scale: AnalogScale,
        first: u64,
        every: u64,
    ) -> Self {
        let instants = SampleTimes::Grid { first, every: every.max(1) };
        AnalogTrace::stored_at(source, line, blocks, scale, instants)
    }

    /// The same of a line that holds its voltage from one change of a trace to the next: its first code is of
    /// tick 0, and each further one of an edge. Where the level of the trace is unknown, the voltage is.
    pub fn held_from_stored(
        source: &Arc<dyn AnalogSource>,
        line: AnalogId,
        blocks: &[StoredCodes],
        scale: AnalogScale,
        changes: Trace,
    ) -> Self {
        AnalogTrace::stored_at(source, line, blocks, scale, SampleTimes::Changes(Arc::new(changes)))
    }

    fn stored_at(
        source: &Arc<dyn AnalogSource>,
        line: AnalogId,
        blocks: &[StoredCodes],
        scale: AnalogScale,
        instants: SampleTimes,
    ) -> Self {
        let mut len = 0;
        let blocks = blocks.iter().map(|stored| {
            let start = len;
            len += stored.count as u64;
            Block { start, count: stored.count, extremes: stored.extremes, loaded: OnceLock::new() }
        });
        let blocks = blocks.collect();
        AnalogTrace { scale, instants, len, blocks, source: Some((Arc::clone(source), line)) }
    }

    /// How codes stand for voltages.
    pub fn scale(&self) -> AnalogScale {
        self.scale
    }

    /// The tick of the first sample.
    pub fn first(&self) -> Tick {
        self.instants.tick_of(0)
    }

    /// Ticks from one sample to the next; 1 where it holds, since it may change at any tick.
    pub fn every(&self) -> u64 {
        match self.instants {
            SampleTimes::Grid { every, .. } => every,
            SampleTimes::Changes(_) => 1,
        }
    }

    /// Whether each voltage holds until the next.
    pub fn holds(&self) -> bool {
        matches!(self.instants, SampleTimes::Changes(_))
    }

    /// Where a line that holds its voltage changes.
    pub(crate) fn changes(&self) -> Option<&Trace> {
        match &self.instants {
            SampleTimes::Grid { .. } => None,
            SampleTimes::Changes(trace) => Some(trace),
        }
    }

    /// Number of samples.
    pub fn len(&self) -> u64 {
        self.len
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// The tick of a sample.
    pub fn tick_of(&self, sample: u64) -> Tick {
        self.instants.tick_of(sample)
    }

    /// The last sample taken at or before a tick; `None` before the first one.
    pub fn sample_at(&self, tick: Tick) -> Option<u64> {
        self.instants.sample_at(tick, self.len)
    }

    /// The samples taken in a range of ticks, and one that holds on into it.
    pub fn samples_in(&self, range: Range<Tick>) -> Range<u64> {
        match &self.instants {
            SampleTimes::Grid { first, every } => {
                let number = |tick: Tick| tick.0.saturating_sub(*first).div_ceil(*every).min(self.len);
                let start = number(range.start);
                start..number(range.end).max(start)
            }
            SampleTimes::Changes(changes) => {
                let start = changes.count(Tick(0)..Tick(range.start.0.saturating_add(1)));
                let end = changes.count(Tick(0)..range.end).saturating_add(1);
                let start = start.min(self.len);
                let end = if range.is_empty() { start } else { end.min(self.len) };
                start..end.max(start)
            }
        }
    }

    /// Each code of a range of ticks with the number of its sample and its weight: one for each sample that
    /// was taken, the ticks for which a voltage holds. Those that are not known are left out.
    pub fn codes_in(&self, range: Range<Tick>) -> impl Iterator<Item = (u64, i16, u64)> {
        let samples = self.samples_in(range.clone());
        let first = self.block_of(samples.start).unwrap_or(self.blocks.len());
        let blocks = (first..self.blocks.len()).map(|number| (self.blocks[number].start, number));
        let blocks = blocks.take_while({
            let end = samples.end;
            move |(start, _)| *start < end
        });
        let held = self.holds();
        blocks.flat_map(move |(start, number)| {
            let codes = self.loaded(number).map_or(&[][..], |loaded| &loaded.codes[..]);
            let from = samples.start.saturating_sub(start).min(codes.len() as u64);
            let to = samples.end.saturating_sub(start).min(codes.len() as u64);
            let range = range.clone();
            (from..to).filter_map(move |at| {
                let sample = start + at;
                let weight = match held {
                    false => 1,
                    true if !self.instants.is_known(sample) => return None,
                    true => {
                        let (from, to) = (self.tick_of(sample).max(range.start), self.tick_of(sample + 1));
                        to.min(range.end).0.saturating_sub(from.0)
                    }
                };
                Some((sample, codes[at as usize], weight))
            })
        })
    }

    /// The code of a sample; `None` beyond the end or where it was lost.
    pub fn code(&self, sample: u64) -> Option<i16> {
        self.kept(sample).filter(|_| self.instants.is_known(sample))
    }

    /// The code that is kept of a sample, also where it only stands for a voltage that is not known.
    fn kept(&self, sample: u64) -> Option<i16> {
        let at = self.block_of(sample)?;
        self.loaded(at)?.codes.get((sample - self.blocks[at].start) as usize).copied()
    }

    /// The codes of some samples as they are kept, also those that only stand for a voltage that is not known;
    /// `None` where some were lost.
    pub(crate) fn recorded(&self, samples: Range<u64>) -> Option<Vec<i16>> {
        samples.map(|sample| self.kept(sample)).collect()
    }

    /// The voltage of the last sample taken at or before a tick.
    pub fn voltage_at(&self, tick: Tick) -> Option<Voltage> {
        self.code(self.sample_at(tick)?).map(|code| self.scale.voltage(code))
    }

    /// The extremes of the samples taken in a range of ticks; `None` when there is none.
    pub fn extremes(&self, range: Range<Tick>) -> Option<Extremes> {
        self.extremes_of(self.samples_in(range))
    }

    /// The extremes of some samples; `None` when there is none.
    pub fn extremes_of(&self, samples: Range<u64>) -> Option<Extremes> {
        // Where a voltage is not known, the code before stands for it: only the first of these matters.
        let known = |sample: &u64| self.instants.is_known(*sample);
        let samples = samples.clone().find(known)?..samples.end;
        let mut found: Option<Extremes> = None;
        let first = self.block_of(samples.start)?;
        for (number, block) in self.blocks.iter().enumerate().skip(first) {
            let (start, end) = (block.start, block.start + block.count as u64);
            if start >= samples.end {
                break;
            }
            if block.count == 0 {
                continue;
            }
            let part = samples.start.max(start)..samples.end.min(end);
            let extremes = if part == (start..end) {
                Some(block.extremes)
            } else {
                let local = (part.start - start) as usize..(part.end.max(part.start) - start) as usize;
                self.loaded(number).and_then(|loaded| loaded.extremes(local))
            };
            found = found.into_iter().chain(extremes).reduce(Extremes::join);
        }
        found
    }

    /// The blocks, each with the number of its first sample; `None` where the codes were lost. Where the voltage
    /// of a sample is not known, any code stands for it.
    pub fn blocks(&self) -> impl Iterator<Item = (u64, Option<&[i16]>)> {
        (0..self.blocks.len())
            .map(|number| (self.blocks[number].start, self.loaded(number).map(|l| l.codes.as_slice())))
    }

    fn block_of(&self, sample: u64) -> Option<usize> {
        let after = self.blocks.partition_point(|block| block.start <= sample);
        after.checked_sub(1).filter(|_| sample < self.len)
    }

    fn loaded(&self, number: usize) -> Option<&Loaded> {
        let block = self.blocks.get(number)?;
        let fetched = block.loaded.get_or_init(|| {
            let (source, line) = self.source.as_ref()?;
            let codes = source.load(*line, number).filter(|codes| codes.len() == block.count)?;
            Some(Loaded::new(codes))
        });
        fetched.as_ref()
    }

    /// The line as levels over `len` ticks; lost samples are unknown.
    pub(super) fn levels(&self, gate: Gate, len: u64) -> Trace {
        let mut level = Level::Unknown;
        let mut edges: Vec<(u64, Level)> = Vec::new();
        let mut set = |level: &mut Level, sample: u64, to: Level| {
            if std::mem::replace(level, to) != to {
                edges.push((sample, to));
            }
        };
        let gaps = self.changes().is_some_and(Trace::is_ever_unknown);
        for (number, block) in self.blocks.iter().enumerate() {
            let Extremes { least, most } = block.extremes;
            if !gaps && gate.keeps(level, least, most) && block.loaded.get().is_none_or(Option::is_some) {
                continue;
            }
            match self.loaded(number) {
                None => set(&mut level, block.start, Level::Unknown),
                Some(loaded) => {
                    for (sample, code) in (block.start..).zip(&loaded.codes) {
                        let next = match gaps && !self.instants.is_known(sample) {
                            true => Level::Unknown,
                            false => gate.next(level, *code),
                        };
                        set(&mut level, sample, next);
                    }
                }
            }
        }
        // What the first sample shows is taken for what was before it.
        let mut changes = edges.into_iter().peekable();
        let start = changes.next_if(|(sample, _)| *sample == 0).map_or(Level::Unknown, |(_, level)| level);
        let mut builder = TraceBuilder::new(start);
        for (sample, level) in changes {
            let tick = self.tick_of(sample);
            if tick.0 >= len || builder.push_edge(tick, level).is_err() {
                break;
            }
        }
        builder.finish(len)
    }
}

/// Builds an [`AnalogTrace`] in order of time.
#[derive(Debug, Default)]
pub struct AnalogBuilder {
    blocks: Vec<Block>,
    open: Vec<i16>,
}

impl AnalogBuilder {
    /// No samples yet.
    pub fn new() -> Self {
        AnalogBuilder::default()
    }

    /// Samples taken in so far.
    pub fn len(&self) -> u64 {
        self.blocks.last().map_or(0, |b| b.start + b.count as u64) + self.open.len() as u64
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Appends samples.
    pub fn push(&mut self, mut codes: &[i16]) {
        while !codes.is_empty() {
            let (now, later) = codes.split_at(codes.len().min(ANALOG_BLOCK - self.open.len()));
            self.open.extend_from_slice(now);
            codes = later;
            if self.open.len() == ANALOG_BLOCK {
                self.close();
            }
        }
    }

    fn close(&mut self) {
        let Some(extremes) = Extremes::of(&self.open) else { return };
        let start = self.blocks.last().map_or(0, |b| b.start + b.count as u64);
        let codes = std::mem::take(&mut self.open);
        let count = codes.len();
        let loaded = OnceLock::from(Some(Loaded::new(codes)));
        self.blocks.push(Block { start, count, extremes, loaded });
    }

    /// The finished line: its scale, the tick of the first sample, and ticks from one sample to the
    /// next (at least 1).
    pub fn finish(self, scale: AnalogScale, first: u64, every: u64) -> AnalogTrace {
        self.finish_at(scale, SampleTimes::Grid { first, every: every.max(1) })
    }

    pub(super) fn finish_at(mut self, scale: AnalogScale, instants: SampleTimes) -> AnalogTrace {
        self.close();
        let len = self.len();
        AnalogTrace { scale, instants, len, blocks: self.blocks, source: None }
    }
}
