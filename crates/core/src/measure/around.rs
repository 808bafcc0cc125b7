//! What a line does around an instant.

use crate::capture::{Capture, Edge};
use crate::known::{Instants, Precision, Rule};
use crate::line::{Level, LineId};
use crate::quantity::{Bounds, Percent, Rational, Time};
use crate::time::Tick;

/// A value as counted, and what is known of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Counted<Q = Time> {
    /// As counted.
    pub value: Q,
    /// What is known of it.
    pub bounds: Bounds<Q>,
}

/// What a line does around an instant.
#[derive(Clone, Debug, PartialEq)]
pub struct Around {
    /// Its level there.
    pub level: Level,
    /// The last change at or before it.
    pub before: Option<Tick>,
    /// The first change after it.
    pub after: Option<Tick>,
    /// The length of the pulse that it lies in, if both ends are in the record.
    pub pulse: Option<Counted>,
    /// The length of the period that it lies in: from rising edge to rising edge.
    pub period: Option<Counted>,
    /// The share of that period for which the line is high.
    pub duty: Option<Counted<Percent>>,
}

/// The numbers of a line around an instant.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::line::{Level, Line, LineId};
/// use deep_tap_core::measure::around;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let mut line = TraceBuilder::new(Level::Low);
/// for (number, tick) in [10, 14, 20, 24].into_iter().enumerate() {
///     line.push_edge(Tick(tick), Level::from(number % 2 == 0))?;
/// }
/// let capture = Capture::builder(TimeBase::from_rate("1 MS/s".parse()?)?, 40)
///     .line(Line::named("A"), line.finish(40))
///     .build()?;
/// let there = around(&capture, LineId(0), Tick(16));
/// assert_eq!((there.before, there.after, there.level), (Some(Tick(14)), Some(Tick(20)), Level::Low));
/// assert_eq!(there.pulse.unwrap().value.to_string(), "6 us");
/// assert_eq!(there.period.unwrap().value.to_string(), "10 us");
/// assert_eq!(there.duty.unwrap().value.to_string(), "40 %");
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
/// let there = deep_tap_core::measure::around(&capture, LineId(0), Tick(42));
/// assert_eq!((there.level, there.before, there.after), (Level::Low, Some(Tick(40)), Some(Tick(44))));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn around(capture: &Capture, line: LineId, at: Tick) -> Around {
    let trace = capture.trace(line);
    let edges = Instants::edges_of(line);
    let span = Precision::of(capture, Rule::Proven).until_next(&edges, &edges);
    let length = |from: Tick, to: Tick| {
        let ticks = to.since(from);
        Some(Counted { value: span.counted(ticks), bounds: span.length(ticks)? })
    };
    let known = |edge: Option<Edge>| edge.filter(|edge| edge.to.bit().is_some());
    let before = known(trace.prev_edge(Tick(at.0.saturating_add(1))));
    let after = known(trace.next_edge(at));
    // The rising edge that begins the period, the falling one in it, the rising one that ends it.
    let begin = before.and_then(|edge| match edge.to {
        Level::High => Some(edge),
        _ => known(trace.prev_edge(edge.tick)).filter(|edge| edge.to == Level::High),
    });
    let fall = begin.and_then(|begin| known(trace.next_edge(begin.tick)));
    let end = fall.and_then(|fall| known(trace.next_edge(fall.tick)));
    let period = begin.zip(end).and_then(|(begin, end)| length(begin.tick, end.tick));
    let duty = begin.zip(fall).zip(end).and_then(|((begin, fall), end)| {
        let (part, whole) = (fall.tick.since(begin.tick), end.tick.since(begin.tick));
        let value = Percent::from_fraction(Rational::new(part.into(), whole.into())?);
        Some(Counted { value, bounds: span.share(1, part, whole)?.map(Percent::from_fraction) })
    });
    Around {
        level: trace.level_at(at),
        before: before.map(|edge| edge.tick),
        after: after.map(|edge| edge.tick),
        pulse: before.zip(after).and_then(|(before, after)| length(before.tick, after.tick)),
        period,
        duty,
    }
}
