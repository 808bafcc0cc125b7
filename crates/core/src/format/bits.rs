//! A column of whole numbers, as the levels of a line or of a bus that is as wide as its values.

use std::sync::Arc;

use super::fill::Filling;
use crate::capture::{CaptureBuilder, Trace};
use crate::error::Result;
use crate::line::{Bus, Input, Line, LineId, Radix};

/// Most bits of a column: so many traces each one has while it is read.
pub(crate) const WIDEST: usize = 64;

/// Levels of up to 64 bits: the lower and the upper bit of each (low 0, high 1, floating 2, unknown 3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Word {
    pub(crate) lower: u64,
    pub(crate) upper: u64,
    /// How many bits it says that there are.
    pub(crate) width: Option<u32>,
    /// Whether all bits are alike, however many there are.
    pub(crate) alike: bool,
}

impl Word {
    pub(crate) fn number(value: u64) -> Word {
        Word { lower: value, upper: 0, width: None, alike: false }
    }

    /// How many bits its value takes; none where all of them are alike.
    pub(crate) fn takes(self) -> u32 {
        if self.alike { 0 } else { 64 - (self.lower | self.upper).leading_zeros() }
    }

    /// Every bit at a level, given by its two bits.
    pub(crate) fn all(lower: bool, upper: bool) -> Word {
        let spread = |bit| if bit { u64::MAX } else { 0 };
        Word { lower: spread(lower), upper: spread(upper), width: None, alike: true }
    }
}

/// A column while it is read.
#[derive(Debug)]
pub(crate) struct BitColumn {
    /// The trace of the lowest bit; those of the others follow.
    first: usize,
    /// Number of bits where that is stated.
    declared: Option<u32>,
    last: Option<Word>,
    /// Most bits that a value took.
    takes: u32,
    /// Bits that values say there are.
    wide: u32,
    signed: bool,
}

impl BitColumn {
    /// Begins a column whose traces are those from `first` on.
    pub(crate) fn new(first: usize, declared: Option<u32>) -> Self {
        BitColumn { first, declared, last: None, takes: 0, wide: 0, signed: false }
    }

    /// What it holds now.
    pub(crate) fn last(&self) -> Option<Word> {
        self.last
    }

    /// Its values are signed, of so many bits.
    pub(crate) fn is_signed(&mut self, width: u32) {
        (self.signed, self.wide) = (true, width);
    }

    /// What it holds from a tick on.
    #[inline]
    pub(crate) fn put(&mut self, filling: &mut Filling, tick: u64, now: Word) {
        if self.last == Some(now) {
            return;
        }
        self.wide = self.wide.max(now.width.unwrap_or(0));
        let before = self.last.replace(now);
        let mut differing = before.map_or(u64::MAX, |b| (b.lower ^ now.lower) | (b.upper ^ now.upper));
        self.takes = self.takes.max(now.takes());
        while differing != 0 {
            let bit = differing.trailing_zeros();
            differing &= differing - 1;
            let level = now.lower >> bit & 1 | (now.upper >> bit & 1) << 1;
            filling.push(self.first + bit as usize, tick << 2 | level);
        }
    }

    /// How many bits it has.
    fn width(&self) -> u32 {
        self.declared.unwrap_or(0).max(self.wide).max(self.takes).clamp(1, WIDEST as u32)
    }

    /// Adds its line to a capture, or its lines, the most significant first, and their bus. `bits` are the
    /// numbers of its most and its least significant bit where they are stated.
    ///
    /// # Errors
    /// When they cannot be a bus.
    pub(crate) fn add_to(
        &self,
        mut builder: CaptureBuilder,
        (name, bits): (&str, Option<(i64, i64)>),
        input: Input,
        traces: &[Arc<Trace>],
    ) -> Result<CaptureBuilder> {
        let width = self.width();
        if width == 1 && bits.is_none() {
            let line = Line { input: Some(input), ..Line::named(name) };
            return Ok(builder.line(line, Arc::clone(&traces[self.first])));
        }
        let (most, least) = bits.unwrap_or((i64::from(width) - 1, 0));
        let first = builder.line_count();
        for place in (0..width).rev() {
            let index = if most >= least { least + i64::from(place) } else { least - i64::from(place) };
            let line = Line::named(format!("{name}[{index}]"));
            builder = builder.line(line, Arc::clone(&traces[self.first + place as usize]));
        }
        let mut bus = Bus::new(name, (first..first + width as usize).map(LineId).collect())?;
        if self.signed {
            bus.radix = Radix::Signed;
        }
        Ok(builder.bus(bus))
    }
}
