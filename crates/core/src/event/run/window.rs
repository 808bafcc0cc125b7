//! Some lines at up to 2048 consecutive ticks.

use crate::scan::{GROUP, Plane, SPAN};

/// Nothing at any tick.
pub(in crate::event) const NONE: Plane = [0; SPAN];

/// Up to 2048 consecutive ticks of some lines. Tick `start + 64 w + i` is bit `i` of word `w`.
#[derive(Clone, Copy, Debug)]
pub(in crate::event) struct Window<'a> {
    /// First tick.
    pub(in crate::event) start: u64,
    /// Number of ticks, at least one.
    pub(in crate::event) len: u32,
    /// Per line, the levels. Bits beyond the window may be anything.
    pub(in crate::event) planes: &'a [Plane],
    /// Per line, a one for each tick whose level is neither low nor high: unknown where the level is
    /// zero, and floating where it is one.
    pub(in crate::event) unknown: &'a [Plane],
    /// Per line, level and unknown bit at the tick before.
    pub(in crate::event) before: &'a [(bool, bool)],
    /// Whether any level is neither low nor high, that at the tick before included.
    pub(in crate::event) open: bool,
}

impl Window<'_> {
    /// Words in use.
    pub(in crate::event) fn words(&self) -> usize {
        (self.len as usize).div_ceil(GROUP)
    }

    /// A one for each tick of a word that is in the window.
    pub(in crate::event) fn valid(&self, word: usize) -> u64 {
        match self.len - (word * GROUP) as u32 {
            len @ 0..64 => (1 << len) - 1,
            _ => u64::MAX,
        }
    }

    /// First tick of a word, and the tick after its last in the window.
    pub(in crate::event) fn ticks(&self, word: usize) -> (u64, u64) {
        let first = self.start + (word * GROUP) as u64;
        (first, (first + GROUP as u64).min(self.start + u64::from(self.len)))
    }

    /// The bit of the last tick.
    pub(in crate::event) fn last_bit(&self, plane: &Plane) -> bool {
        let last = self.len as usize - 1;
        plane[last / GROUP] >> (last % GROUP) & 1 == 1
    }

    /// Leaves out what is beyond the window.
    pub(in crate::event) fn trim(&self, plane: &mut Plane) {
        let last = self.words() - 1;
        plane[last] &= self.valid(last);
    }

    /// Leaves out what is beyond the window, and the first tick of all, which has none before it.
    pub(in crate::event) fn trim_to_past(&self, plane: &mut Plane) {
        self.trim(plane);
        if self.start == 0 {
            plane[0] &= !1;
        }
    }

    pub(in crate::event) fn or_into(&self, all: &mut Plane, more: &Plane) {
        all.iter_mut().zip(more).take(self.words()).for_each(|(all, more)| *all |= more);
    }

    /// Combines each word of a line with the same one a tick later: levels, levels before, and a
    /// one where a level is unknown now or then.
    fn combine(&self, slot: usize, edge: impl Fn(u64, u64) -> u64) -> Plane {
        let mut out = NONE;
        let (level, unknown) = self.before[slot];
        let (mut carry, mut open_carry) = (u64::from(level), u64::from(unknown));
        let words = self.words();
        for (out, now) in out.iter_mut().zip(&self.planes[slot]).take(words) {
            *out = edge(*now, now << 1 | carry);
            carry = now >> 63;
        }
        if self.open {
            for (out, open) in out.iter_mut().zip(&self.unknown[slot]).take(words) {
                *out &= !(open | open << 1 | open_carry);
                open_carry = open >> 63;
            }
        }
        out
    }

    /// The ticks at which a line rises, the level before and after being known.
    pub(in crate::event) fn rises(&self, slot: usize) -> Plane {
        self.combine(slot, |now, was| now & !was)
    }

    /// The same for falling.
    pub(in crate::event) fn falls(&self, slot: usize) -> Plane {
        self.combine(slot, |now, was| !now & was)
    }

    /// The ticks at which the level of a line changes, also from or to unknown.
    pub(in crate::event) fn changes(&self, slot: usize) -> Plane {
        let mut out = self.combine(slot, |now, was| now ^ was);
        if self.open {
            let (level, unknown) = self.before[slot];
            let (mut carry, mut open_carry) = (u64::from(level), u64::from(unknown));
            for (word, out) in out.iter_mut().enumerate().take(self.words()) {
                let (now, open) = (self.planes[slot][word], self.unknown[slot][word]);
                *out = (now ^ (now << 1 | carry)) | (open ^ (open << 1 | open_carry));
                (carry, open_carry) = (now >> 63, open >> 63);
            }
        }
        out
    }
}

/// Something that happens, or does not, in one window after the other.
pub(in crate::event) trait Running: std::fmt::Debug {
    /// The ticks of the window at which it happens; words beyond the window are zero.
    fn advance(&mut self, window: &Window<'_>) -> Plane;

    /// The next tick at which it may happen although no line changes.
    fn wake(&self) -> Option<u64>;

    /// The first tick of what is under way and may yet happen: a frame, an attempt at a sequence, a stretch.
    fn since(&self) -> Option<u64>;

    /// Whether it has no beginning before its instant.
    fn is_instant(&self) -> bool;

    /// The tick by which something had begun that happens in the window from `start` on; `None` for an instant.
    fn began_by(&self, start: u64) -> Option<u64> {
        (!self.is_instant()).then(|| self.since().map_or(start, |since| since.min(start)))
    }
}
