//! One line over time, and the questions that can be asked of it.

use std::fmt;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use super::chunk_marks::ChunkMarks;
use super::chunks::{CHUNK, ChunkCursor, Chunks, Step};
use super::chunks_builder::ChunksBuilder;
use super::past::Past;
use crate::line::{Level, LineId, Narrowest};
use crate::time::Tick;

/// Edges that are read together.
const STEPS: usize = 512;

/// A change of level.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Edge {
    /// The first tick that shows the new level.
    pub tick: Tick,
    /// The level before.
    pub from: Level,
    /// The level from this tick on.
    pub to: Level,
}

impl Edge {
    /// From low to high.
    pub fn is_rise(&self) -> bool {
        self.from == Level::Low && self.to == Level::High
    }

    /// From high to low.
    pub fn is_fall(&self) -> bool {
        self.from == Level::High && self.to == Level::Low
    }
}

/// Where a trace fetches segments from that are not in memory yet.
///
/// For who implements it: `load` is called at most once per segment that is asked for, from any
/// thread. It returns `None` when the stored segment is damaged, after having noted the damage
/// wherever the owner of the capture will look for it.
pub trait SegmentSource: Send + Sync + std::fmt::Debug {
    /// The edges of `line` in stored block `block`.
    fn load(&self, line: LineId, block: usize) -> Option<Chunks>;
}

#[derive(Debug)]
pub(super) struct Segment {
    pub(super) start: u64,
    pub(super) edges_before: u64,
    pub(super) edges: u64,
    pub(super) entry: Level,
    pub(super) store: OnceLock<Option<Chunks>>,
    pub(super) source: Option<(Arc<dyn SegmentSource>, LineId, usize)>,
}

impl Segment {
    /// The edges, fetched on first touch; `None` when they are damaged.
    pub(super) fn chunks(&self) -> Option<&Chunks> {
        let fetch = || match &self.source {
            // The index says enough about a segment without edges.
            Some(_) if self.edges == 0 => Some(ChunksBuilder::new(self.entry).finish()),
            Some((source, line, block)) => source.load(*line, *block),
            None => None,
        };
        self.store.get_or_init(fetch).as_ref()
    }
}

/// One segment of a trace that will be fetched on first touch, as an index describes it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StoredSegment {
    /// First tick; the segments of a trace follow each other without gaps.
    pub start: Tick,
    /// Edges of the line before this segment.
    pub edges_before: u64,
    /// Level carried into the segment.
    pub entry: Level,
}

/// One line over time.
///
/// Ticks run from 0 to [`len`](Trace::len), exclusive. The edge numbered `i` is the `i`-th change
/// of level, from 0; there is none at tick 0. All questions about a place are answered by binary
/// search, whatever the length of the record.
///
/// Where a stored segment turns out to be damaged, the level is [`Level::Unknown`] throughout it;
/// edge numbers and counts go on as the index of the file states them.
pub struct Trace {
    pub(super) segments: Vec<Segment>,
    pub(super) len: u64,
    pub(super) edges: u64,
    pub(super) asked: Asked,
    pub(super) past: Past,
}

/// What all of it shows, once that was asked for: how narrow its pulses are, whether its level is ever unknown, or
/// neither low nor high.
#[derive(Debug, Default)]
pub(super) struct Asked {
    pub(super) narrowest: OnceLock<Option<Narrowest>>,
    pub(super) single: OnceLock<Option<Tick>>,
    pub(super) unknown: OnceLock<bool>,
    pub(super) two_level: OnceLock<bool>,
}

/// Without the edges, of which there can be millions.
impl fmt::Debug for Trace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Trace").field("len", &self.len).field("edges", &self.edges).finish_non_exhaustive()
    }
}

impl Trace {
    pub(super) fn of(segments: Vec<Segment>, len: u64, edges: u64) -> Trace {
        Trace { segments, len, edges, asked: Asked::default(), past: Past::default() }
    }

    /// A trace whose segments are fetched on first touch. `segments` are in order of time and
    /// start at tick 0; `edges` is the total number of edges.
    pub fn from_stored(
        source: &Arc<dyn SegmentSource>,
        line: LineId,
        segments: &[StoredSegment],
        len: u64,
        edges: u64,
    ) -> Trace {
        let ends = segments.iter().skip(1).map(|next| next.edges_before).chain([edges]);
        let segments = segments.iter().zip(ends).enumerate().map(|(block, (stored, end))| Segment {
            start: stored.start.0,
            edges_before: stored.edges_before,
            edges: end.saturating_sub(stored.edges_before),
            entry: stored.entry,
            store: OnceLock::new(),
            source: Some((Arc::clone(source), line, block)),
        });
        Trace::of(segments.collect(), len, edges)
    }

    /// Puts continuations behind each other.
    pub(crate) fn join(parts: impl IntoIterator<Item = Trace>) -> Trace {
        let mut whole = Trace::of(Vec::new(), 0, 0);
        for part in parts {
            let before = whole.edges;
            let moved = |s: Segment| Segment { edges_before: s.edges_before + before, ..s };
            whole.segments.extend(part.segments.into_iter().map(moved));
            whole.len = whole.len.max(part.len);
            whole.edges += part.edges;
        }
        whole
    }

    /// Length in ticks.
    pub fn len(&self) -> u64 {
        self.len
    }

    /// Whether there is not a single tick.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Number of edges in the whole record.
    pub fn edge_count(&self) -> u64 {
        self.edges
    }

    /// Bytes of memory that the edges loaded so far take.
    pub fn memory(&self) -> usize {
        let chunks = |s: &Segment| s.store.get().and_then(Option::as_ref).map_or(0, Chunks::bytes);
        self.segments.iter().map(|s| size_of::<Segment>() + chunks(s)).sum()
    }

    /// Whether the level is unknown anywhere. Looks at every segment, but not at every edge.
    pub fn is_ever_unknown(&self) -> bool {
        let unknown =
            |s: &Segment| s.chunks().is_none_or(|c| s.entry == Level::Unknown || c.is_ever(Level::Unknown));
        *self.asked.unknown.get_or_init(|| self.past.is_ever_unknown() || self.segments.iter().any(unknown))
    }

    /// Whether the line floats anywhere.
    pub fn is_ever_floating(&self) -> bool {
        let floats = |s: &Segment| {
            s.entry == Level::Floating || s.chunks().is_some_and(|c| c.is_ever(Level::Floating))
        };
        self.segments.iter().any(floats)
    }

    /// Whether the level is low or high throughout.
    pub(crate) fn is_two_level(&self) -> bool {
        let two = |s: &Segment| s.entry.bit().is_some() && s.chunks().is_some_and(Chunks::is_two_level);
        *self.asked.two_level.get_or_init(|| self.segments.iter().all(two))
    }

    fn segment_at(&self, tick: u64) -> Option<usize> {
        self.segments.partition_point(|s| s.start <= tick).checked_sub(1)
    }

    /// The level at a tick; from the end of the record on, the last level.
    ///
    /// ```
    /// use deep_tap_core::capture::Trace;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::Tick;
    ///
    /// let strobe = Trace::toggling(Level::High, [40, 44, 90], 100)?;
    /// assert_eq!((strobe.level_at(Tick(43)), strobe.level_at(Tick(44))), (Level::Low, Level::High));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn level_at(&self, tick: Tick) -> Level {
        let tick = tick.0.min(self.len.saturating_sub(1));
        let Some(index) = self.segment_at(tick) else {
            // A part of a trace begins later: what comes before it is the level carried in.
            return self.segments.first().map_or(Level::Unknown, |first| first.entry);
        };
        let segment = &self.segments[index];
        segment.chunks().map_or(Level::Unknown, |c| c.level(tick - segment.start))
    }

    fn count_before(&self, tick: u64) -> u64 {
        if tick >= self.len {
            return self.edges;
        }
        let Some(index) = self.segment_at(tick) else { return 0 };
        let segment = &self.segments[index];
        if tick == segment.start {
            return segment.edges_before;
        }
        segment.edges_before + segment.chunks().map_or(0, |c| c.rank(tick - segment.start))
    }

    /// Number of edges at ticks in `range`. A range that is upside down is empty.
    ///
    /// ```
    /// use deep_tap_core::capture::Trace;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::Tick;
    ///
    /// let strobe = Trace::toggling(Level::High, [40, 44, 90], 100)?;
    /// assert_eq!(strobe.count(Tick(40)..Tick(90)), 2, "the end is not in it");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn count(&self, range: Range<Tick>) -> u64 {
        self.count_before(range.end.0).saturating_sub(self.count_before(range.start.0))
    }

    /// The edge with this number, from 0.
    ///
    /// ```
    /// use deep_tap_core::capture::Trace;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::Tick;
    ///
    /// let strobe = Trace::toggling(Level::High, [40, 44, 90], 100)?;
    /// let second = strobe.nth_edge(1).unwrap();
    /// assert_eq!((second.tick, second.is_rise()), (Tick(44), true));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn nth_edge(&self, number: u64) -> Option<Edge> {
        if number >= self.edges {
            return None;
        }
        let index = self.segments.partition_point(|s| s.edges_before <= number).checked_sub(1)?;
        let segment = &self.segments[index];
        let (offset, to) = segment.chunks()?.select(number - segment.edges_before)?;
        let tick = Tick(segment.start + offset);
        Some(Edge { tick, from: self.level_before(tick), to })
    }

    fn level_before(&self, tick: Tick) -> Level {
        self.level_at(Tick(tick.0.saturating_sub(1)))
    }

    /// The first edge after `tick`, not at it.
    ///
    /// ```
    /// use deep_tap_core::capture::Trace;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::Tick;
    ///
    /// let strobe = Trace::toggling(Level::High, [40, 44, 90], 100)?;
    /// assert_eq!(strobe.next_edge(Tick(44)).unwrap().tick, Tick(90));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn next_edge(&self, tick: Tick) -> Option<Edge> {
        self.edges(Tick(tick.0.saturating_add(1))..Tick(self.len)).next()
    }

    /// The last edge before `tick`, not at it.
    ///
    /// ```
    /// use deep_tap_core::capture::Trace;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::Tick;
    ///
    /// let strobe = Trace::toggling(Level::High, [40, 44, 90], 100)?;
    /// assert_eq!(strobe.prev_edge(Tick(44)).unwrap().tick, Tick(40));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn prev_edge(&self, tick: Tick) -> Option<Edge> {
        let mut end = tick.0.min(self.len);
        loop {
            let index = self.segment_at(end.checked_sub(1)?)?;
            let segment = &self.segments[index];
            if let Some(chunks) = segment.chunks()
                && let Some(last) = chunks.rank(end - segment.start).checked_sub(1)
                && let Some((offset, to)) = chunks.select(last)
            {
                let tick = Tick(segment.start + offset);
                return Some(Edge { tick, from: self.level_before(tick), to });
            }
            if let Some(edge) = self.border_edge(index) {
                return Some(edge);
            }
            end = segment.start;
        }
    }

    /// The change of level at the border of a damaged segment.
    fn border_edge(&self, index: usize) -> Option<Edge> {
        let before = self.segments.get(index.checked_sub(1)?)?;
        let segment = &self.segments[index];
        if before.chunks().is_some() && segment.chunks().is_some() {
            return None;
        }
        let tick = Tick(segment.start);
        let (from, to) = (before.chunks().map_or(Level::Unknown, Chunks::exit), self.level_at(tick));
        (from != to).then_some(Edge { tick, from, to })
    }

    /// Sets the bit of each tick with an edge among the 65 536 from `start` on, a multiple of that;
    /// `to` is the level it leads to, if it matters. Whether there is any. Only for a trace that is
    /// never unknown.
    pub(crate) fn mark_edges(&self, start: u64, to: Option<Level>, marks: &mut ChunkMarks) -> bool {
        let Some(index) = self.segment_at(start) else { return false };
        let segment = &self.segments[index];
        let end = start.saturating_add(CHUNK);
        let offset = start - segment.start;
        let next = self.segments.get(index + 1).map_or(u64::MAX, |next| next.start);
        if offset.is_multiple_of(CHUNK)
            && end <= next
            && let Some(chunks) = segment.chunks()
        {
            return chunks.mark_edges(offset / CHUNK, to, marks);
        }
        let mut any = false;
        for edge in self.edges(Tick(start)..Tick(end)).filter(|e| to.is_none_or(|to| e.to == to)) {
            marks.set((edge.tick.0 - start) as u16);
            any = true;
        }
        any
    }

    /// The levels of the ticks from `start` on, 64 per word: a one where it is high. Only for a trace that is never
    /// unknown; beyond its end, the last level goes on.
    pub(crate) fn levels_from(&self, start: u64, out: &mut [u64]) {
        let end = start + out.len() as u64 * 64;
        let all = |level: Level| if level == Level::High { u64::MAX } else { 0 };
        let mut level = self.level_at(Tick(start));
        let (mut at, mut word) = (0, all(level));
        let mut steps = Vec::new();
        let mut edges = self.edges(Tick(start + 1)..Tick(end));
        loop {
            steps.clear();
            edges.fill(STEPS, &mut steps);
            if steps.is_empty() {
                break;
            }
            for (tick, to) in &steps {
                let place = ((tick - start) / 64) as usize;
                if place > at {
                    out[at] = word;
                    out[at + 1..place].fill(all(level));
                    (at, word) = (place, all(level));
                }
                let later = u64::MAX << ((tick - start) % 64);
                level = *to;
                word = word & !later | all(level) & later;
            }
        }
        out[at] = word;
        out[at + 1..].fill(all(level));
    }

    /// The edges at ticks in `range`, in order.
    ///
    /// ```
    /// use deep_tap_core::capture::Trace;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::Tick;
    ///
    /// let strobe = Trace::toggling(Level::High, [40, 44, 90], 100)?;
    /// let falls = strobe.edges(Tick(0)..Tick(100)).filter(|edge| edge.is_fall());
    /// assert_eq!(falls.map(|edge| edge.tick.0).collect::<Vec<_>>(), [40, 90]);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn edges(&self, range: Range<Tick>) -> Edges<'_> {
        let end = range.end.0.min(self.len);
        let mut edges =
            Edges { trace: self, segment: 0, from: range.start.0, end, cursor: None, level: Level::Unknown };
        match self.segment_at(range.start.0).filter(|_| range.start.0 < end) {
            Some(index) => {
                edges.segment = index;
                edges.level = self.level_before(range.start);
            }
            None => edges.end = 0,
        }
        edges
    }
}

/// The edges of a trace in a range of ticks, in order. Made by [`Trace::edges`].
#[derive(Clone, Debug)]
pub struct Edges<'a> {
    trace: &'a Trace,
    segment: usize,
    /// Edges before this tick are not wanted.
    from: u64,
    end: u64,
    /// `None` until the segment has been entered.
    cursor: Option<ChunkCursor>,
    level: Level,
}

impl Edges<'_> {
    /// Copies the levels of the ticks from `start` on, 64 per word, straight out of a busy chunk.
    /// The edges go on behind them. `None`, with nothing done, where there is no such chunk.
    ///
    /// At most one edge at `start` or later may have been taken before.
    pub(crate) fn words(&mut self, start: u64, out: &mut [u64]) -> Option<Level> {
        let segment = self.trace.segments.get(self.segment)?;
        let chunks = segment.chunks()?;
        let offset = start.checked_sub(segment.start)?;
        self.level = chunks.dense_words(self.cursor.as_mut()?, offset, out)?;
        Some(self.level)
    }
}

impl Edges<'_> {
    /// Appends the next edges, each with its tick and the level that it leads to: many at once, but at
    /// least one unless there is none left.
    pub(crate) fn fill(&mut self, most: usize, out: &mut Vec<Step>) {
        while out.is_empty() {
            let segment = self.trace.segments.get(self.segment).filter(|segment| segment.start < self.end);
            let (Some(cursor), Some(segment)) = (&mut self.cursor, segment) else {
                match self.next() {
                    Some(edge) => out.push((edge.tick.0, edge.to)),
                    None => return,
                }
                continue;
            };
            let (start, end) = (segment.start, self.end - segment.start);
            if !segment.chunks().is_some_and(|chunks| cursor.fill(chunks, end, most, out)) {
                // The next segment, or the end.
                (self.segment, self.cursor) = (self.segment + 1, None);
            }
            out.iter_mut().for_each(|(tick, _)| *tick += start);
        }
        if let Some((_, level)) = out.last() {
            self.level = *level;
        }
    }
}

impl Iterator for Edges<'_> {
    type Item = Edge;

    fn next(&mut self) -> Option<Edge> {
        loop {
            let segment = self.trace.segments.get(self.segment)?;
            if segment.start >= self.end {
                return None;
            }
            let chunks = segment.chunks();
            let Some(cursor) = &mut self.cursor else {
                let border =
                    (self.from <= segment.start).then(|| self.trace.border_edge(self.segment)).flatten();
                let skip = self.from.saturating_sub(segment.start) + u64::from(border.is_some());
                self.cursor = Some(chunks.map_or(ChunkCursor::AT_END, |chunks| chunks.cursor(skip)));
                if let Some(edge) = border {
                    self.level = edge.to;
                    return Some(edge);
                }
                continue;
            };
            if let Some((offset, to)) = chunks.and_then(|chunks| cursor.next(chunks)) {
                let tick = segment.start + offset;
                if tick >= self.end {
                    self.segment = self.trace.segments.len();
                    return None;
                }
                let from = std::mem::replace(&mut self.level, to);
                return Some(Edge { tick: Tick(tick), from, to });
            }
            self.segment += 1;
            self.cursor = None;
        }
    }
}
