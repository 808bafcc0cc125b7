//! The last part of a record that goes on.

use std::ops::Range;
use std::sync::{Arc, OnceLock};

use super::narrow::Narrowing;
use super::record::Capture;
use super::trace::{Asked, Trace};
use crate::line::{Level, LineId};
use crate::time::Tick;

/// A record that grows at its end and is forgotten from its beginning, line by line.
///
/// Ticks, the numbers of edges, the narrowest pulse of a line and the ticks at which it was unknown are those of
/// the whole record; edges and levels can be asked for only where they are kept.
#[derive(Debug)]
pub(crate) struct Rolling {
    capture: Capture,
    /// For each line, how narrow its pulses were up to here, for good.
    narrow: Vec<Narrowing>,
    /// How far the record is known for good; what is known beyond will be given again.
    firm: u64,
}

impl Rolling {
    /// A record without a tick, of these lines. Of those whose `shortest` pulse is stated, the narrowest one is
    /// looked for; of the others, the first of a single tick.
    pub(crate) fn new(capture: Capture) -> Self {
        let capture = capture.with_own_traces();
        let narrow = capture.lines.iter().map(|line| Narrowing::new(line.pulses.shortest.is_some()));
        Rolling { narrow: narrow.collect(), capture, firm: 0 }
    }

    /// The record as far as it is known.
    pub(crate) fn capture(&self) -> &Capture {
        &self.capture
    }

    /// Adds what comes next up to a tick: for each line the traces of one part, for good, and then of what may
    /// be given again.
    pub(crate) fn extend(&mut self, parts: Vec<Trace>, firm: u64, tails: Vec<Trace>, len: u64) {
        let lines = self.capture.traces.iter_mut().zip(&mut self.narrow);
        for (((trace, narrow), part), tail) in lines.zip(parts).zip(tails) {
            let mut whole = std::mem::replace(trace, Arc::new(Trace::of(Vec::new(), 0, 0)));
            if let Some(whole) = Arc::get_mut(&mut whole) {
                whole.drop_tail(self.firm);
                narrow.add(&part);
                whole.append(part);
                let mut seen = narrow.clone();
                seen.add(&tail);
                whole.append(tail);
                whole.len = len;
                whole.asked = Asked {
                    narrowest: OnceLock::from(seen.narrowest()),
                    single: OnceLock::from(seen.single()),
                    ..Asked::default()
                };
            }
            *trace = whole;
        }
        (self.firm, self.capture.len) = (firm, len);
    }

    /// Forgets a line before a tick.
    pub(crate) fn forget(&mut self, line: LineId, before: Tick) {
        if let Some(trace) = self.capture.traces.get_mut(line.0).and_then(Arc::get_mut) {
            trace.forget(before.0.min(self.firm.saturating_sub(1)));
        }
    }
}

impl Trace {
    /// Whether the level is unknown at any tick in a range.
    pub(super) fn is_unknown_within(&self, range: Range<Tick>) -> bool {
        let kept = Tick(range.start.0.max(self.past.until))..range.end;
        if range.start < kept.start && self.past.is_unknown_within(&(range.start.0..range.end.0)) {
            return true;
        }
        (kept.start < kept.end || range.start == kept.start)
            && (self.level_at(kept.start) == Level::Unknown
                || self.edges(kept).any(|edge| edge.to == Level::Unknown))
    }

    /// Adds a continuation, whose ticks are those of the whole.
    fn append(&mut self, part: Trace) {
        for mut segment in part.segments {
            segment.edges_before = self.edges;
            self.edges += segment.edges;
            // The one before goes on as long as nothing changes.
            if segment.edges > 0 || self.segments.is_empty() {
                self.segments.push(segment);
            }
        }
        self.len = part.len;
    }

    /// Drops everything from a tick on, at which a segment begins.
    fn drop_tail(&mut self, from: u64) {
        while self.segments.len() > 1 && self.segments.last().is_some_and(|last| last.start >= from) {
            if let Some(last) = self.segments.pop() {
                self.edges = last.edges_before;
            }
        }
        // The very first segment begins with the record.
        if from == 0 {
            (self.segments, self.edges) = (Vec::new(), 0);
        }
    }

    /// Forgets what lies before a tick, as far as nothing later is in the same segment.
    fn forget(&mut self, before: u64) {
        let keep = self.segments.partition_point(|segment| segment.start <= before).saturating_sub(1);
        if keep == 0 {
            return;
        }
        let until = self.segments[keep].start;
        let forgotten = Tick(self.past.until)..Tick(until);
        let unknown = |segment: &super::trace::Segment| {
            segment.entry == Level::Unknown
                || segment.chunks().is_none_or(|chunks| chunks.is_ever(Level::Unknown))
        };
        if self.segments[..keep].iter().any(unknown) {
            let mut level = self.level_at(forgotten.start);
            let mut since = forgotten.start.0;
            let edges: Vec<_> = self.edges(Tick(forgotten.start.0 + 1)..forgotten.end).collect();
            for edge in edges {
                if level == Level::Unknown {
                    self.past.note(since..edge.tick.0);
                }
                (level, since) = (edge.to, edge.tick.0);
            }
            if level == Level::Unknown {
                self.past.note(since..until);
            }
        }
        self.segments.drain(..keep);
        self.past.until = until;
    }
}
