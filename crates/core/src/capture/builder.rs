//! Building a trace, from edges in order or from blocks of samples.

use std::sync::OnceLock;

use super::chunks::{CHUNK, ChunksBuilder};
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
    edges: u64,
    edges_done: u64,
    /// First tick that may still change; everything before is decided.
    next: u64,
    level: Level,
}

impl TraceBuilder {
    /// A trace that has this level at tick 0.
    pub fn new(start: Level) -> Self {
        TraceBuilder {
            done: Vec::new(),
            open: ChunksBuilder::new(start),
            open_start: 0,
            open_entry: start,
            edges: 0,
            edges_done: 0,
            next: 1,
            level: start,
        }
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
    fn make_room(&mut self, tick: u64) {
        let chunks = (tick - self.open_start) / CHUNK;
        if chunks > 0 && (self.open.weight() >= SEGMENT_WEIGHT || chunks >= SEGMENT_CHUNKS) {
            self.close(self.open_start + chunks * CHUNK);
        }
    }

    fn append(&mut self, tick: u64, level: Level) {
        self.make_room(tick);
        self.open.push(tick - self.open_start, level);
        self.level = level;
        self.edges += 1;
    }

    fn close(&mut self, border: u64) {
        let chunks = std::mem::replace(&mut self.open, ChunksBuilder::new(self.level)).finish();
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
        self.open_start = border;
        self.open_entry = self.level;
    }

    /// Appends `count` samples that lie in one aligned group of 64 ticks: bit `i` of `levels` is the
    /// sample at the tick `position + i`, and a one in `unknown` says that it is not known. More
    /// than fit into the group are left out. The very first sample, at tick 0, replaces the start
    /// level.
    pub fn push_samples(&mut self, position: Tick, levels: u64, unknown: u64, count: u32) {
        let count = count.min(64 - (position.0 % 64) as u32);
        if count == 0 {
            return;
        }
        let valid = u64::MAX >> (64 - count);
        let (levels, unknown) = (levels & valid, unknown & valid);
        let base = position.0;
        if base == 0 {
            let first = if unknown & 1 == 1 { Level::Unknown } else { Level::from(levels & 1 == 1) };
            *self = TraceBuilder::new(first);
        }
        match self.level.bit().filter(|_| unknown == 0) {
            Some(bit) => {
                let toggles = (levels ^ (levels << 1 | u64::from(bit))) & valid;
                // The first sample of all has nothing before it.
                debug_assert!(base > 0 || toggles & 1 == 0);
                if toggles != 0 {
                    self.make_room(base);
                    self.open.push_word(base - self.open_start, toggles, levels, count);
                    self.level = Level::from(levels >> (count - 1) & 1 == 1);
                    self.edges += u64::from(toggles.count_ones());
                }
            }
            None => {
                for at in 0..count {
                    let level = match (unknown >> at & 1, levels >> at & 1) {
                        (1, _) => Level::Unknown,
                        (_, bit) => Level::from(bit == 1),
                    };
                    if level != self.level {
                        self.append(base + u64::from(at), level);
                    }
                }
            }
        }
        self.next = base + u64::from(count);
    }

    /// The finished trace of `len` ticks; edges at or after `len` do not exist by contract of the
    /// `push` functions' callers, and `len` is raised to include them if they do.
    pub fn finish(mut self, len: u64) -> Trace {
        let len = if self.edges == 0 { len } else { len.max(self.next) };
        let border = self.open_start;
        self.close(border);
        Trace { segments: self.done, len, edges: self.edges }
    }
}
