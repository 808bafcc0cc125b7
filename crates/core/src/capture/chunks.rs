//! Storage of one segment of a trace: quiet, sparse, dense and mixed chunks.
//!
//! A chunk is 65 536 ticks. A *quiet* one (no edge) has no entry at all; a *sparse* one is a
//! sorted list of 16-bit offsets between levels that alternate; a *dense* one is a bitmap of
//! levels; a *mixed* one, needed only where a level is unknown, is a list of offsets followed by
//! a list of levels. Sparse gives way to dense where the bitmap is about the smaller of the two.
//!
//! To the next editor: [`ChunksBuilder::close_chunk`] decides the kind, and `select`, `rank`,
//! `level` and [`ChunkCursor`] each have one arm per kind; they change together.

use crate::line::Level;

/// Ticks per chunk.
pub(crate) const CHUNK: u64 = 1 << 16;
/// Words of a dense chunk's bitmap.
const WORDS: usize = (CHUNK / 64) as usize;
/// Above this many edges the bitmap's 8 KiB are taken: a little more than two bytes per edge, in
/// exchange for words that need no decoding.
const DENSE_ABOVE: usize = 3750;

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

    /// Sets the bit of each edge of a chunk, or of those that lead to a level. Whether there is any.
    /// Levels must be known.
    pub(crate) fn mark_edges(&self, chunk: u64, to: Option<Level>, marks: &mut [u64]) -> bool {
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
                    marks[usize::from(*offset) / 64] |= 1 << (offset % 64);
                }
            }
            Kind::Dense => {
                let mut carry = u64::from(entry.entry == Level::High);
                for (levels, marks) in self.bitmap(index).iter().zip(marks) {
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
    open: OpenChunk,
    open_chunk: u64,
    open_entry: Level,
    /// Whether the last chunk is.
    was_dense: bool,
    /// Memory for the next chunk of samples.
    spare: Words,
}

/// How the edges of the chunk being filled are held until it is full.
#[derive(Clone, Debug)]
enum OpenChunk {
    /// Between levels that alternate.
    List(Vec<u16>),
    /// Where levels are unknown: offsets, and the level each leads to.
    Mixed(Vec<u16>, Vec<u16>),
    /// From samples.
    Words(Words),
}

/// The words of 64 ticks in which the level changes, by their number in the chunk. Bits after the
/// last sample repeat its level.
#[derive(Clone, Debug, Default)]
struct Words {
    /// Both as long as a chunk has words, or empty; the first `len` are in use.
    numbers: Vec<u16>,
    levels: Vec<u64>,
    len: usize,
    /// Whether every word is kept, as is best for a busy chunk: then they are numbered in turn.
    every: bool,
}

impl Words {
    fn prepare(&mut self, every: bool) {
        self.numbers.resize(WORDS, 0);
        self.levels.resize(WORDS, 0);
        if every && !self.every {
            self.numbers = (0..WORDS as u16).collect();
        }
        (self.len, self.every) = (0, every);
    }

    /// Keeps the words before this one, too, at the last level.
    fn catch_up(&mut self, number: usize, before: bool) {
        if self.every && number > self.len {
            self.levels[self.len..number].fill(spread(before));
            self.len = number;
        }
    }

    fn used(&self) -> impl Iterator<Item = (u16, u64)> {
        self.numbers.iter().copied().zip(self.levels.iter().copied()).take(self.len)
    }

    /// The ticks of each word at which the level changes.
    fn toggles(&self, entry: Level) -> impl Iterator<Item = (u16, u64)> {
        let mut carry = u64::from(entry == Level::High);
        self.used().map(move |(number, levels)| {
            let toggles = levels ^ (levels << 1 | carry);
            carry = levels >> 63;
            (number, toggles)
        })
    }

    fn extend_offsets(&self, entry: Level, offsets: &mut Vec<u16>) {
        for (number, mut left) in self.toggles(entry) {
            while left != 0 {
                offsets.push(number * 64 + left.trailing_zeros() as u16);
                left &= left - 1;
            }
        }
    }

    fn extend_bitmap(&self, entry: Level, map: &mut Vec<u64>) {
        if self.len == WORDS {
            map.extend_from_slice(&self.levels);
            return;
        }
        let start = map.len();
        map.resize(start + WORDS, 0);
        let map = &mut map[start..];
        let (mut steady, mut next) = (spread(entry == Level::High), 0);
        for (number, levels) in self.used() {
            let number = usize::from(number);
            map[next..number].fill(steady);
            map[number] = levels;
            steady = spread(levels >> 63 == 1);
            next = number + 1;
        }
        map[next..].fill(steady);
    }
}

/// A word of one level.
fn spread(high: bool) -> u64 {
    if high { u64::MAX } else { 0 }
}

impl ChunksBuilder {
    /// Starts a segment with the level that is carried into it.
    pub fn new(entry: Level) -> Self {
        let built =
            Chunks { directory: Vec::new(), offsets: Vec::new(), words: Vec::new(), edges: 0, exit: entry };
        ChunksBuilder {
            built,
            open: OpenChunk::List(Vec::new()),
            open_chunk: 0,
            open_entry: entry,
            was_dense: false,
            spare: Words::default(),
        }
    }

    /// Starts the next segment after a full one; there is likely to be as much in it.
    pub(crate) fn next_segment(&mut self) -> Chunks {
        let mut next = ChunksBuilder::new(self.level());
        next.was_dense = self.was_dense;
        next.built.offsets.reserve(self.built.offsets.len());
        next.built.words.reserve(self.built.words.len());
        std::mem::replace(self, next).finish()
    }

    /// The level after the last edge.
    pub fn level(&self) -> Level {
        self.built.exit
    }

    /// Appends an edge. The caller keeps offsets rising and levels changing.
    pub(crate) fn push(&mut self, offset: u64, level: Level) {
        self.enter(offset);
        let within = (offset % CHUNK) as u16;
        if let OpenChunk::Words(words) = &mut self.open {
            let mut offsets = Vec::new();
            words.extend_offsets(self.open_entry, &mut offsets);
            self.open = OpenChunk::List(offsets);
        }
        if let OpenChunk::List(offsets) = &mut self.open
            && (self.built.exit == Level::Unknown || level == Level::Unknown)
        {
            let offsets = std::mem::take(offsets);
            let mut before = self.open_entry;
            let mut next = || {
                before = before.opposite();
                pack(before)
            };
            let levels = offsets.iter().map(|_| next()).collect();
            self.open = OpenChunk::Mixed(offsets, levels);
        }
        match &mut self.open {
            OpenChunk::List(offsets) => offsets.push(within),
            OpenChunk::Mixed(offsets, levels) => {
                offsets.push(within);
                levels.push(pack(level));
            }
            OpenChunk::Words(_) => {}
        }
        self.built.exit = level;
    }

    /// Appends the edges of `count` samples from `offset` on, which lie in one aligned group of 64:
    /// a one in `toggles` for each edge, at least one, and the levels. All levels are known, also
    /// the one before.
    pub(crate) fn push_word(&mut self, offset: u64, toggles: u64, levels: u64, count: u32) {
        self.enter(offset);
        let within = (offset % CHUNK) as u16;
        let before = self.built.exit;
        if let Some(words) = self.words() {
            words.put(within, levels, count, before);
        } else {
            let mut left = toggles;
            while left != 0 {
                let at = left.trailing_zeros();
                left &= left - 1;
                match &mut self.open {
                    OpenChunk::List(offsets) => offsets.push(within + at as u16),
                    OpenChunk::Mixed(offsets, codes) => {
                        offsets.push(within + at as u16);
                        codes.push((levels >> at & 1) as u16);
                    }
                    OpenChunk::Words(_) => {}
                }
            }
        }
        self.built.exit = Level::from(levels >> (count.clamp(1, 64) - 1) & 1 == 1);
    }

    /// The same for whole words of one chunk, the first at `offset`, a multiple of 64.
    pub(crate) fn push_words(&mut self, offset: u64, levels: &[u64]) {
        self.enter(offset);
        let mut carry = u64::from(self.built.exit == Level::High);
        let first = ((offset % CHUNK) / 64) as usize;
        if let Some(words) = self.words() {
            words.put_whole(first, levels, carry);
            let last = levels.last().map_or(carry, |word| word >> 63);
            self.built.exit = Level::from(last == 1);
            return;
        }
        for (number, word) in levels.iter().enumerate() {
            let toggles = word ^ (word << 1 | carry);
            carry = word >> 63;
            if toggles != 0 {
                self.push_word(offset + number as u64 * 64, toggles, *word, 64);
            }
        }
    }

    /// Where words go, unless the open chunk is already kept in another way.
    fn words(&mut self) -> Option<&mut Words> {
        if let OpenChunk::List(offsets) = &self.open
            && offsets.is_empty()
        {
            let mut words = std::mem::take(&mut self.spare);
            // After a busy chunk the next one is likely to be busy, too.
            words.prepare(self.was_dense);
            self.open = OpenChunk::Words(words);
        }
        match &mut self.open {
            OpenChunk::Words(words) => Some(words),
            OpenChunk::List(_) | OpenChunk::Mixed(..) => None,
        }
    }

    /// Closes the chunks before the one that holds `offset`.
    fn enter(&mut self, offset: u64) {
        let chunk = offset / CHUNK;
        if chunk != self.open_chunk {
            self.close_chunk();
            self.open_chunk = chunk;
        }
    }

    /// Pool entries held so far, the open chunk's left out, as a measure of size.
    pub(crate) fn weight(&self) -> usize {
        self.built.offsets.len() + self.built.words.len() * 4
    }

    fn close_chunk(&mut self) {
        let built = &mut self.built;
        let (offsets, words) = (built.offsets.len(), built.words.len());
        let (kind, at, edges) = match &mut self.open {
            OpenChunk::List(list) if list.len() > DENSE_ABOVE => {
                built.words.resize(words + WORDS, 0);
                fill_bitmap(&mut built.words[words..], list, self.open_entry);
                (Kind::Dense, words, list.len())
            }
            OpenChunk::List(list) => {
                built.offsets.extend_from_slice(list);
                (Kind::Sparse, offsets, list.len())
            }
            OpenChunk::Mixed(list, levels) => {
                built.offsets.extend_from_slice(list);
                built.offsets.extend_from_slice(levels);
                (Kind::Mixed, offsets, list.len())
            }
            OpenChunk::Words(groups) => {
                let edges =
                    groups.toggles(self.open_entry).map(|(_, toggles)| toggles.count_ones() as usize).sum();
                if edges > DENSE_ABOVE {
                    groups.extend_bitmap(self.open_entry, &mut built.words);
                    (Kind::Dense, words, edges)
                } else {
                    groups.extend_offsets(self.open_entry, &mut built.offsets);
                    (Kind::Sparse, offsets, edges)
                }
            }
        };
        if edges > 0 {
            // A segment is cut long before 2^32 entries or chunks.
            built.directory.push(Entry {
                chunk: self.open_chunk as u32,
                before: built.edges,
                at: at as u32,
                kind,
                entry: self.open_entry,
            });
            built.edges += edges as u32;
        }
        self.was_dense = kind == Kind::Dense;
        self.open_entry = built.exit;
        match &mut self.open {
            OpenChunk::List(list) => list.clear(),
            OpenChunk::Mixed(..) => self.open = OpenChunk::List(Vec::new()),
            OpenChunk::Words(groups) => {
                self.spare = std::mem::take(groups);
                self.open = OpenChunk::List(Vec::new());
            }
        }
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

impl Words {
    /// Puts the levels of `count` samples at an offset in the chunk; `before` is the last level.
    fn put(&mut self, within: u16, levels: u64, count: u32, before: Level) {
        let (number, shift) = (within / 64, u32::from(within % 64));
        // The level stays as it is after the last sample, until more are put.
        let beyond = |bits: u32| u64::MAX.checked_shl(bits).unwrap_or(0);
        let last = levels >> (count.clamp(1, 64) - 1) & 1 == 1;
        let word = (levels & !beyond(count) | spread(last) & beyond(count)) << shift;
        let earlier = !beyond(shift);
        self.catch_up(usize::from(number), before == Level::High);
        if self.numbers[..self.len].last() == Some(&number) {
            let open = &mut self.levels[self.len - 1];
            *open = *open & earlier | word;
        } else {
            self.numbers[self.len] = number;
            self.levels[self.len] = spread(before == Level::High) & earlier | word;
            self.len += 1;
        }
    }

    /// Puts whole words, the first of them with this number; `carry` is the level before.
    fn put_whole(&mut self, first: usize, words: &[u64], mut carry: u64) {
        if self.every {
            self.catch_up(first, carry == 1);
            self.levels[first..first + words.len()].copy_from_slice(words);
            self.len = first + words.len();
            return;
        }
        // PERF: both slots are written for every word and kept only where the level changes, which
        // costs less than a branch that cannot be foreseen.
        let (numbers, levels) = (&mut self.numbers[..WORDS], &mut self.levels[..WORDS]);
        let mut len = self.len;
        for (number, word) in words.iter().enumerate() {
            numbers[len % WORDS] = (first + number) as u16;
            levels[len % WORDS] = *word;
            len += usize::from(*word != (word << 1 | carry));
            carry = word >> 63;
        }
        self.len = len;
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
