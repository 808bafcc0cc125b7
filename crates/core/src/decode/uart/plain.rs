//! Bytes that are as they should be, each read at once.

use std::ops::ControlFlow;

use super::bits::Bits;
use super::{Byte, Parity, State, StopBits, Uart};
use crate::bus::{Ahead, BusMark, FrameSink, Look};
use crate::line::{BitOrder, Level};
use crate::time::Tick;

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
            let last = self.plain.as_ref().map_or(0, Bits::last_look);
            out.look(Look::taking(Tick(start.0.saturating_add(last)), 0).shifting(1));
            out.frame(self.frame(byte))?;
            read = true;
        }
        ControlFlow::Continue(read)
    }

    /// Takes the edges of the next byte.
    fn plain_byte(&self, ahead: &mut Ahead<'_>) -> Option<Byte> {
        let read = self.plain.as_ref()?.read(ahead)?;
        let byte = self.plain_data(read.start, read.rests);
        let wanted = self.config.parity.wanted(byte.ones);
        let fits = wanted.is_none() || wanted == byte.parity;
        (fits && ahead.take(&[read.edges])).then_some(byte)
    }

    /// The bits of a byte with all its stop bits that are looked at.
    pub(super) fn plain_bits(&self) -> Bits {
        let start = if self.config.inverted { Level::High } else { Level::Low };
        let stop = self.bits() - 1;
        let last = stop + u32::from(self.config.stop_bits == StopBits::Two);
        let looks = (0..=last).map(|bit| {
            let looks = || self.looks(Tick(0), bit).map(|look| look.0);
            (looks().min().unwrap_or(0), looks().max().unwrap_or(0))
        });
        Bits::new(self.bit, looks, self.room(), start, stop)
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
        Byte { start, taken: self.bits(), data, ones, parity, rested: true, faults: Vec::new() }
    }
}
