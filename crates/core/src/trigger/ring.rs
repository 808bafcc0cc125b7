//! What is kept of a stream before its trigger.

use std::collections::VecDeque;
use std::ops::Range;

use crate::error::Result;
use crate::scan::{SampleBlock, Samples};

/// Most samples that are kept because they may belong to the trigger: 1 GiB of the widest.
const MOST_SAMPLES: u64 = 1 << 27;

/// The blocks that the part before the trigger may need.
pub(crate) struct Ring {
    blocks: VecDeque<(u64, SampleBlock)>,
    before: u64,
}

impl Ring {
    /// Keeps at least so many samples.
    pub(crate) fn new(before: u64) -> Self {
        Ring { blocks: VecDeque::new(), before }
    }

    /// Takes the block that begins at this position, and forgets what is older than needed: by the part
    /// before the trigger, or because something began at `since` that may yet be the trigger.
    pub(crate) fn push(&mut self, start: u64, block: SampleBlock, since: Option<u64>) {
        let end = start + block.len() as u64;
        self.blocks.push_back((start, block));
        let oldest = end.saturating_sub(self.before);
        let oldest = since.map_or(oldest, |since| since.saturating_sub(1).min(oldest));
        let oldest = oldest.max(end.saturating_sub(self.before.max(MOST_SAMPLES)));
        while self.blocks.front().is_some_and(|(at, b)| at + b.len() as u64 <= oldest) {
            self.blocks.pop_front();
        }
    }

    /// The first sample that is kept.
    pub(crate) fn first(&self) -> Option<u64> {
        self.blocks.front().map(|(start, _)| *start)
    }

    /// Hands over the samples of a range.
    pub(crate) fn drain(
        &mut self,
        range: Range<u64>,
        mut each: impl FnMut(Samples<'_>) -> Result<()>,
    ) -> Result<()> {
        let mut blocks = self.blocks.drain(..);
        blocks.try_for_each(|(start, block)| each(cut(&block, start, range.clone())))
    }
}

/// The samples of a block that lie in a range of positions.
pub(crate) fn cut(block: &SampleBlock, start: u64, range: Range<u64>) -> Samples<'_> {
    let len = block.len() as u64;
    let place = |position: u64| position.saturating_sub(start).min(len) as usize;
    block.samples().slice(place(range.start)..place(range.end))
}
