//! Pulses that are too short to be meant.

use std::collections::BTreeMap;

use crate::capture::{Capture, Trace, TraceBuilder};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Level, LineId};
use crate::quantity::Time;
use crate::time::Tick;

/// The short pulses of one line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Glitches {
    /// The line.
    pub line: LineId,
    /// How many there are.
    pub count: u64,
    /// How many there are of each width, in ticks as counted.
    pub widths: BTreeMap<u64, u64>,
    /// Where the first one begins.
    pub first: Option<Tick>,
}

/// Counts the pulses of a line, high or low, whose width as counted is below a time. A pulse that
/// touches an unknown level, or an end of the record, is none.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::line::{Level, Line, LineId};
/// use deep_tap_core::measure::glitches;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let mut line = TraceBuilder::new(Level::High);
/// for (tick, level) in [(10, Level::Low), (11, Level::High), (40, Level::Low), (60, Level::High)] {
///     line.push_edge(Tick(tick), level)?;
/// }
/// let capture = Capture::builder(TimeBase::from_rate("100 MS/s".parse()?)?, 100)
///     .line(Line::named("WE_N"), line.finish(100))
///     .build()?;
/// let found = glitches(&capture, LineId(0), "50 ns".parse()?);
/// assert_eq!((found.count, found.first), (1, Some(Tick(10))));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
///
/// ```
/// use deep_tap_core::capture::{Capture, Trace};
/// use deep_tap_core::line::{Level, LineId};
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let strobe = Trace::toggling(Level::High, [40, 44, 70, 71], 100)?;
/// let capture = Capture::builder(base, 100).line("top.WE_N", strobe).build()?;
/// let found = deep_tap_core::measure::glitches(&capture, LineId(0), "3 us".parse()?);
/// assert_eq!((found.count, found.first), (1, Some(Tick(70))));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn glitches(capture: &Capture, line: LineId, below: Time) -> Glitches {
    let most = longest(capture, below);
    let mut found = Glitches { line, count: 0, widths: BTreeMap::new(), first: None };
    let mut last: Option<Tick> = None;
    for edge in capture.trace(line).edges(capture.range()) {
        let known = edge.from.bit().is_some() && edge.to.bit().is_some();
        if let Some(start) = last.filter(|start| known && edge.tick.0 - start.0 <= most) {
            found.count += 1;
            *found.widths.entry(edge.tick.0 - start.0).or_insert(0) += 1;
            found.first = found.first.or(Some(start));
        }
        last = known.then_some(edge.tick);
    }
    found
}

/// The longest width in ticks that is below a time; zero when even one tick is not.
fn longest(capture: &Capture, below: Time) -> u64 {
    let ticks = capture.base().ticks_in(below).map_or(0, |t| t.ceil() - 1);
    u64::try_from(ticks).unwrap_or(0)
}

/// Takes the pulses out of a record whose width as counted is below a time, and says so in its
/// history, with how many were taken out of which line.
///
/// From left to right: where an edge follows another within the time, both go. So a burst of short
/// pulses is flattened to the level it began or ended with.
///
/// # Errors
/// [`ErrorKind::Range`] when the time is not longer than a tick: then there is nothing to remove.
pub fn remove_glitches(capture: Capture, lines: &[LineId], below: Time) -> Result<Capture> {
    let most = longest(&capture, below);
    if most == 0 {
        let tick = capture.base().tick();
        let message = format!("no pulse of this record is shorter than {below}: a tick is {tick}");
        return Err(Error::new(ErrorKind::Range, message).with_help("give a time that is longer than a tick"));
    }
    let mut told = Vec::new();
    let mut all = 0;
    let mut replaced: Vec<Option<Trace>> = (0..capture.lines().len()).map(|_| None).collect();
    for line in lines {
        let (trace, removed) = without(capture.recorded(*line), most)?;
        if removed > 0 {
            told.push(format!("{} {removed}", capture.line(*line).name));
            all += removed;
        }
        replaced[line.0] = Some(trace);
    }
    let mut history = capture.history().to_vec();
    let detail = if told.is_empty() { String::new() } else { format!(" ({})", told.join(", ")) };
    history.push(format!("pulses shorter than {below} removed: {all}{detail}"));
    capture.into_builder().history(history).replace_traces(replaced).build()
}

/// A trace without its short pulses, and how many were taken out.
fn without(trace: &Trace, most: u64) -> Result<(Trace, u64)> {
    let mut kept: Vec<(Tick, Level, Level)> = Vec::new();
    let mut removed = 0;
    let mut builder = TraceBuilder::new(trace.level_at(Tick(0)));
    for edge in trace.edges(Tick(0)..Tick(trace.len())) {
        let known = edge.from.bit().is_some() && edge.to.bit().is_some();
        match kept.last() {
            Some((tick, from, _)) if known && *from == edge.to && edge.tick.0 - tick.0 <= most => {
                kept.pop();
                removed += 1;
            }
            _ => kept.push((edge.tick, edge.from, edge.to)),
        }
        // What lies further back than the time cannot be taken out any more.
        if kept.len() > 1 {
            let (tick, _, to) = kept.remove(0);
            builder.push_edge(tick, to)?;
        }
    }
    for (tick, _, to) in kept {
        builder.push_edge(tick, to)?;
    }
    Ok((builder.finish(trace.len()), removed))
}
