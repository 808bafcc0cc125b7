//! The part of a record in which something is expected.

use crate::capture::Capture;
use crate::error::Result;
use crate::event::Program;
use crate::quantity::{Rational, Time};
use crate::time::Tick;

/// From when to when, and whether the record has all of it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Due {
    pub(super) begin: Tick,
    pub(super) end: Tick,
    /// Whether what has not come by then does not come: the time is over within the record.
    pub(super) is_over: bool,
}

impl Due {
    /// After the first occurrence of an event, or from the record's start on, for a time or without end; `None` where
    /// the event never happens.
    pub(super) fn of(
        capture: &Capture,
        after: Option<&Program>,
        within: Option<Time>,
    ) -> Result<Option<Due>> {
        let base = capture.base();
        let begin = match after {
            None => Some(Tick(0)),
            Some(event) => event.at(base)?.hits(capture, capture.range()).next().map(|hit| hit.tick),
        };
        let limit = within.and_then(|time| base.ticks_in(time)).map(Rational::floor);
        let limit = limit.and_then(|ticks| u64::try_from(ticks).ok());
        Ok(begin.map(|begin| {
            let end = limit.map_or(Tick(capture.len()), |ticks| Tick(begin.0.saturating_add(ticks)));
            Due { begin, end, is_over: limit.is_some() && end.0 <= capture.len() }
        }))
    }
}
