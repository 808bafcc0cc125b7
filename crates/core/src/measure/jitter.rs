//! How steady a repeating event is.

use std::ops::Range;

use super::intervals::{Intervals, periods};
use crate::capture::Capture;
use crate::event::TimedProgram;
use crate::known::{Precision, Rule};
use crate::quantity::{Bounds, Estimate, Time};
use crate::time::Tick;

/// Fewest periods of which a drift is told.
const FEWEST: u64 = 20;

/// How steady a repeating event is, in seconds. The names are those of JESD65B and IEEE 2414.
#[derive(Clone, Debug, PartialEq)]
pub struct Jitter {
    /// Root mean square of what the periods differ from their mean by.
    pub period_rms: Estimate,
    /// From the shortest to the longest period.
    pub period_peak_to_peak: Estimate,
    /// Root mean square of the difference from one period to the next.
    pub cycle_to_cycle_rms: Option<Estimate>,
    /// The largest difference from one period to the next.
    pub cycle_to_cycle_peak: Option<Estimate>,
    /// Root mean square of the distance to the ideal grid: the equally spaced instants that fit best
    /// (least squares).
    pub grid_rms: Estimate,
    /// From the earliest to the latest against the ideal grid.
    pub grid_peak_to_peak: Estimate,
    /// By which share the mean period of the last tenth is longer than that of the first tenth; `None`
    /// for fewer than twenty periods.
    pub drift: Option<Estimate>,
}

/// Averages over so many periods each, one after the other.
#[derive(Clone, Debug, PartialEq)]
pub struct Averages {
    /// Periods of each.
    pub over: u64,
    /// How many there are.
    pub count: u64,
    /// The smallest of them, in seconds.
    pub min: Option<Estimate>,
    /// The largest of them, in seconds.
    pub max: Option<Estimate>,
}

/// What one pass over the periods gathers.
#[derive(Default)]
struct Sums {
    count: i128,
    place: i128,
    place_squared: i128,
    ticks: i128,
    product: i128,
}

/// How steady an event is in a range; `None` with fewer than two periods.
///
/// An edge seen at a tick was up to a tick before it. So a difference of two periods, of three edges, is
/// known to two ticks; the root mean square of a distance to the best grid to half a tick, since fitting
/// never makes the error larger; and a single distance to it to 4/3 of a tick.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::event::{Program, Scope};
/// use deep_tap_core::line::{Level, Line};
/// use deep_tap_core::measure::jitter;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let mut line = TraceBuilder::new(Level::Low);
/// // Periods of 10, 12, 10, 12 ...
/// for number in 0..100u64 {
///     line.push_edge(Tick(5 + number / 2 * 22 + number % 2 * 10), Level::High)?;
///     line.push_edge(Tick(8 + number / 2 * 22 + number % 2 * 10), Level::Low)?;
/// }
/// let capture = Capture::builder(TimeBase::from_rate("1 MS/s".parse()?)?, 2000)
///     .line(Line::named("A"), line.finish(2000))
///     .build()?;
/// let rises = Program::compile("A rises", &Scope::of(&capture))?.at(capture.base())?;
/// let jitter = jitter(&capture, &rises, capture.range()).unwrap();
/// assert!((jitter.period_peak_to_peak.value - 2e-6).abs() < 1e-12);
/// assert!((jitter.cycle_to_cycle_peak.unwrap().value - 2e-6).abs() < 1e-12);
/// assert!((jitter.grid_rms.value - 0.5e-6).abs() < 1e-8, "half a tick either side");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn jitter(capture: &Capture, event: &TimedProgram, range: Range<Tick>) -> Option<Jitter> {
    let all = periods(capture, event, range.clone());
    if all.count() < 2 || all.known().hides() {
        return None;
    }
    let hits = || event.hits(capture, range.clone()).map(|hit| hit.tick);
    let first = hits().next()?;
    let mut sums = Sums::default();
    let (mut change_squares, mut largest, mut changes) = (0f64, 0i64, 0u64);
    let mut before: Option<(Tick, Option<i64>)> = None;
    for tick in hits() {
        let (place, at) = (sums.count, i128::from(tick.since(first)));
        sums.count += 1;
        sums.place += place;
        sums.place_squared += place * place;
        sums.ticks += at;
        sums.product += place * at;
        let period = before.map(|(last, _)| tick.since(last));
        if let (Some(period), Some((_, Some(last)))) = (period, before) {
            let change = (period - last).abs();
            change_squares += (change as f64).powi(2);
            largest = largest.max(change);
            changes += 1;
        }
        before = Some((tick, period));
    }
    // The line of least squares through (place, tick).
    let spread = (sums.count * sums.place_squared - sums.place * sums.place) as f64;
    let slope = (sums.count * sums.product - sums.place * sums.ticks) as f64 / spread;
    let offset = (sums.ticks as f64 - slope * sums.place as f64) / sums.count as f64;
    let (mut squares, mut least, mut most) = (0f64, f64::MAX, f64::MIN);
    for (place, tick) in hits().enumerate() {
        let off = tick.since(first) as f64 - (slope * place as f64 + offset);
        squares += off * off;
        (least, most) = (least.min(off), most.max(off));
    }
    let tick = capture.base().tick().to_f64();
    // Without sampling an edge is where it is, but for what keeps it from being known besides.
    let (off, clock) = (all.known().slack(), all.known().clock_error());
    let known = |value: f64, off: f64| {
        // The time base stretches what it is about, too.
        let off = off + value * clock;
        Estimate { value: value * tick, lo: (value - off).max(0.0) * tick, hi: (value + off) * tick }
    };
    // Two periods are compared, each of which the time base may make longer or shorter.
    let two = 2.0 * (off + all.max()?.value.to_f64() / tick * clock);
    let peak = (all.max()?.value.to_f64() - all.min()?.value.to_f64()) / tick;
    let changes = (changes > 0).then_some(changes);
    Some(Jitter {
        period_rms: all.deviation()?,
        period_peak_to_peak: known(peak, two),
        cycle_to_cycle_rms: changes.map(|n| known((change_squares / n as f64).sqrt(), two)),
        cycle_to_cycle_peak: changes.map(|_| known(largest as f64, two)),
        grid_rms: known((squares / sums.count as f64).sqrt(), 0.5 * off),
        grid_peak_to_peak: known(most - least, 8.0 / 3.0 * off),
        drift: drift(&all, hits()),
    })
}

/// The mean periods of the first and of the last tenth, compared.
fn drift(all: &Intervals, hits: impl Iterator<Item = Tick>) -> Option<Estimate> {
    let (count, tenth) = (all.count(), all.count() / 10);
    if count < FEWEST {
        return None;
    }
    let wanted = [0, tenth, count - tenth, count];
    let ends: Vec<Tick> = hits
        .enumerate()
        .filter(|(place, _)| wanted.contains(&(*place as u64)))
        .map(|(_, tick)| tick)
        .collect();
    let [a, b, c, d] = ends[..] else { return None };
    // What the time base is off by, it is off by in both.
    let steady = all.known().steady();
    let part = |from: Tick, to: Tick| steady.bounds(to.since(from));
    let (first, last) = (part(a, b)?, part(c, d)?);
    let value = d.since(c) as f64 / b.since(a) as f64 - 1.0;
    let hi = |bounds: Bounds| bounds.hi.map_or(f64::INFINITY, Time::to_f64);
    let (lo, hi) = (last.lo.to_f64() / hi(first) - 1.0, hi(last) / first.lo.to_f64() - 1.0);
    Some(Estimate { value, lo, hi })
}

/// Means of so many periods each; the rest at the end is left out.
pub fn averages(capture: &Capture, event: &TimedProgram, range: Range<Tick>, over: u64) -> Averages {
    let over = over.max(1);
    let mut all = Averages { over, count: 0, min: None, max: None };
    let mut begin: Option<Tick> = None;
    let instants = event.instants();
    let span = Precision::of(capture, Rule::Proven).until_next(&instants, &instants);
    for (place, hit) in event.hits(capture, range).enumerate() {
        if !(place as u64).is_multiple_of(over) {
            continue;
        }
        if let Some(begin) = begin {
            let ticks = hit.tick.since(begin);
            let Some(bounds) = span.length(ticks) else { continue };
            let each = |time: Time| time.to_f64() / over as f64;
            let value = Estimate {
                value: each(span.counted(ticks)),
                lo: each(bounds.lo),
                hi: bounds.hi.map_or(f64::INFINITY, each),
            };
            all.count += 1;
            if all.min.is_none_or(|min| value.value < min.value) {
                all.min = Some(value);
            }
            if all.max.is_none_or(|max| value.value > max.value) {
                all.max = Some(value);
            }
        }
        begin = Some(hit.tick);
    }
    all
}
