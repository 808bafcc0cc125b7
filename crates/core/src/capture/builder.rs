//! Building a trace, from edges in order or from blocks of samples.

use std::sync::OnceLock;

use super::chunks::{CHUNK, Chunks};
use super::chunks_builder::ChunksBuilder;
use super::trace::{Segment, Trace};
use crate::error::{Error, ErrorKind, Result};
use crate::line::Level;
use crate::time::{MAX_TICKS, Tick};

/// A segment is closed at the next chunk border once its pools hold this many entries, so that
/// growing never copies, nor reserves in vain, more than a few megabytes.
const SEGMENT_WEIGHT: usize = 1 << 20;
/// Longest segment in chunks; keeps chunk numbers inside a segment far below 2^32.
const SEGMENT_CHUNKS: u64 = 1 << 24;

/// Builds a [`Trace`] in order of time.
///
/// ```
/// use deep_tap_core::capture::TraceBuilder;
/// use deep_tap_core::line::Level;
/// use deep_tap_core::time::Tick;
///
/// let mut builder = TraceBuilder::new(Level::Low);
/// builder.push_edge(Tick(5), Level::High)?;
/// builder.push_edge(Tick(9), Level::Low)?;
/// let trace = builder.finish(100);
/// assert_eq!(trace.edge_count(), 2);
/// assert_eq!(trace.level_at(Tick(5)), Level::High);
/// assert_eq!(trace.next_edge(Tick(5)).unwrap().tick, Tick(9));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Debug)]
pub struct TraceBuilder {
    done: Vec<Segment>,
    open: ChunksBuilder,
    open_start: u64,
    open_entry: Level,
    /// Edges in the segments that are done.
    edges_done: u64,
    /// From here on, an edge lies in a later chunk than the last one did.
    border: u64,
    /// First tick that may still change; everything before is decided.
    next: u64,
    level: Level,
}

impl Trace {
    /// A line that kept one level.
    pub fn constant(level: Level, len: u64) -> Trace {
        TraceBuilder::new(level).finish(len)
    }

    /// A trace of `len` ticks that has a level at tick 0 and the other one from each of these ticks on.
    ///
    /// ```
    /// use deep_tap_core::capture::Trace;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::Tick;
    ///
    /// let strobe = Trace::toggling(Level::High, [40, 44], 100)?;
    /// assert_eq!((strobe.edge_count(), strobe.level_at(Tick(41))), (2, Level::Low));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// When the ticks do not rise, or one is 0 or beyond what a capture can hold.
    pub fn toggling(start: Level, ticks: impl IntoIterator<Item = u64>, len: u64) -> Result<Trace> {
        let mut builder = TraceBuilder::new(start);
        for tick in ticks {
            builder.push_edge(Tick(tick), builder.level().opposite())?;
        }
        Ok(builder.finish(len))
    }
}

impl TraceBuilder {
    /// A trace that has this level at tick 0.
    pub fn new(start: Level) -> Self {
        TraceBuilder {
            done: Vec::new(),
            open: ChunksBuilder::new(start),
            open_start: 0,
            open_entry: start,
            edges_done: 0,
            border: CHUNK,
            next: 1,
            level: start,
        }
    }

    /// The continuation from `start` on, a multiple of a chunk's length, of a trace that has this
    /// level before.
    pub(crate) fn resume(level: Level, start: u64) -> Self {
        debug_assert!(start.is_multiple_of(CHUNK));
        TraceBuilder { open_start: start, border: start + CHUNK, next: start, ..TraceBuilder::new(level) }
    }

    /// Makes bitmaps of chunks with more edges than this.
    pub(crate) fn bitmaps_above(&mut self, edges: usize) {
        self.open.dense_above(edges);
    }

    /// The level at the last tick so far.
    pub fn level(&self) -> Level {
        self.level
    }

    /// Appends a change to `level` at `tick`. A change to the level the line already has is ignored.
    ///
    /// # Errors
    /// When `tick` is 0 (that is the start level), not after everything appended before, or beyond
    /// what a capture can hold.
    pub fn push_edge(&mut self, tick: Tick, level: Level) -> Result<()> {
        if tick.0 >= MAX_TICKS {
            return Err(Error::new(
                ErrorKind::Range,
                format!("an edge at {tick} is beyond what a capture can hold"),
            ));
        }
        if tick.0 < self.next {
            let message =
                format!("an edge at {tick} comes after the record already reached tick {}", self.next);
            return Err(
                Error::new(ErrorKind::Capture, message).with_help("edges are appended in order of time")
            );
        }
        if level != self.level {
            self.append(tick.0, level);
        }
        self.next = tick.0 + 1;
        Ok(())
    }

    /// Closes the open segment if it is full and `tick` lies in a later chunk.
    #[inline]
    fn make_room(&mut self, tick: u64) {
        if tick >= self.border {
            let chunks = (tick - self.open_start) / CHUNK;
            let start = self.open_start + chunks * CHUNK;
            self.border = start + CHUNK;
            if self.open.weight() >= SEGMENT_WEIGHT || chunks >= SEGMENT_CHUNKS {
                self.close(start);
            }
        }
    }

    fn append(&mut self, tick: u64, level: Level) {
        self.make_room(tick);
        self.open.push(tick - self.open_start, level);
        self.level = level;
    }

    fn close(&mut self, border: u64) {
        let chunks = self.open.next_segment();
        self.keep(chunks);
        self.open_start = border;
        self.open_entry = self.level;
    }

    fn keep(&mut self, chunks: Chunks) {
        let edges = chunks.edges();
        self.done.push(Segment {
            start: self.open_start,
            edges_before: self.edges_done,
            edges,
            entry: self.open_entry,
            store: OnceLock::from(Some(chunks)),
            source: None,
        });
        self.edges_done += edges;
    }

    /// Appends a change at a tick after everything before that is within what a capture can hold. One to
    /// the level the line already has is ignored.
    #[inline]
    pub(crate) fn push_change(&mut self, tick: u64, level: Level) {
        if level == self.level {
            return;
        }
        match (level.bit(), self.level.bit()) {
            (Some(_), Some(_)) => self.push_toggle(tick),
            _ => {
                self.append(tick, level);
                self.next = tick + 1;
            }
        }
    }

    /// Appends an edge to the other level at a tick after everything before; the present level is
    /// known.
    #[inline]
    pub(crate) fn push_toggle(&mut self, tick: u64) {
        debug_assert!(tick >= self.next && self.level != Level::Unknown);
        self.make_room(tick);
        self.open.push_toggle(tick - self.open_start);
        self.level = self.level.opposite();
        self.next = tick + 1;
    }

    /// Appends `count` samples. Word `w` holds the aligned group of 64 ticks that is `w` groups after
    /// the one of `position`: bit `i` is the sample at the group's `i`-th tick, so that the first
    /// sample is bit `position % 64` of the first word. A one in `unknown` says that the level is
    /// not known; it is empty when all are. Samples without words are left out. The very first
    /// sample, at tick 0, replaces the start level.
    pub fn push_samples(&mut self, position: Tick, levels: &[u64], unknown: &[u64], count: u32) {
        let end = position.0 + u64::from(count);
        if count > 0
            && position.0 == 0
            && let Some(word) = levels.first()
        {
            let open = unknown.first().is_some_and(|word| word & 1 == 1);
            let start = if open { Level::Unknown } else { Level::from(word & 1 == 1) };
            let open = self.open.successor(start);
            *self = TraceBuilder { open, ..TraceBuilder::new(start) };
        }
        let (mut tick, mut at) = (position.0, 0);
        while tick < end && at < levels.len() {
            let whole = self.whole_words(tick, end, &levels[at..], unknown);
            if whole > 0 {
                self.make_room(tick);
                self.open.push_words(tick - self.open_start, &levels[at..at + whole]);
                self.level = self.open.level();
                tick += whole as u64 * 64;
                at += whole;
                continue;
            }
            let shift = tick % 64;
            let stop = (tick - shift + 64).min(end);
            let count = (stop - tick) as u32;
            let valid = u64::MAX >> (64 - count);
            let unknown = unknown.get(at).map_or(0, |word| word >> shift & valid);
            self.push_word(tick, levels[at] >> shift & valid, unknown, count);
            (tick, at) = (stop, at + 1);
        }
        self.next = tick;
    }

    /// How many whole words of known levels follow in the chunk that holds `tick`.
    fn whole_words(&self, tick: u64, end: u64, levels: &[u64], unknown: &[u64]) -> usize {
        if !tick.is_multiple_of(64) || !unknown.is_empty() || self.level == Level::Unknown {
            return 0;
        }
        let room = (CHUNK - (tick - self.open_start) % CHUNK).min(end - tick) / 64;
        levels.len().min(room as usize)
    }

    /// Appends 1 to 64 samples of one aligned group, the first of them in bit 0.
    #[inline]
    fn push_word(&mut self, tick: u64, levels: u64, unknown: u64, count: u32) {
        match self.level.bit().filter(|_| unknown == 0) {
            Some(bit) => {
                let toggles = (levels ^ (levels << 1 | u64::from(bit))) & (u64::MAX >> (64 - count));
                if toggles != 0 {
                    self.make_room(tick);
                    self.open.push_word(tick - self.open_start, toggles, levels, count);
                    self.level = Level::from(levels >> (count - 1) & 1 == 1);
                }
            }
            None => {
                for at in 0..count {
                    let level = match (unknown >> at & 1, levels >> at & 1) {
                        (1, _) => Level::Unknown,
                        (_, bit) => Level::from(bit == 1),
                    };
                    if level != self.level {
                        self.append(tick + u64::from(at), level);
                    }
                }
            }
        }
    }

    /// Pool entries held, as a measure of size.
    pub(crate) fn weight(&self) -> usize {
        self.open.weight()
    }

    /// Hands over everything before `border`, a multiple of a chunk's length, and goes on there; what came
    /// in already lies before the end of the chunk that begins there. Ticks in the part are those of the
    /// whole; its edges are numbered anew.
    pub(crate) fn cut(&mut self, border: u64) -> Trace {
        debug_assert!(border.is_multiple_of(CHUNK) && self.next <= border + CHUNK);
        if self.open_start < border {
            let chunks = self.open.cut((border - self.open_start) / CHUNK);
            let exit = chunks.exit();
            self.keep(chunks);
            (self.open_start, self.open_entry) = (border, exit);
        }
        self.border = border + CHUNK;
        let edges = std::mem::take(&mut self.edges_done);
        Trace::of(std::mem::take(&mut self.done), border, edges)
    }

    /// What came in since the last [`cut`](Self::cut), as far as it is known: it may be given again.
    pub(crate) fn tail(&self) -> Trace {
        let chunks = self.open.clone().finish();
        let edges = chunks.edges();
        let segment = Segment {
            start: self.open_start,
            edges_before: 0,
            edges,
            entry: self.open_entry,
            store: OnceLock::from(Some(chunks)),
            source: None,
        };
        Trace::of(vec![segment], self.next, edges)
    }

    /// The finished trace of `len` ticks; edges at or after `len` do not exist by contract of the
    /// `push` functions' callers, and `len` is raised to include them if they do.
    pub fn finish(mut self, len: u64) -> Trace {
        let border = self.open_start;
        self.close(border);
        let len = if self.edges_done == 0 { len } else { len.max(self.next) };
        Trace::of(self.done, len, self.edges_done)
    }
}
