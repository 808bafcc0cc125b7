//! Storage of one segment of a trace: quiet, sparse, dense and mixed chunks.
//!
//! A chunk is 65 536 ticks. A *quiet* one (no edge) has no entry at all; a *sparse* one is a
//! sorted list of 16-bit offsets between levels that alternate; a *dense* one is a bitmap of
//! levels; a *mixed* one, needed only where a level is neither low nor high, is a list of offsets followed by
//! a list of levels. Sparse gives way to dense where the bitmap is about the smaller of the two.
//!
//! To the next editor: `ChunksBuilder::close_chunk` decides the kind, and `select`, `rank`,
//! `level` and [`ChunkCursor`] each have one arm per kind; they change together.

use super::chunk_marks::ChunkMarks;
use crate::line::Level;

/// Ticks per chunk.
pub(crate) const CHUNK: u64 = 1 << 16;
/// Words of a dense chunk's bitmap.
pub(super) const WORDS: usize = (CHUNK / 64) as usize;
/// Words of a dense chunk between two running counts of its edges.
pub(super) const BLOCK: usize = 32;
pub(super) const BLOCKS: usize = WORDS / BLOCK;
/// Above this many edges the bitmap's 8 KiB are taken: a little more than two bytes per edge, in
/// exchange for words that need no decoding.
pub(super) const DENSE_ABOVE: usize = 3750;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Sparse,
    Dense,
    Mixed,
}

/// Directory entry of a chunk that has edges.
#[derive(Clone, Copy, Debug)]
pub(super) struct Entry {
    /// Chunk number, counted from the segment's start.
    pub(super) chunk: u32,
    /// Edges in the segment before this chunk.
    pub(super) before: u32,
    /// Index into the pool that the kind implies.
    pub(super) at: u32,
    pub(super) kind: Kind,
    /// Level carried in from the chunk before.
    pub(super) entry: Level,
}

/// An edge inside a segment: its offset in ticks and the level it leads to.
pub(crate) type Step = (u64, Level);

/// The edges of one line over one segment.
#[derive(Clone, Debug)]
pub struct Chunks {
    pub(super) directory: Vec<Entry>,
    pub(super) offsets: Vec<u16>,
    pub(super) words: Vec<u64>,
    /// Per block of a bitmap, the edges of its chunk before it.
    pub(super) counts: Vec<u16>,
    pub(super) edges: u32,
    pub(super) exit: Level,
}

impl Chunks {
    pub(crate) fn edges(&self) -> u64 {
        u64::from(self.edges)
    }

    pub(crate) fn exit(&self) -> Level {
        self.exit
    }

    /// Whether all levels are low or high, as far as its own edges tell.
    pub(crate) fn is_two_level(&self) -> bool {
        self.directory.iter().all(|e| e.kind != Kind::Mixed)
    }

    /// Whether it is ever at a level, which is neither low nor high.
    pub(crate) fn is_ever(&self, level: Level) -> bool {
        let code = pack(level);
        let mixed = self.directory.iter().enumerate().filter(|(_, entry)| entry.kind == Kind::Mixed);
        mixed.into_iter().any(|(index, entry)| entry.entry == level || self.levels(index).contains(&code))
    }

    /// Bytes of memory held.
    pub(crate) fn bytes(&self) -> usize {
        self.directory.capacity() * size_of::<Entry>()
            + self.offsets.capacity() * 2
            + self.words.capacity() * 8
            + self.counts.capacity() * 2
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

    /// The running counts of a dense chunk's edges.
    fn counts(&self, index: usize) -> &[u16] {
        let at = self.directory[index].at as usize / WORDS * BLOCKS;
        &self.counts[at..at + BLOCKS]
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
                let (map, block) = (self.bitmap(index), within / 64 / BLOCK);
                let words = block * BLOCK..within / 64;
                let full: u32 = words.map(|w| toggles(map, w, entry.entry).count_ones()).sum();
                let full = full + u32::from(self.counts(index)[block]);
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
                let counts = self.counts(index);
                let block = counts.partition_point(|count| usize::from(*count) <= left) - 1;
                left -= usize::from(counts[block]);
                for (w, word) in map.iter().enumerate().skip(block * BLOCK) {
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

    /// Sets the bit of each edge of a chunk, or of those that lead to a level. Whether there is any.
    /// Levels must be known.
    pub(crate) fn mark_edges(&self, chunk: u64, to: Option<Level>, marks: &mut ChunkMarks) -> bool {
        let found = self.directory.binary_search_by_key(&chunk, |entry| u64::from(entry.chunk));
        let Ok(index) = found else { return false };
        let entry = &self.directory[index];
        match entry.kind {
            Kind::Sparse | Kind::Mixed => {
                // Levels alternate, so that every second edge leads to the same one.
                let (first, step) = match to {
                    None => (0, 1),
                    Some(to) => (usize::from(to == entry.entry), 2),
                };
                for offset in self.list(index).iter().skip(first).step_by(step) {
                    marks.set(*offset);
                }
            }
            Kind::Dense => {
                let mut carry = u64::from(entry.entry == Level::High);
                for (levels, marks) in self.bitmap(index).iter().zip(marks.all()) {
                    let wanted = match to {
                        None => u64::MAX,
                        Some(Level::High) => *levels,
                        Some(_) => !*levels,
                    };
                    *marks |= (levels ^ (levels << 1 | carry)) & wanted;
                    carry = levels >> 63;
                }
            }
        }
        true
    }

    /// The tick of the first edge that the next one follows by a single tick, where the segment begins at
    /// `start` and `last` is the last edge so far. Levels must be known.
    pub(super) fn first_single(&self, start: u64, last: &mut Option<u64>) -> Option<u64> {
        for (index, entry) in self.directory.iter().enumerate() {
            let base = start + u64::from(entry.chunk) * CHUNK;
            let (first, inside, end) = match entry.kind {
                Kind::Sparse | Kind::Mixed => {
                    let list = self.list(index);
                    let at = |offset: &u16| u64::from(*offset);
                    (list.first().map(at), first_step(list).map(u64::from), list.last().map(at))
                }
                Kind::Dense => {
                    let map = self.bitmap(index);
                    let edges = |w: usize| toggles(map, w, entry.entry);
                    let first = (0..WORDS).find(|w| edges(*w) != 0);
                    let first = first.map(|w| (w * 64) as u64 + u64::from(edges(w).trailing_zeros()));
                    let end = (0..WORDS).rev().find(|w| edges(*w) != 0);
                    let end = end.map(|w| (w * 64 + 63) as u64 - u64::from(edges(w).leading_zeros()));
                    (first, first_pair(map, entry.entry), end)
                }
            };
            let Some((first, end)) = first.zip(end) else { continue };
            if let Some(before) = last.filter(|before| before + 1 == base + first) {
                return Some(before);
            }
            if let Some(inside) = inside {
                return Some(base + inside);
            }
            *last = Some(base + end);
        }
        None
    }

    /// Copies the levels from an offset, a multiple of 64, on out of the bitmap of the chunk that the
    /// cursor is in, and moves the cursor behind them; the level at the end of them. `None`, with
    /// nothing done, where the chunk is not dense or ends too early.
    pub(crate) fn dense_words(
        &self,
        cursor: &mut ChunkCursor,
        offset: u64,
        out: &mut [u64],
    ) -> Option<Level> {
        let entry = self.directory.get(cursor.index)?;
        let first = (offset % CHUNK) as usize / 64;
        let end = first + out.len();
        let fits = entry.kind == Kind::Dense
            && u64::from(entry.chunk) == offset / CHUNK
            && offset.is_multiple_of(64)
            && end <= WORDS;
        if !fits {
            return None;
        }
        let map = self.bitmap(cursor.index);
        out.copy_from_slice(&map[first..end]);
        if end == WORDS {
            cursor.index += 1;
            cursor.fresh = true;
        } else {
            cursor.place = end;
            cursor.mask = toggles(map, end, entry.entry);
        }
        out.last().map(|word| Level::from(word >> 63 == 1))
    }

    /// Notes the edges of the blocks of a bitmap, as running counts.
    pub(super) fn extend_counts(&mut self, blocks: &[u16; BLOCKS]) {
        let mut before = 0u16;
        for edges in blocks {
            self.counts.push(before);
            // At most 65 536 edges: before the last block there are fewer.
            before = before.wrapping_add(*edges);
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

impl ChunkCursor {
    /// Appends the edges that are left in the chunk that the cursor is in, at most so many, as far as
    /// they lie before an offset. `false` once there is none left in the segment, or before that offset.
    ///
    /// The same as calling [`next`](ChunkCursor::next) again and again, in less time.
    pub(crate) fn fill(&mut self, chunks: &Chunks, end: u64, most: usize, out: &mut Vec<Step>) -> bool {
        let Some(entry) = chunks.directory.get(self.index) else { return false };
        let start = u64::from(entry.chunk) * CHUNK;
        if start >= end {
            return false;
        }
        let whole = end - start >= CHUNK;
        let left = most.saturating_sub(out.len());
        match entry.kind {
            Kind::Sparse if whole => {
                let first = if std::mem::take(&mut self.fresh) { 0 } else { self.place };
                let list = chunks.list(self.index);
                let taken = &list[first.min(list.len())..list.len().min(first.saturating_add(left))];
                let mut level = if first.is_multiple_of(2) { entry.entry } else { entry.entry.opposite() };
                out.extend(taken.iter().map(|offset| {
                    level = level.opposite();
                    (start + u64::from(*offset), level)
                }));
                self.place = first + taken.len();
                if self.place >= list.len() {
                    (self.index, self.fresh) = (self.index + 1, true);
                }
                true
            }
            Kind::Dense if whole => {
                let map = chunks.bitmap(self.index);
                if std::mem::take(&mut self.fresh) {
                    (self.place, self.mask) = (0, toggles(map, 0, entry.entry));
                }
                let most = out.len() + left;
                while out.len() < most {
                    let at = start + self.place as u64 * 64;
                    let word = map[self.place];
                    while self.mask != 0 {
                        let bit = self.mask.trailing_zeros();
                        self.mask &= self.mask - 1;
                        out.push((at + u64::from(bit), Level::from(word >> bit & 1 == 1)));
                    }
                    if self.place + 1 == WORDS {
                        (self.index, self.fresh) = (self.index + 1, true);
                        break;
                    }
                    self.place += 1;
                    self.mask = toggles(map, self.place, entry.entry);
                }
                true
            }
            _ => match self.next(chunks) {
                Some(step) if step.0 < end => {
                    out.push(step);
                    true
                }
                _ => false,
            },
        }
    }
}

/// The first of these rising offsets that the next one follows by one.
fn first_step(list: &[u16]) -> Option<u16> {
    // PERF: a block at a time without leaving early, which the compiler makes vector instructions of.
    const TOGETHER: usize = 256;
    let mut rest = list;
    while rest.len() > 1 {
        let together = rest.len().min(TOGETHER + 1);
        let pairs = || rest[..together - 1].iter().zip(&rest[1..together]);
        if pairs().fold(false, |any, (a, b)| any | (b.wrapping_sub(*a) == 1)) {
            return pairs().find(|(a, b)| b.wrapping_sub(**a) == 1).map(|(a, _)| *a);
        }
        rest = &rest[together - 1..];
    }
    None
}

/// The first tick of a bitmap at which the level changes that it changes at the next one, too.
fn first_pair(map: &[u64], entry: Level) -> Option<u64> {
    let mut carry = 0;
    let mut level = u64::from(entry == Level::High);
    for (w, word) in map.iter().enumerate() {
        let edges = word ^ (word << 1 | level);
        level = word >> 63;
        // The second of two.
        let second = edges & (edges << 1 | carry);
        if second != 0 {
            return Some((w * 64) as u64 + u64::from(second.trailing_zeros()) - 1);
        }
        carry = edges >> 63;
    }
    None
}

/// The ticks of bitmap word `w` at which the level changes.
fn toggles(map: &[u64], w: usize, entry: Level) -> u64 {
    let carry = if w == 0 { u64::from(entry == Level::High) } else { map[w - 1] >> 63 };
    map[w] ^ (map[w] << 1 | carry)
}

pub(super) fn pack(level: Level) -> u16 {
    match level {
        Level::Low => 0,
        Level::High => 1,
        Level::Unknown => 2,
        Level::Floating => 3,
    }
}

fn unpack(code: u16) -> Level {
    match code {
        0 => Level::Low,
        1 => Level::High,
        3 => Level::Floating,
        _ => Level::Unknown,
    }
}
