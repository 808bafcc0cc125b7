//! The contract of a decoder.

use std::fmt;
use std::ops::ControlFlow;

use super::{Ahead, BusMark, Frame, Look};
use crate::line::Levels;
use crate::time::Tick;

/// Takes what a decoder finds, in order of the frames' ends, and may say stop.
///
/// Only frames must be taken; the rest may be left alone.
pub trait FrameSink {
    /// The next frame.
    fn frame(&mut self, frame: Frame) -> ControlFlow<()>;

    /// An instant that has a name. It comes with the call that reaches its tick.
    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        let _ = mark;
        ControlFlow::Continue(())
    }

    /// Levels were looked at. It comes with the call that reaches its tick, before the frame that
    /// depends on it.
    fn look(&mut self, look: Look) {
        let _ = look;
    }

    /// What is read from this tick on, until it is [settled](FrameSink::settled) again, may be wrong.
    fn doubt(&mut self, at: Tick) {
        let _ = at;
    }

    /// From this tick on, everything is read in the same way, whatever came before it: after a rest, a
    /// selection, a reset.
    fn settled(&mut self, at: Tick) {
        let _ = at;
    }
}

/// Keeps all frames.
impl FrameSink for Vec<Frame> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.push(frame);
        ControlFlow::Continue(())
    }
}

/// A bus as a state machine over the changes of its lines.
///
/// Implementors: `begin` comes first and once, then any number of `change` and `pass` with
/// rising ticks, then `end`. A frame is given out as soon as it is whole, at the latest with the
/// call whose tick lies behind its end: a frame that is known by a time that passes ends when that
/// is over. What is given out must depend on the levels over time only,
/// not on how often `pass` is called. Nothing panics on any sequence of levels.
///
/// A decoder that says where it [looks](FrameSink::look), and from where on it is
/// [settled](FrameSink::settled), has frames that can be certain; without, none of them ever is.
///
/// `examples/own_decoder.rs` is a complete implementation.
pub trait Decoder: fmt::Debug + Send {
    /// How many lines it looks at, at most 64.
    fn lines(&self) -> usize;

    /// The levels at the first tick.
    fn begin(&mut self, at: Tick, levels: Levels);

    /// At this tick, at least one line has another level than before.
    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()>;

    /// The next tick by which it may give a frame out although nothing changes; `None` where only
    /// changes do that. Long stretches without a change are skipped up to there. A decoder that waits for
    /// time in [`pass`](Decoder::pass) must say so here, too.
    fn due(&self) -> Option<Tick> {
        None
    }

    /// Up to before this tick, nothing has changed.
    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let _ = (until, out);
        ControlFlow::Continue(())
    }

    /// Reads units ahead, such as bytes, as long as there is nothing special about any of their edges, and says whether
    /// it read any.
    ///
    /// It is there for speed alone. A decoder that reads a unit so must [take](Ahead::take) its edges, none of which may
    /// lie within the [margin](Ahead::margin) of where it would have looked; tell its frames, without a fault, and its
    /// marks in their order, and the last of its looks; and leave itself as if it had been told of each of these
    /// edges, and of the time up to the next one. By default, nothing is read ahead.
    fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        let _ = (ahead, out);
        ControlFlow::Continue(false)
    }

    /// The record ends before this tick: what is under way is cut off.
    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()>;
}
