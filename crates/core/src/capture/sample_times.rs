//! When the samples of an analog line were taken: on a grid, or wherever the voltage changed.

use std::sync::Arc;

use super::trace::Trace;
use crate::line::Level;
use crate::time::Tick;

/// The ticks of samples.
#[derive(Clone, Debug)]
pub(super) enum SampleTimes {
    /// One every so many ticks.
    Grid { first: u64, every: u64 },
    /// The first tick, and each edge of a trace: from there on the voltage holds. Where the level is unknown,
    /// so is the voltage; otherwise the level says nothing.
    Changes(Arc<Trace>),
}

impl SampleTimes {
    pub(super) fn tick_of(&self, sample: u64) -> Tick {
        match self {
            SampleTimes::Grid { first, every } => Tick(first.saturating_add(sample.saturating_mul(*every))),
            SampleTimes::Changes(trace) => match sample.checked_sub(1) {
                None => Tick(0),
                Some(edge) => trace.nth_edge(edge).map_or(Tick(trace.len()), |edge| edge.tick),
            },
        }
    }

    /// The last sample of `len` at or before a tick.
    pub(super) fn sample_at(&self, tick: Tick, len: u64) -> Option<u64> {
        let last = len.checked_sub(1)?;
        let number = match self {
            SampleTimes::Grid { first, every } => tick.0.checked_sub(*first)? / every,
            SampleTimes::Changes(trace) => trace.count(Tick(0)..Tick(tick.0.saturating_add(1))),
        };
        Some(number.min(last))
    }

    /// Whether the voltage of a sample is known, if it is there.
    pub(super) fn is_known(&self, sample: u64) -> bool {
        match self {
            SampleTimes::Grid { .. } => true,
            SampleTimes::Changes(trace) => trace.level_at(self.tick_of(sample)) != Level::Unknown,
        }
    }
}
