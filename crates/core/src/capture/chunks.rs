//! Storage of one segment of a trace: quiet, sparse, dense and mixed chunks.
//!
//! A chunk is 65 536 ticks. A *quiet* one (no edge) has no entry at all; a *sparse* one is a
//! sorted list of 16-bit offsets between levels that alternate; a *dense* one is a bitmap of
//! levels; a *mixed* one, needed only where a level is unknown, is a list of offsets followed by
//! a list of levels. Sparse gives way to dense where the bitmap is the smaller of the two.
//!
//! To the next editor: [`ChunksBuilder::close_chunk`] decides the kind, and `select`, `rank`,
//! `level` and [`ChunkCursor`] each have one arm per kind; they change together.

use crate::line::Level;

/// Ticks per chunk.
pub(crate) const CHUNK: u64 = 1 << 16;
/// Words of a dense chunk's bitmap.
const WORDS: usize = (CHUNK / 64) as usize;
/// Above this many edges, two bytes per edge exceed the bitmap's 8 KiB.
const DENSE_ABOVE: usize = WORDS * 4;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Sparse,
    Dense,
    Mixed,
}

/// Directory entry of a chunk that has edges.
#[derive(Clone, Copy, Debug)]
struct Entry {
    /// Chunk number, counted from the segment's start.
    chunk: u32,
    /// Edges in the segment before this chunk.
    before: u32,
    /// Index into the pool that the kind implies.
    at: u32,
    kind: Kind,
    /// Level carried in from the chunk before.
    entry: Level,
}

/// An edge inside a segment: its offset in ticks and the level it leads to.
pub(crate) type Step = (u64, Level);

/// The edges of one line over one segment.
#[derive(Clone, Debug)]
pub struct Chunks {
    directory: Vec<Entry>,
    offsets: Vec<u16>,
    words: Vec<u64>,
    edges: u32,
    exit: Level,
}

impl Chunks {
    pub(crate) fn edges(&self) -> u64 {
        u64::from(self.edges)
    }

    pub(crate) fn exit(&self) -> Level {
        self.exit
    }

    /// Whether a level is unknown after some edge.
    pub(crate) fn is_ever_unknown(&self) -> bool {
        self.directory.iter().any(|e| e.kind == Kind::Mixed)
    }

    /// Bytes of memory held.
    pub(crate) fn bytes(&self) -> usize {
        self.directory.capacity() * size_of::<Entry>()
            + self.offsets.capacity() * 2
            + self.words.capacity() * 8
    }

    fn edges_of(&self, index: usize) -> usize {
        let end = self.directory.get(index + 1).map_or(self.edges, |next| next.before);
        (end - self.directory[index].before) as usize
    }

    fn list(&self, index: usize) -> &[u16] {
        let at = self.directory[index].at as usize;
        &self.offsets[at..at + self.edges_of(index)]
    }

    fn levels(&self, index: usize) -> &[u16] {
        let count = self.edges_of(index);
        let at = self.directory[index].at as usize + count;
        &self.offsets[at..at + count]
    }

    fn bitmap(&self, index: usize) -> &[u64] {
        let at = self.directory[index].at as usize;
        &self.words[at..at + WORDS]
    }

    /// Level at an offset from the segment's start.
    pub(crate) fn level(&self, offset: u64) -> Level {
        let (chunk, within) = (offset / CHUNK, (offset % CHUNK) as usize);
        let after = self.directory.partition_point(|e| u64::from(e.chunk) <= chunk);
        let Some(index) = after.checked_sub(1).filter(|i| u64::from(self.directory[*i].chunk) == chunk)
        else {
            return self.directory.get(after).map_or(self.exit, |next| next.entry);
        };
        let entry = self.directory[index].entry;
        match self.directory[index].kind {
            Kind::Sparse => {
                let passed = self.list(index).partition_point(|o| usize::from(*o) <= within);
                if passed.is_multiple_of(2) { entry } else { entry.opposite() }
            }
            Kind::Dense => Level::from(self.bitmap(index)[within / 64] >> (within % 64) & 1 == 1),
            Kind::Mixed => {
                let passed = self.list(index).partition_point(|o| usize::from(*o) <= within);
                passed.checked_sub(1).map_or(entry, |i| unpack(self.levels(index)[i]))
            }
        }
    }

    /// Number of edges at offsets less than `offset`.
    pub(crate) fn rank(&self, offset: u64) -> u64 {
        let (chunk, within) = (offset / CHUNK, (offset % CHUNK) as usize);
        let after = self.directory.partition_point(|e| u64::from(e.chunk) <= chunk);
        let Some(index) = after.checked_sub(1) else { return 0 };
        let entry = &self.directory[index];
        if u64::from(entry.chunk) != chunk {
            return u64::from(entry.before) + self.edges_of(index) as u64;
        }
        let inside = match entry.kind {
            Kind::Sparse | Kind::Mixed => self.list(index).partition_point(|o| usize::from(*o) < within),
            Kind::Dense => {
                let map = self.bitmap(index);
                let full: u32 = (0..within / 64).map(|w| toggles(map, w, entry.entry).count_ones()).sum();
                let rest = within % 64;
                let part = if rest == 0 { 0 } else { toggles(map, within / 64, entry.entry) << (64 - rest) };
                (full + part.count_ones()) as usize
            }
        };
        u64::from(entry.before) + inside as u64
    }

    /// The edge with this number, counted from 0 at the segment's start.
    pub(crate) fn select(&self, number: u64) -> Option<Step> {
        if number >= self.edges() {
            return None;
        }
        let index = self.directory.partition_point(|e| u64::from(e.before) <= number) - 1;
        let entry = &self.directory[index];
        let mut left = (number - u64::from(entry.before)) as usize;
        let start = u64::from(entry.chunk) * CHUNK;
        match entry.kind {
            Kind::Sparse => {
                let level = if left.is_multiple_of(2) { entry.entry.opposite() } else { entry.entry };
                Some((start + u64::from(self.list(index)[left]), level))
            }
            Kind::Mixed => {
                let offset = self.list(index)[left];
                Some((start + u64::from(offset), unpack(self.levels(index)[left])))
            }
            Kind::Dense => {
                let map = self.bitmap(index);
                for (w, word) in map.iter().enumerate() {
                    let mut mask = toggles(map, w, entry.entry);
                    let here = mask.count_ones() as usize;
                    if left >= here {
                        left -= here;
                        continue;
                    }
                    for _ in 0..left {
                        mask &= mask - 1;
                    }
                    let bit = mask.trailing_zeros();
                    let offset = w as u64 * 64 + u64::from(bit);
                    return Some((start + offset, Level::from(word >> bit & 1 == 1)));
                }
                None
            }
        }
    }

    /// A cursor at the first edge whose offset is at least `offset`.
    pub(crate) fn cursor(&self, offset: u64) -> ChunkCursor {
        let chunk = offset / CHUNK;
        let index = self.directory.partition_point(|e| u64::from(e.chunk) < chunk);
        let mut cursor = ChunkCursor { index, place: 0, mask: 0, fresh: true };
        if self.directory.get(index).is_some_and(|e| u64::from(e.chunk) == chunk) {
            let within = (offset % CHUNK) as usize;
            match self.directory[index].kind {
                Kind::Sparse | Kind::Mixed => {
                    cursor.place = self.list(index).partition_point(|o| usize::from(*o) < within);
                }
                Kind::Dense => {
                    cursor.place = within / 64;
                    let mask = toggles(self.bitmap(index), within / 64, self.directory[index].entry);
                    cursor.mask = mask & (u64::MAX << (within % 64));
                }
            }
            cursor.fresh = false;
        }
        cursor
    }
}

/// A place between the edges of a segment, for reading them in order.
#[derive(Clone, Debug)]
pub(crate) struct ChunkCursor {
    index: usize,
    /// Next list position, or current bitmap word.
    place: usize,
    /// Edges left in the current bitmap word.
    mask: u64,
    /// Whether the chunk at `index` has not been entered yet.
    fresh: bool,
}

impl ChunkCursor {
    /// Past the last edge of any segment.
    pub(crate) const AT_END: ChunkCursor = ChunkCursor { index: usize::MAX, place: 0, mask: 0, fresh: true };

    /// The next edge, or `None` at the end of the segment.
    pub(crate) fn next(&mut self, chunks: &Chunks) -> Option<Step> {
        loop {
            let entry = chunks.directory.get(self.index)?;
            let start = u64::from(entry.chunk) * CHUNK;
            match entry.kind {
                Kind::Sparse | Kind::Mixed => {
                    if self.fresh {
                        self.place = 0;
                        self.fresh = false;
                    }
                    if let Some(offset) = chunks.list(self.index).get(self.place) {
                        let level = if entry.kind == Kind::Mixed {
                            unpack(chunks.levels(self.index)[self.place])
                        } else if self.place.is_multiple_of(2) {
                            entry.entry.opposite()
                        } else {
                            entry.entry
                        };
                        self.place += 1;
                        return Some((start + u64::from(*offset), level));
                    }
                }
                Kind::Dense => {
                    let map = chunks.bitmap(self.index);
                    if self.fresh {
                        self.place = 0;
                        self.mask = toggles(map, 0, entry.entry);
                        self.fresh = false;
                    }
                    while self.mask == 0 && self.place + 1 < WORDS {
                        self.place += 1;
                        self.mask = toggles(map, self.place, entry.entry);
                    }
                    if self.mask != 0 {
                        let bit = self.mask.trailing_zeros();
                        self.mask &= self.mask - 1;
                        let level = Level::from(map[self.place] >> bit & 1 == 1);
                        return Some((start + self.place as u64 * 64 + u64::from(bit), level));
                    }
                }
            }
            self.index += 1;
            self.fresh = true;
        }
    }
}

/// The ticks of bitmap word `w` at which the level changes.
fn toggles(map: &[u64], w: usize, entry: Level) -> u64 {
    let carry = if w == 0 { u64::from(entry == Level::High) } else { map[w - 1] >> 63 };
    map[w] ^ (map[w] << 1 | carry)
}

fn pack(level: Level) -> u16 {
    match level {
        Level::Low => 0,
        Level::High => 1,
        Level::Unknown => 2,
    }
}

fn unpack(code: u16) -> Level {
    match code {
        0 => Level::Low,
        1 => Level::High,
        _ => Level::Unknown,
    }
}

/// Collects the edges of one segment in order.
#[derive(Clone, Debug)]
pub struct ChunksBuilder {
    built: Chunks,
    /// Offsets of the open chunk's edges, and their levels.
    open: Vec<u16>,
    open_levels: Vec<Level>,
    open_chunk: u64,
    open_entry: Level,
}

impl ChunksBuilder {
    /// Starts a segment with the level that is carried into it.
    pub fn new(entry: Level) -> Self {
        let built =
            Chunks { directory: Vec::new(), offsets: Vec::new(), words: Vec::new(), edges: 0, exit: entry };
        ChunksBuilder { built, open: Vec::new(), open_levels: Vec::new(), open_chunk: 0, open_entry: entry }
    }

    /// The level after the last edge.
    pub fn level(&self) -> Level {
        self.built.exit
    }

    /// Appends an edge. The caller keeps offsets rising and levels changing.
    pub(crate) fn push(&mut self, offset: u64, level: Level) {
        let chunk = offset / CHUNK;
        if chunk != self.open_chunk {
            self.close_chunk();
            self.open_chunk = chunk;
        }
        self.open.push((offset % CHUNK) as u16);
        self.open_levels.push(level);
        self.built.exit = level;
    }

    /// Pool entries held so far, as a measure of size.
    pub(crate) fn weight(&self) -> usize {
        self.built.offsets.len() + self.built.words.len() * 4 + self.open.len()
    }

    fn close_chunk(&mut self) {
        if !self.open.is_empty() {
            let mixed = self.open_entry == Level::Unknown || self.open_levels.contains(&Level::Unknown);
            let built = &mut self.built;
            let (kind, at) = if mixed {
                let at = built.offsets.len();
                built.offsets.extend_from_slice(&self.open);
                built.offsets.extend(self.open_levels.iter().map(|l| pack(*l)));
                (Kind::Mixed, at)
            } else if self.open.len() > DENSE_ABOVE {
                let at = built.words.len();
                built.words.resize(at + WORDS, 0);
                fill_bitmap(&mut built.words[at..], &self.open, self.open_entry);
                (Kind::Dense, at)
            } else {
                let at = built.offsets.len();
                built.offsets.extend_from_slice(&self.open);
                (Kind::Sparse, at)
            };
            // A segment is cut long before 2^32 entries or chunks.
            built.directory.push(Entry {
                chunk: self.open_chunk as u32,
                before: built.edges,
                at: at as u32,
                kind,
                entry: self.open_entry,
            });
            built.edges += self.open.len() as u32;
        }
        self.open.clear();
        self.open_levels.clear();
        self.open_entry = self.built.exit;
    }

    /// The finished segment.
    pub fn finish(mut self) -> Chunks {
        self.close_chunk();
        self.built.directory.shrink_to_fit();
        self.built.offsets.shrink_to_fit();
        self.built.words.shrink_to_fit();
        self.built
    }
}

fn fill_bitmap(words: &mut [u64], edges: &[u16], entry: Level) {
    for edge in edges {
        words[usize::from(*edge) / 64] |= 1 << (edge % 64);
    }
    // Prefix parity turns "toggles here" into "is high here".
    let mut carry = if entry == Level::High { u64::MAX } else { 0 };
    for word in words {
        let mut w = *word;
        for shift in [1, 2, 4, 8, 16, 32] {
            w ^= w << shift;
        }
        *word = w ^ carry;
        carry = if *word >> 63 == 1 { u64::MAX } else { 0 };
    }
}
