//! Bytes that are as they should be, each read at once.

use std::ops::ControlFlow;

use super::{CLOCK, DATA, I2c};
use crate::bus::{Ahead, FrameSink, Look};
use crate::line::Level;
use crate::time::Tick;

/// Bits of a byte, with the one that acknowledges it.
const BITS: usize = 9;

impl I2c {
    /// Reads the next bytes of a frame, if their data changes only while the clock is low, and not near where it is taken.
    pub(super) fn plain_bytes(
        &mut self,
        ahead: &mut Ahead<'_>,
        out: &mut dyn FrameSink,
    ) -> ControlFlow<(), bool> {
        let mut last = None;
        while self.open.as_ref().is_some_and(|open| open.byte.is_none())
            && let Some(bits) = plain_bits(ahead)
        {
            bits.into_iter().for_each(|(at, level)| self.bit(at, level));
            last = bits.last().map(|(at, _)| *at);
        }
        let Some(last) = last else { return ControlFlow::Continue(false) };
        self.levels = ahead.levels();
        out.look(Look::taking(last, 0).shifting(1 << DATA));
        ControlFlow::Continue(true)
    }
}

/// Takes the edges of the next byte: its bits, each with where it is taken.
fn plain_bits(ahead: &mut Ahead<'_>) -> Option<[(Tick, Level); BITS]> {
    let (clock, data, margin) = (ahead.edges(CLOCK), ahead.edges(DATA), ahead.margin(0));
    let mut counts = [0; 2];
    let mut bits = [(Tick(0), Level::Unknown); BITS];
    let mut level = ahead.levels().level(DATA);
    let mut high = ahead.levels().level(CLOCK);
    let mut changed = ahead.before(DATA);
    for bit in &mut bits {
        if high == Level::High {
            // While the clock is high, a change is a start or a stop.
            let (fall, to) = *clock.get(counts[CLOCK])?;
            if to != Level::Low || ahead.after(DATA, counts[DATA])? < fall {
                return None;
            }
            counts[CLOCK] += 1;
            high = to;
        }
        let (rise, to) = *clock.get(counts[CLOCK])?;
        if high != Level::Low || to != Level::High {
            return None;
        }
        while let Some((tick, to)) = data.get(counts[DATA]).filter(|(tick, _)| *tick < rise) {
            (changed, level) = (*tick, *to);
            counts[DATA] += 1;
        }
        let next = ahead.after(DATA, counts[DATA])?;
        let near = rise.0.saturating_sub(changed.0) <= margin || next.0 - rise.0 <= margin;
        if near || level.bit().is_none() {
            return None;
        }
        counts[CLOCK] += 1;
        high = to;
        *bit = (rise, level);
    }
    ahead.take(&counts).then_some(bits)
}
