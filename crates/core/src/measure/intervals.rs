//! Intervals between events and lengths of pulses, with what is known of each number about them.

use std::ops::Range;

use super::distribution::Distribution;
use crate::capture::Capture;
use crate::event::{Hit, TimedProgram};
use crate::known::{BEYOND, Instants, Precision, Rule, Span};
use crate::line::{Level, LineId};
use crate::pair::{Following, Partner, Party, Pulled, Together};
use crate::quantity::{Bounds, Estimate, Time};
use crate::time::{Tick, TimeBase};

/// One of many intervals: how long it is, what is known of that, and where it begins.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Measure {
    /// As counted.
    pub value: Time,
    /// What is known of it.
    pub bounds: Bounds,
    /// When it begins; `None` for a percentile, which may be any of several.
    pub at: Option<Time>,
}

/// Intervals of one kind.
///
/// Every true interval lies within a tick of the counted one (and the skew, and the error of the time
/// base). So do their smallest, their largest and each percentile; their standard deviation is off by as
/// much at the most, and their mean, too. Where the record leaves open which event is the end of one, all
/// of them may be off by as much more. Where each begins with the end of the one before, only the
/// first and the last edge of all count for the mean, which is then known N times as well; in bursts, the
/// first and the last of each burst.
#[derive(Clone, Debug)]
pub struct Intervals {
    /// The ticks of each.
    pub ticks: Distribution,
    /// Events that found no partner, and pulses that were cut off.
    pub unpaired: u64,
    /// The shortest, and where it begins.
    shortest: Option<(i64, Tick)>,
    /// The longest, and where it begins.
    longest: Option<(i64, Tick)>,
    /// If each begins with the end of the one before: in how many runs, and how many ticks these last.
    runs: Option<(u64, i64)>,
    /// What is known of each.
    known: Span,
    /// By how many ticks one may be shorter, or longer, since another event may be its end.
    shorter: i64,
    longer: i64,
}

impl Intervals {
    /// None yet, between instants of these kinds.
    pub(crate) fn between(capture: &Capture, from: &Instants, to: &Instants) -> Self {
        Intervals {
            ticks: Distribution::default(),
            unpaired: 0,
            shortest: None,
            longest: None,
            runs: None,
            known: Precision::of(capture, Rule::Proven).until_next(from, to),
            shorter: 0,
            longer: 0,
        }
    }

    pub(crate) fn add(&mut self, start: Tick, end: Tick) {
        let ticks = end.since(start);
        if self.shortest.is_none_or(|(shortest, _)| ticks < shortest) {
            self.shortest = Some((ticks, start));
        }
        if self.longest.is_none_or(|(longest, _)| ticks > longest) {
            self.longest = Some((ticks, start));
        }
        self.ticks.add(ticks);
    }

    /// Takes note of where a run of them begins and ends, each beginning with the end of the one before.
    pub(super) fn add_run(&mut self, ticks: i64) {
        let (count, all) = self.runs.unwrap_or((0, 0));
        self.runs = Some((count + 1, all.saturating_add(ticks)));
    }

    /// Whether each begins with the end of the one before.
    pub fn is_repeating(&self) -> bool {
        self.runs.is_some()
    }

    /// Adds the interval from an event to the likeliest of the partners that it may have; whether there is
    /// one that the record shows.
    pub(crate) fn add_open(&mut self, event: Hit, partners: &[Partner]) -> Option<Partner> {
        let shown = *partners.iter().find(|partner| partner.recorded && partner.ticks >= 0)?;
        for partner in partners {
            self.shorter = self.shorter.max(shown.ticks.saturating_sub(partner.ticks));
            self.longer = self.longer.max(partner.ticks.saturating_sub(shown.ticks));
        }
        self.add(event.tick, event.tick.offset(shown.ticks));
        Some(shown)
    }

    fn measure(&self, ticks: i64, at: Option<Tick>) -> Option<Measure> {
        Some(Measure {
            value: self.known.counted(ticks),
            bounds: self
                .known
                .length_over(ticks.saturating_sub(self.shorter), ticks.saturating_add(self.longer))?,
            at: at.map(|at| self.base().time_of(at)),
        })
    }

    /// How many there are.
    pub fn count(&self) -> u64 {
        self.ticks.count()
    }

    /// The shortest.
    pub fn min(&self) -> Option<Measure> {
        let (ticks, at) = self.shortest?;
        self.measure(ticks, Some(at))
    }

    /// The longest.
    pub fn max(&self) -> Option<Measure> {
        let (ticks, at) = self.longest?;
        self.measure(ticks, Some(at))
    }

    /// The length that this percentage of all does not exceed (nearest rank).
    pub fn percentile(&self, percent: f64) -> Option<Measure> {
        self.measure(self.ticks.percentile(percent)?, None)
    }

    /// The mean, in seconds.
    pub fn mean(&self) -> Option<Estimate> {
        let value = self.ticks.mean()? * self.base().tick().to_f64();
        if let Some((runs, ticks)) = self.runs {
            // The ends of each further run are as open as those of the first.
            let (all, end) = (self.known.length(ticks)?, self.known.bounds(0)?);
            let more = (runs - 1) as f64;
            let each = |time: Time, end: Time| {
                ((time.to_f64() + more * end.to_f64()) / self.count() as f64).max(0.0)
            };
            let hi = all.hi.zip(end.hi).map_or(f64::INFINITY, |(all, end)| each(all, end));
            return Some(Estimate { value, lo: each(all.lo, end.lo), hi });
        }
        Some(self.off_by(value, value))
    }

    /// The standard deviation, in seconds.
    pub fn deviation(&self) -> Option<Estimate> {
        let value = self.ticks.deviation()? * self.base().tick().to_f64();
        Some(self.off_by(value, self.max()?.value.to_f64()))
    }

    /// A number made of intervals that are at most about so long, in seconds.
    fn off_by(&self, value: f64, longest: f64) -> Estimate {
        // The end of one may lie beyond the record.
        if self.longer >= BEYOND / 2 {
            return Estimate { value, lo: 0.0, hi: f64::INFINITY };
        }
        let ticks = self.known.slack() + self.shorter.max(self.longer) as f64;
        let off = ticks * self.base().tick().to_f64() + longest * self.known.clock_error();
        if self.known.hides() {
            return Estimate { value, lo: 0.0, hi: longest + off };
        }
        Estimate { value, lo: (value - off).max(0.0), hi: value + off }
    }

    /// What is known of each of them.
    pub fn known(&self) -> Span {
        self.known
    }

    /// The time base of the record.
    pub fn base(&self) -> TimeBase {
        self.known.base()
    }
}

/// Lengths of the pulses of a line within a range: those at this level, or at the other one. Pulses that
/// the range cuts off do not count.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::line::{Level, Line, LineId};
/// use deep_tap_core::measure::widths;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let mut line = TraceBuilder::new(Level::Low);
/// for (number, tick) in [10, 13, 20, 25].into_iter().enumerate() {
///     line.push_edge(Tick(tick), Level::from(number % 2 == 0))?;
/// }
/// let capture = Capture::builder(TimeBase::from_rate("1 MS/s".parse()?)?, 40)
///     .line(Line::named("A"), line.finish(40))
///     .build()?;
/// let high = widths(&capture, LineId(0), Level::High, capture.range());
/// assert_eq!((high.count(), high.min().unwrap().value.to_string()), (2, "3 us".to_string()));
/// assert_eq!(high.mean().unwrap().value, 4e-6);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn widths(capture: &Capture, line: LineId, level: Level, range: Range<Tick>) -> Intervals {
    let edges = Instants::edges_of(line);
    let mut all = Intervals::between(capture, &edges, &edges);
    let mut open: Option<Tick> = None;
    for edge in capture.trace(line).edges(range) {
        if let Some(start) = open.take()
            && edge.to != Level::Unknown
        {
            all.add(start, edge.tick);
        }
        open = (edge.to == level).then_some(edge.tick);
    }
    all.unpaired = u64::from(open.is_some());
    all
}

/// The share of the time from the first to the last rising edge of a range for which a line is high;
/// `None` without a whole period, or where a level is unknown.
///
/// Of N pulses each of the 2 N edges may be up to a tick early: the share is known to N ticks of the
/// whole ([`Span::share`]).
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::line::{Level, Line, LineId};
/// use deep_tap_core::measure::duty;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let mut line = TraceBuilder::new(Level::Low);
/// for (number, tick) in [10, 14, 20, 25, 30].into_iter().enumerate() {
///     line.push_edge(Tick(tick), Level::from(number % 2 == 0))?;
/// }
/// let capture = Capture::builder(TimeBase::from_rate("1 MS/s".parse()?)?, 40)
///     .line(Line::named("A"), line.finish(40))
///     .build()?;
/// assert_eq!(duty(&capture, LineId(0), capture.range()).unwrap().value, 0.45);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn duty(capture: &Capture, line: LineId, range: Range<Tick>) -> Option<Estimate> {
    let (mut first, mut last, mut high, mut pulses) = (None, None, 0i64, 0u64);
    let mut pending = None;
    for edge in capture.trace(line).edges(range) {
        match edge.to {
            Level::High => {
                first = first.or(Some(edge.tick));
                // The pulse before lies in a whole period now.
                if let Some(width) = pending.take() {
                    high += width;
                    pulses += 1;
                }
                last = Some(edge.tick);
            }
            Level::Low => pending = last.map(|last: Tick| edge.tick.since(last)),
            Level::Floating | Level::Unknown => return None,
        }
    }
    let whole = last?.since(first?);
    let edges = Instants::edges_of(line);
    let span = Precision::of(capture, Rule::Proven).until_next(&edges, &edges);
    let known = span.share(pulses, high, whole).filter(|_| pulses > 0)?;
    Some(Estimate { value: high as f64 / whole as f64, lo: known.lo.to_f64(), hi: known.hi?.to_f64() })
}

/// From each first event to the second after it, from there to the third, and so on, each before the next
/// first event and within the range, paired as those of a `delay` ([`Following`]). With more than two events, the last entry is from the first to the
/// last of them.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::event::{Program, Scope};
/// use deep_tap_core::line::{Level, Line};
/// use deep_tap_core::measure::chain;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let line = |ticks: &[u64]| -> deep_tap_core::Result<_> {
///     let mut line = TraceBuilder::new(Level::Low);
///     for tick in ticks {
///         line.push_edge(Tick(*tick), Level::High)?;
///         line.push_edge(Tick(tick + 1), Level::Low)?;
///     }
///     Ok(line.finish(1000))
/// };
/// let capture = Capture::builder(TimeBase::from_rate("1 MS/s".parse()?)?, 1000)
///     .line(Line::named("A"), line(&[100, 200, 300])?)
///     .line(Line::named("B"), line(&[110, 230])?)
///     .line(Line::named("C"), line(&[117, 350])?)
///     .build()?;
/// let scope = Scope::of(&capture);
/// let event = |text| Program::compile(text, &scope)?.at(capture.base());
/// let events = [event("A rises")?, event("B rises")?, event("C rises")?];
/// let [a_b, b_c, a_c] = &chain(&capture, &events, capture.range())[..] else { unreachable!() };
/// assert_eq!((a_b.count(), a_b.unpaired), (2, 1));
/// assert_eq!((b_c.count(), b_c.unpaired, b_c.max().unwrap().value.to_string()), (1, 1, "7 us".into()));
/// assert_eq!(a_c.max().unwrap().value.to_string(), "17 us");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn chain(capture: &Capture, events: &[TimedProgram], range: Range<Tick>) -> Vec<Intervals> {
    let Some((first, others)) = events.split_first() else { return Vec::new() };
    let between = |from: &TimedProgram, to: &TimedProgram| {
        Intervals::between(capture, &from.instants(), &to.instants())
    };
    let mut stages: Vec<Intervals> = events.windows(2).map(|pair| between(&pair[0], &pair[1])).collect();
    let mut whole = others.last().map(|last| between(first, last));
    let marks = |event| Party::new(TimedProgram::marks(event, capture, range.clone(), Rule::Proven));
    let mut starts = marks(first);
    let mut ends: Vec<_> = others.iter().map(marks).collect();
    let pairing =
        |stage: &Intervals| Some(Following::new(Together::new(&stage.known, true)?, true, capture.len()));
    let pairings: Option<Vec<Following>> = stages.iter().map(pairing).collect();
    let Some(mut pairings) = pairings else { return stages };
    while let Pulled::Some(start) = starts.peek() {
        starts.pass();
        // What may only have happened is not measured.
        if !start.is_recorded() {
            continue;
        }
        let mut reached = Some(start);
        for ((stage, ends), pairing) in stages.iter_mut().zip(&mut ends).zip(&mut pairings) {
            let Some(from) = reached else { break };
            let next = |place| starts.get(place);
            reached = match pairing.partners_of(from, next, ends) {
                Pulled::Some(partners) => stage.add_open(from, partners).map(Partner::hit),
                Pulled::End | Pulled::NotYet => None,
            };
            stage.unpaired += u64::from(reached.is_none());
        }
        if let Some(whole) = &mut whole {
            match reached {
                Some(end) => whole.add(start.tick, end.tick),
                None => whole.unpaired += 1,
            }
        }
    }
    if let Some(whole) = &mut whole {
        whole.shorter = stages.iter().map(|stage| stage.shorter).fold(0, i64::saturating_add);
        whole.longer = stages.iter().map(|stage| stage.longer).fold(0, i64::saturating_add);
    }
    if stages.len() > 1 {
        stages.extend(whole);
    }
    stages
}

/// From each event to the next within the range.
pub fn periods(capture: &Capture, event: &TimedProgram, range: Range<Tick>) -> Intervals {
    let instants = event.instants();
    let mut all = Intervals::between(capture, &instants, &instants);
    let mut run: Option<(Tick, Tick)> = None;
    for hit in event.hits(capture, range) {
        let first = run.map_or(hit.tick, |(first, last)| {
            all.add(last, hit.tick);
            first
        });
        run = Some((first, hit.tick));
    }
    if let Some((first, last)) = run {
        all.add_run(last.since(first));
    }
    all
}
