//! Decoding an exact record, whose ticks are nobody's samples.
//!
//! The tick of a simulation's dump is the greatest common divisor of its times: where all edges lie on the
//! borders of bits, it is a whole bit. A decoder that looks into the middle of bits needs a finer clock,
//! which for an exact record costs nothing: its ticks are multiplied on the way in, and divided on the way
//! out.

use std::ops::ControlFlow;

use crate::bus::{BusMark, Decoder, Frame, FrameSink, Look};
use crate::error::Result;
use crate::line::Levels;
use crate::quantity::{Frequency, Rational};
use crate::time::{Tick, TimeBase};

/// Ticks per bit that leave every decoder its margin.
const ENOUGH: i64 = 64;

/// By so much a clock is made finer at the most.
const FINEST: u64 = 1 << 20;

/// A decoder of an exact record whose ticks are finer by a factor.
#[derive(Debug)]
pub(super) struct Finer {
    factor: u64,
    decoder: Box<dyn Decoder>,
}

impl Finer {
    /// The decoder that `make` gives for a clock that is fine enough for it, and for bits of this rate.
    ///
    /// # Errors
    /// Those of `make` with the clock as it is, where no clock is fine enough.
    pub(super) fn make(
        base: TimeBase,
        bit_rate: Option<Frequency>,
        make: impl Fn(TimeBase) -> Result<Box<dyn Decoder>>,
    ) -> Result<Box<dyn Decoder>> {
        let plain = make(base);
        let mut factor = 1;
        while factor <= FINEST {
            let Some(fine) = base.finer(factor) else { break };
            let enough = bit_rate.is_none_or(|rate| ticks_per_bit(fine, rate) >= Rational::from(ENOUGH));
            if enough && let Ok(decoder) = make(fine) {
                return match factor {
                    1 => Ok(decoder),
                    _ => Ok(Box::new(Finer { factor, decoder })),
                };
            }
            factor *= 2;
        }
        plain
    }

    fn fine(&self, tick: Tick) -> Tick {
        Tick(tick.0.saturating_mul(self.factor))
    }
}

fn ticks_per_bit(base: TimeBase, bit_rate: Frequency) -> Rational {
    base.rate().to_rational().checked_div(bit_rate.to_rational()).unwrap_or(Rational::ZERO)
}

impl Decoder for Finer {
    fn lines(&self) -> usize {
        self.decoder.lines()
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        self.decoder.begin(self.fine(at), levels);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let at = self.fine(at);
        self.decoder.change(at, levels, &mut Coarser { factor: self.factor, out })
    }

    fn due(&self) -> Option<Tick> {
        // What is due between two ticks is done at the later one.
        self.decoder.due().map(|tick| Tick(tick.0.div_ceil(self.factor)))
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let until = self.fine(until);
        self.decoder.pass(until, &mut Coarser { factor: self.factor, out })
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let at = self.fine(at);
        self.decoder.end(at, &mut Coarser { factor: self.factor, out })
    }
}

/// Gives frames on in the ticks of the record.
struct Coarser<'o> {
    factor: u64,
    out: &'o mut dyn FrameSink,
}

impl FrameSink for Coarser<'_> {
    fn frame(&mut self, mut frame: Frame) -> ControlFlow<()> {
        // What begins or ends between two ticks reaches from the one before to the one after.
        let first = |tick: Tick| Tick(tick.0 / self.factor);
        let last = |tick: Tick| Tick(tick.0.div_ceil(self.factor));
        (frame.start, frame.end) = (first(frame.start), last(frame.end));
        for field in &mut frame.fields {
            (field.start, field.end) = (first(field.start), last(field.end));
        }
        for fault in &mut frame.faults {
            fault.at = first(fault.at);
        }
        self.out.frame(frame)
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        self.out.mark(BusMark { at: Tick(mark.at.0 / self.factor), ..mark })
    }

    fn look(&mut self, look: Look) {
        // All edges lie on ticks of the record: only one that is within the room can come too close.
        let last = look.at.0.saturating_add(look.room) / self.factor;
        let near = last.saturating_mul(self.factor) >= look.at.0.saturating_sub(look.room);
        match near {
            true => self.out.look(Look { at: Tick(last), ..look }.room(look.room.div_ceil(self.factor))),
            false => self.out.look(Look { at: Tick(look.at.0 / self.factor), lines: 0, shifting: 0, ..look }),
        }
    }

    fn doubt(&mut self, at: Tick) {
        self.out.doubt(Tick(at.0 / self.factor));
    }

    fn settled(&mut self, at: Tick) {
        self.out.settled(Tick(at.0 / self.factor));
    }
}
