//! What a line does around an instant.

use crate::capture::Capture;
use crate::line::{Level, LineId};
use crate::time::{Bounds, Interval, Percent, Rational, Tick, Time};

/// A length of time as counted, and what is known of it.
pub type Length = (Time, Bounds);

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
    pub pulse: Option<Length>,
    /// The length of the period that it lies in: from rising edge to rising edge.
    pub period: Option<Length>,
    /// The share of that period for which the line is high.
    pub duty: Option<(Percent, Bounds<Percent>)>,
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
/// assert_eq!(there.pulse.unwrap().0.to_string(), "6 us");
/// assert_eq!((there.period.unwrap().0.to_string(), there.duty.unwrap().0.to_string()), ("10 us".into(), "40 %".into()));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn around(capture: &Capture, line: LineId, at: Tick) -> Around {
    let trace = capture.trace(line);
    let early = capture.resolution().quantum();
    let length = |from: Tick, to: Tick| {
        let interval =
            Interval { ticks: to.since(from), start_early: early, end_early: early, same_input: true };
        let bounds = interval.bounds(capture.base(), capture.resolution())?;
        Some((interval.nominal(capture.base()), bounds.not_negative()))
    };
    let next = Tick(at.0.saturating_add(1));
    let known = |edge: Option<crate::capture::Edge>| edge.filter(|edge| edge.to != Level::Unknown);
    let before = known(trace.prev_edge(next));
    let after = known(trace.next_edge(next));
    // The rising edge that begins the period, the falling one in it, the rising one that ends it.
    let begin = before.and_then(|edge| match edge.to {
        Level::High => Some(edge),
        _ => known(trace.prev_edge(edge.tick)).filter(|edge| edge.to == Level::High),
    });
    let fall = begin.and_then(|begin| known(trace.next_edge(Tick(begin.tick.0 + 1))));
    let end = fall.and_then(|fall| known(trace.next_edge(Tick(fall.tick.0 + 1))));
    let period = begin.zip(end).and_then(|(begin, end)| length(begin.tick, end.tick));
    let duty = begin.zip(fall).zip(end).and_then(|((begin, fall), end)| {
        let (part, whole) = (fall.tick.since(begin.tick), end.tick.since(begin.tick));
        let share = |ticks: i64| {
            Some(Percent::from_fraction(Rational::new(ticks.clamp(0, whole).into(), whole.into())?))
        };
        let off = i64::from(early);
        let bounds = Bounds {
            lo: share(part - off)?,
            hi: share(part + off)?,
            lo_exclusive: early > 0,
            hi_exclusive: early > 0,
        };
        Some((share(part)?, bounds))
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
