//! A part of a capture as a capture of its own.

use std::ops::Range;
use std::sync::Arc;

use super::analog::{AnalogBuilder, AnalogTrace};
use super::builder::TraceBuilder;
use super::held::HeldBuilder;
use super::record::{Capture, Note};
use super::trace::Trace;
use crate::error::Result;
use crate::line::{AnalogId, AnalogLine, Line, LineId};
use crate::time::Tick;

impl Capture {
    /// The record from one tick to another, times as they were: time zero may lie before it or after. What was
    /// done is in its history.
    ///
    /// ```
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::{Tick, TimeBase};
    ///
    /// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
    /// let strobe = Trace::toggling(Level::High, [40, 44], 100)?;
    /// let capture = Capture::builder(base, 100).line("WE_N", strobe).build()?;
    /// let part = capture.excerpt(Tick(42)..Tick(50))?;
    /// assert_eq!((part.len(), part.edge_count()), (8, 1));
    /// assert_eq!(part.base().text_of(Tick(2)), "44 us");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// As building a capture.
    pub fn excerpt(self, range: Range<Tick>) -> Result<Capture> {
        let (start, end) = (range.start.0.min(self.len), range.end.0.min(self.len));
        if start == 0 && end == self.len {
            return Ok(self);
        }
        let len = end.saturating_sub(start);
        let traces = self.traces.iter().map(|trace| Arc::new(part(trace, start, end))).collect();
        let analog = (0..self.analog_lines.len()).map(|id| {
            let whole = self.analog(AnalogId(id));
            if whole.holds() {
                return held_part(whole, start, end);
            }
            let samples = whole.samples_in(Tick(start)..Tick(end));
            let first = whole.tick_of(samples.start).0.saturating_sub(start);
            let mut builder = AnalogBuilder::new();
            // Lost codes are left out, with all that follows them.
            for code in samples.map_while(|sample| whole.code(sample)) {
                builder.push(&[code]);
            }
            builder.finish(whole.scale(), first, whole.every())
        });
        let analog = analog.collect();
        let text = |tick| self.base.text_of(Tick(tick));
        let mut history = self.history.clone();
        history.push(format!(
            "the part from {} to {} of {} to {}",
            text(start),
            text(end),
            text(0),
            text(self.len)
        ));
        let inside = self.notes.iter().filter(|note| (start..=end).contains(&note.at.0));
        let notes = inside.map(|note| Note { at: Tick(note.at.0 - start), ..note.clone() }).collect();
        let zero = self.base.zero_at().saturating_sub(i64::try_from(start).unwrap_or(i64::MAX));
        let base = self.base.with_zero_at(zero);
        let builder = self.into_builder().shared_traces(traces).replace_analog(analog);
        builder.base(base).length(len).history(history).notes(notes).build()
    }

    /// The record of some of its lines and analog lines only, with the buses that they make.
    ///
    /// # Errors
    /// As building a capture.
    pub fn only(self, lines: &[LineId], analog: &[AnalogId]) -> Result<Capture> {
        let place = |line: &LineId| lines.iter().position(|kept| kept == line).map(LineId);
        let buses = self.buses.iter().filter_map(|bus| {
            let mut kept = bus.clone();
            kept.lines = bus.lines.iter().map(place).collect::<Option<_>>()?;
            kept.clock = match bus.clock {
                Some((clock, edge)) => Some((place(&clock)?, edge)),
                None => None,
            };
            Some(kept)
        });
        let buses = buses.collect();
        let wanted: Vec<(String, Line)> =
            lines.iter().map(|line| (self.line(*line).name.clone(), self.line(*line).clone())).collect();
        let kept: Vec<(usize, AnalogLine)> =
            analog.iter().map(|line| (line.0, self.analog_lines[line.0].clone())).collect();
        let mut history = self.history.clone();
        if lines.len() < self.lines.len() || analog.len() < self.analog_lines.len() {
            let all = self.lines.len() + self.analog_lines.len();
            history.push(format!("{} of {all} lines kept", lines.len() + analog.len()));
        }
        self.into_builder().select(wanted)?.select_analog(kept).buses(buses).history(history).build()
    }
}

fn held_part(whole: &AnalogTrace, start: u64, end: u64) -> AnalogTrace {
    let samples = whole.samples_in(Tick(start)..Tick(end));
    let mut builder = HeldBuilder::new(whole.code(samples.start));
    for sample in samples.skip(1) {
        // Ticks come in order, behind the first one.
        let _ = builder.push(Tick(whole.tick_of(sample).0.saturating_sub(start)), whole.code(sample));
    }
    builder.finish(whole.scale(), end.saturating_sub(start))
}

fn part(trace: &Trace, start: u64, end: u64) -> Trace {
    let mut builder = TraceBuilder::new(trace.level_at(Tick(start)));
    for edge in trace.edges(Tick(start.saturating_add(1))..Tick(end)) {
        builder.push_change(edge.tick.0 - start, edge.to);
    }
    builder.finish(end.saturating_sub(start))
}
