//! Filling the chunks of one segment, from edges in order or from words of samples.
//!
//! The kind of a chunk is decided when it is full. Until then its edges are held as a list, or, when
//! they come from samples, as the words in which the level changes: all of them where the chunk
//! before was busy, and so this one is likely to be.

use super::chunks::{BLOCK, BLOCKS, CHUNK, Chunks, DENSE_ABOVE, Entry, Kind, WORDS, pack};
use crate::line::Level;

/// Collects the edges of one segment in order.
#[derive(Clone, Debug)]
pub struct ChunksBuilder {
    built: Chunks,
    open: OpenChunk,
    open_chunk: u64,
    open_entry: Level,
    /// With more edges than this, a chunk becomes a bitmap.
    dense_above: usize,
    /// Whether the chunk before became one.
    was_dense: bool,
    /// Memory for the next chunk of samples.
    spare: Words,
}

/// How the edges of the chunk being filled are held until it is full.
#[derive(Clone, Debug)]
enum OpenChunk {
    /// Between levels that alternate.
    List(Vec<u16>),
    /// Where levels are neither low nor high: offsets, and the level each leads to.
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

    /// The edges of each block of a chunk.
    fn count(&self, entry: Level) -> [u16; BLOCKS] {
        let mut counts = [0; BLOCKS];
        let levels = &self.levels[..self.len];
        let toggles = |place: usize| {
            let before = match place.checked_sub(1) {
                Some(before) => levels[before] >> 63,
                None => u64::from(entry == Level::High),
            };
            levels[place] ^ (levels[place] << 1 | before)
        };
        if self.every {
            // PERF: a sum over neighbours, which the compiler turns into vector instructions.
            for (block, count) in counts.iter_mut().enumerate() {
                let places = (block * BLOCK).min(self.len)..((block + 1) * BLOCK).min(self.len);
                let Some(first) = places.clone().next() else { break };
                let pairs = levels[places].windows(2);
                let later: u32 = pairs.map(|w| (w[1] ^ (w[1] << 1 | w[0] >> 63)).count_ones()).sum();
                *count = (later + toggles(first).count_ones()) as u16;
            }
        } else {
            for (place, number) in self.numbers[..self.len].iter().enumerate() {
                counts[usize::from(*number) / BLOCK] += toggles(place).count_ones() as u16;
            }
        }
        counts
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
        let built = Chunks {
            directory: Vec::new(),
            offsets: Vec::new(),
            words: Vec::new(),
            counts: Vec::new(),
            edges: 0,
            exit: entry,
        };
        ChunksBuilder {
            built,
            open: OpenChunk::List(Vec::new()),
            open_chunk: 0,
            open_entry: entry,
            dense_above: DENSE_ABOVE,
            was_dense: false,
            spare: Words::default(),
        }
    }

    /// With more edges than this, chunks become bitmaps, where that is not what takes the least memory.
    pub(crate) fn dense_above(&mut self, edges: usize) {
        self.dense_above = edges.min(DENSE_ABOVE);
    }

    /// An empty one that goes on after this one.
    pub(crate) fn successor(&self, entry: Level) -> Self {
        let (dense_above, was_dense) = (self.dense_above, self.was_dense);
        ChunksBuilder { dense_above, was_dense, ..ChunksBuilder::new(entry) }
    }

    /// Starts the next segment after a full one; there is likely to be as much in it.
    pub(crate) fn next_segment(&mut self) -> Chunks {
        let mut next = self.successor(self.level());
        next.built.offsets.reserve(self.built.offsets.len());
        next.built.words.reserve(self.built.words.len());
        std::mem::replace(self, next).finish()
    }

    /// Hands over the chunks before the one with this number, of which there are none beyond it, and goes
    /// on there, counting from it.
    pub(crate) fn cut(&mut self, chunk: u64) -> Chunks {
        if self.open_chunk < chunk {
            return self.next_segment();
        }
        let (open, exit, was_dense) =
            (std::mem::replace(&mut self.open, OpenChunk::List(Vec::new())), self.built.exit, self.was_dense);
        self.built.exit = self.open_entry;
        let next = self.successor(self.open_entry);
        let done = std::mem::replace(self, next).finish();
        (self.open, self.built.exit, self.was_dense) = (open, exit, was_dense);
        done
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
            && (self.built.exit.bit().is_none() || level.bit().is_none())
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

    /// Appends an edge to the other level; the present one is known.
    #[inline]
    pub(crate) fn push_toggle(&mut self, offset: u64) {
        self.enter(offset);
        let within = (offset % CHUNK) as u16;
        let (before, after) = (self.built.exit, self.built.exit.opposite());
        match &mut self.open {
            OpenChunk::List(offsets) => offsets.push(within),
            OpenChunk::Words(words) => words.put(within, u64::from(after == Level::High), 1, before),
            OpenChunk::Mixed(offsets, levels) => {
                offsets.push(within);
                levels.push(pack(after));
            }
        }
        self.built.exit = after;
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
            OpenChunk::List(list) if list.len() > self.dense_above => {
                built.words.resize(words + WORDS, 0);
                fill_bitmap(&mut built.words[words..], list, self.open_entry);
                let mut counts = [0; BLOCKS];
                list.iter().for_each(|offset| counts[usize::from(*offset) / 64 / BLOCK] += 1);
                built.extend_counts(&counts);
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
                let counts = groups.count(self.open_entry);
                let edges = counts.iter().map(|count| usize::from(*count)).sum();
                if edges > self.dense_above {
                    groups.extend_bitmap(self.open_entry, &mut built.words);
                    built.extend_counts(&counts);
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
        self.built.counts.shrink_to_fit();
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
