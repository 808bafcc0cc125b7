//! Bytes that are as they should be, each read at once.

use std::ops::ControlFlow;

use super::{Byte, Parity, State, StopBits, Uart};
use crate::bus::{Ahead, BusMark, FrameSink, Look};
use crate::line::BitOrder;
use crate::time::Tick;

/// Where the bits of a byte lie, in ticks from the edge of its start bit.
#[derive(Clone, Debug, Default)]
pub(super) struct Bits {
    each: Vec<Bit>,
    /// Bits in a tick, of 2^32.
    in_tick: u64,
    room: u64,
}

#[derive(Clone, Copy, Debug)]
struct Bit {
    /// Between these, an edge with which it begins lies no more than a third of a bit off.
    begins: (u64, u64),
    /// The first and the last place at which it is looked at.
    looks: (u64, u64),
}

impl Bits {
    pub(super) fn of(uart: &Uart) -> Self {
        let (bit, third) = (i128::from(uart.bit), i128::from(uart.bit / 3));
        let ticks = |thousandths: i128| u64::try_from(thousandths.div_euclid(1000)).unwrap_or(0);
        let each = (0..=uart.last_bit()).map(|place| {
            let begin = bit * i128::from(place);
            // It was at its tick, or less than one before.
            let begins = (ticks(begin - third + 999), ticks(begin + third + 1000));
            let looks = || uart.looks(Tick(0), place).map(|look| look.0);
            Bit { begins, looks: (looks().next().unwrap_or(0), looks().last().unwrap_or(0)) }
        });
        Bits { each: each.collect(), in_tick: (1000 << 32) / uart.bit.max(1), room: uart.room() }
    }

    /// Which bit begins with an edge so many ticks after the first, which lies before the last look.
    fn begins_at(&self, ticks: u64) -> usize {
        (ticks.saturating_mul(self.in_tick).saturating_add(1 << 31) >> 32) as usize
    }
}

impl Uart {
    /// Reads the next bytes that have no fault and no edge near the middle of a bit.
    pub(super) fn plain_bytes(
        &mut self,
        ahead: &mut Ahead<'_>,
        out: &mut dyn FrameSink,
    ) -> ControlFlow<(), bool> {
        self.take(ahead.next(), out)?;
        let resting = self.state == State::Resting && self.rests(self.level);
        let mut read = false;
        while resting && let Some(byte) = self.plain_byte(ahead) {
            let start = byte.start;
            let rested = self.has_rested(start);
            self.since = ahead.before(0);
            if rested {
                out.settled(start);
            }
            out.mark(BusMark::new("begin", start))?;
            if let Some(bit) = self.plain.each.last() {
                out.look(Look::taking(Tick(start.0.saturating_add(bit.looks.1)), 0).shifting(1));
            }
            out.frame(self.frame(byte))?;
            read = true;
        }
        ControlFlow::Continue(read)
    }

    /// Takes the edges of the next byte.
    fn plain_byte(&self, ahead: &mut Ahead<'_>) -> Option<Byte> {
        let (start, rests, edges) = self.plain_bits(ahead)?;
        let byte = self.plain_data(start, rests);
        let wanted = self.config.parity.wanted(byte.ones);
        let fits = wanted.is_none() || wanted == byte.parity;
        (fits && ahead.take(&[edges])).then_some(byte)
    }

    /// The last bit that is looked at.
    fn last_bit(&self) -> u32 {
        self.bits() - 1 + u32::from(self.config.stop_bits == StopBits::Two)
    }

    /// Where the next byte starts, a one for each of its bits at the resting level, the start bit lowest, and how many
    /// edges it has; `None` where one of them is near the middle of a bit, or a start or stop bit is none.
    fn plain_bits(&self, ahead: &Ahead<'_>) -> Option<(Tick, u64, usize)> {
        let edges = ahead.edges(0);
        let (start, level) = edges.first().copied().filter(|(_, level)| self.is_start(*level))?;
        let margin = ahead.margin(self.plain.room);
        // Just before the record, there may be a change.
        let (first, last) = (self.plain.each.first()?, self.plain.each.last()?);
        if start.0.saturating_add(first.looks.0) <= margin {
            return None;
        }
        let (mut rests, mut level, mut count) = (0, level, 1);
        let after = loop {
            let (tick, next) = match edges.get(count) {
                Some(edge) => *edge,
                None => break ahead.after(0, count)?,
            };
            let ticks = tick.0 - start.0;
            if ticks > last.looks.1 {
                break tick;
            }
            let place = self.plain.begins_at(ticks);
            let [before, bit] = self.plain.each.get(place.checked_sub(1)?..=place)? else { return None };
            let known = level.bit().is_some() && next == level.opposite();
            let in_time = bit.begins.0 <= ticks && ticks <= bit.begins.1;
            let near = ticks.saturating_sub(before.looks.1).min(bit.looks.0.saturating_sub(ticks)) <= margin;
            if !known || !in_time || near {
                return None;
            }
            level = next;
            rests ^= u64::MAX << place;
            count += 1;
        };
        if after.0.saturating_sub(start.0.saturating_add(last.looks.1)) <= margin {
            return None;
        }
        let stops = u64::MAX << (self.bits() - 1) & ((2 << self.last_bit()) - 1);
        (rests & 1 == 0 && rests & stops == stops).then_some((start, rests, count))
    }
    fn plain_data(&self, start: Tick, rests: u64) -> Byte {
        let count = self.config.data_bits;
        let data = rests >> 1 & ((1 << count) - 1);
        let parity = (self.config.parity != Parity::None).then_some(rests >> (1 + count) & 1 == 1);
        let ones = data.count_ones();
        let data = match self.config.order {
            BitOrder::LowestFirst => data,
            BitOrder::HighestFirst => data.reverse_bits() >> (u64::BITS - count),
        };
        Byte { start, taken: self.last_bit() + 1, data, ones, parity, rested: true, faults: Vec::new() }
    }
}
