//! Where the bits of a byte lie, in ticks from the edge of its start bit.

use crate::bus::Ahead;
use crate::line::Level;
use crate::time::Tick;

/// The bits of a byte, for reading them at once.
#[derive(Clone, Debug)]
pub(super) struct Bits {
    each: Vec<Bit>,
    /// Bits in a tick, of 2^32.
    in_tick: u64,
    room: u64,
    /// The level of a start bit.
    start: Level,
    /// The first stop bit.
    stop: u32,
}

#[derive(Clone, Copy, Debug)]
struct Bit {
    /// Between these, an edge with which it begins lies no more than a third of a bit off.
    begins: (u64, u64),
    /// The first and the last place at which it is looked at.
    looks: (u64, u64),
}

/// What was read.
pub(super) struct Read {
    pub(super) start: Tick,
    /// A one for each bit at the resting level, the start bit lowest.
    pub(super) rests: u64,
    /// How many edges it has.
    pub(super) edges: usize,
}

impl Bits {
    /// Bits of so many thousandths of a tick, each with the first and the last place at which it is looked at, from
    /// which edges must keep so much `room`.
    pub(super) fn new(
        bit: u64,
        looks: impl Iterator<Item = (u64, u64)>,
        room: u64,
        start: Level,
        stop: u32,
    ) -> Self {
        let ticks = |thousandths: i128| u64::try_from(thousandths.div_euclid(1000)).unwrap_or(0);
        let third = i128::from(bit / 3);
        let each = looks.enumerate().map(|(place, looks)| {
            let begin = i128::from(bit).saturating_mul(place as i128);
            // It was at its tick, or less than one before.
            Bit { begins: (ticks(begin - third + 999), ticks(begin + third + 1000)), looks }
        });
        Bits { each: each.collect(), in_tick: (1000 << 32) / bit.max(1), room, start, stop }
    }

    /// The last place at which a byte is looked at.
    pub(super) fn last_look(&self) -> u64 {
        self.each.last().map_or(0, |bit| bit.looks.1)
    }

    /// Which bit begins with an edge so many ticks after the first, which lies before the last look.
    fn begins_at(&self, ticks: u64) -> usize {
        (ticks.saturating_mul(self.in_tick).saturating_add(1 << 31) >> 32) as usize
    }

    /// The next byte; `None` where one of its edges is off, or near the middle of a bit, and where a start or stop bit is
    /// none.
    pub(super) fn read(&self, ahead: &Ahead<'_>) -> Option<Read> {
        let edges = ahead.edges(0);
        let (start, mut level) = edges.first().copied().filter(|(_, level)| *level == self.start)?;
        let (margin, last) = (ahead.margin(self.room), self.last_look());
        // Just before the record, there may be a change.
        if start.0.saturating_add(self.each.first()?.looks.0) <= margin {
            return None;
        }
        let mut read = Read { start, rests: 0, edges: 1 };
        let after = loop {
            let Some((tick, next)) = edges.get(read.edges).copied() else {
                break ahead.after(0, read.edges)?;
            };
            let ticks = tick.0 - start.0;
            if ticks > last {
                break tick;
            }
            let place = self.begins_at(ticks);
            let [before, bit] = self.each.get(place.checked_sub(1)?..=place)? else { return None };
            let known = level.bit().is_some() && next == level.opposite();
            let in_time = bit.begins.0 <= ticks && ticks <= bit.begins.1;
            let near = ticks.saturating_sub(before.looks.1).min(bit.looks.0.saturating_sub(ticks)) <= margin;
            if !known || !in_time || near {
                return None;
            }
            level = next;
            read.rests ^= u64::MAX << place;
            read.edges += 1;
        };
        if after.0.saturating_sub(start.0.saturating_add(last)) <= margin {
            return None;
        }
        let stops = u64::MAX << self.stop & ((1 << self.each.len()) - 1);
        (read.rests & 1 == 0 && read.rests & stops == stops).then_some(read)
    }
}
