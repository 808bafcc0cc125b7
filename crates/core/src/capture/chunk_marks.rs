//! A bit for each tick of a chunk, of which most may be zero.

/// Words of a chunk of 65 536 ticks.
pub(crate) const CHUNK_WORDS: usize = 1024;

/// A bit for each tick of a chunk, and a bit for each word that may have one: what is empty is not looked at.
#[derive(Clone, Debug)]
pub(crate) struct ChunkMarks {
    words: Vec<u64>,
    used: [u64; CHUNK_WORDS / 64],
}

impl ChunkMarks {
    pub(crate) fn new() -> Self {
        ChunkMarks { words: vec![0; CHUNK_WORDS], used: [0; CHUNK_WORDS / 64] }
    }

    /// Takes all bits out.
    pub(crate) fn clear(&mut self) {
        for (used, words) in self.used.iter_mut().zip(self.words.chunks_exact_mut(64)) {
            if *used != 0 {
                words.fill(0);
                *used = 0;
            }
        }
    }

    /// Sets the bit of a tick of the chunk.
    #[inline]
    pub(crate) fn set(&mut self, at: u16) {
        let word = usize::from(at) / 64;
        self.words[word] |= 1 << (at % 64);
        self.used[word / 64] |= 1 << (word % 64);
    }

    /// All words, any of which may be changed.
    pub(crate) fn all(&mut self) -> &mut [u64] {
        self.used = [u64::MAX; CHUNK_WORDS / 64];
        &mut self.words
    }

    pub(crate) fn word(&self, word: usize) -> u64 {
        self.words[word]
    }

    /// The first word from here on that may have a bit.
    #[inline]
    pub(crate) fn next_used(&self, from: usize) -> Option<usize> {
        let mut group = from / 64;
        let mut left = self.used.get(group)? & (u64::MAX << (from % 64));
        loop {
            if left != 0 {
                return Some(group * 64 + left.trailing_zeros() as usize);
            }
            group += 1;
            left = *self.used.get(group)?;
        }
    }
}
