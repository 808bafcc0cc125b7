//! Many intervals of one kind, in numbers.

use std::ops::Range;

use deep_tap::capture::Capture;
use deep_tap::draw::Histogram;
use deep_tap::event::TimedProgram;
use deep_tap::measure::{Averages, Bursts, Intervals, Jitter, Measure, averages, bursts, jitter, periods};
use deep_tap::quantity::{Estimate, Rational, Time, estimate, uncertain};
use deep_tap::time::Tick;
use serde::{Serialize, Serializer};

use crate::args;
use crate::contract;
use crate::output::Grid;

/// Most bins of a histogram.
const MOST_BINS: usize = 40;

/// Intervals of one kind.
#[derive(Clone, Serialize)]
pub(super) struct Series {
    #[serde(serialize_with = "trimmed")]
    pub(super) what: String,
    pub(super) count: u64,
    /// Events that found no partner, and pulses cut off.
    pub(super) unpaired: u64,
    #[serde(serialize_with = "contract::measures::some")]
    #[serde(rename = "shortest_s")]
    pub(super) min: Option<Measure>,
    #[serde(rename = "mean_s")]
    pub(super) mean: Option<Estimate>,
    #[serde(serialize_with = "contract::measures::some")]
    #[serde(rename = "longest_s")]
    pub(super) max: Option<Measure>,
    #[serde(rename = "deviation_s")]
    pub(super) deviation: Option<Estimate>,
    #[serde(serialize_with = "contract::measures::some")]
    #[serde(rename = "percentile_1_s")]
    pub(super) percentile_1: Option<Measure>,
    #[serde(serialize_with = "contract::measures::some")]
    #[serde(rename = "percentile_50_s")]
    pub(super) percentile_50: Option<Measure>,
    #[serde(serialize_with = "contract::measures::some")]
    #[serde(rename = "percentile_99_s")]
    pub(super) percentile_99: Option<Measure>,
    /// One by the mean, where one interval begins with the end of the one before.
    pub(super) frequency_hz: Option<Estimate>,
    /// The periods within bursts, where it repeats in such: a series of their own.
    #[serde(skip)]
    pub(super) bursts: Option<InBursts>,
    /// How many bursts it is of, where it is of the periods within them.
    pub(super) of_bursts: Option<u64>,
    /// Of a line: the share of its periods for which it is high.
    pub(super) duty_percent: Option<Estimate>,
    #[serde(serialize_with = "contract::measures::jitter")]
    pub(super) jitter: Option<Jitter>,
    #[serde(serialize_with = "contract::measures::averages")]
    pub(super) averages: Option<Averages>,
    #[serde(serialize_with = "contract::histograms::some")]
    pub(super) histogram: Option<Histogram>,
    #[serde(skip)]
    tick: Time,
}

/// Periods within bursts.
#[derive(Clone)]
pub(super) struct InBursts {
    pub(super) count: u64,
    pub(super) periods: Box<Series>,
}

impl InBursts {
    pub(super) fn new(bursts: Bursts) -> Self {
        let Bursts { count, periods } = bursts;
        InBursts {
            count,
            periods: Box::new(Series { of_bursts: Some(count), ..Series::of("  in bursts", &periods) }),
        }
    }
}

impl Series {
    pub(super) fn of(what: &str, intervals: &Intervals) -> Self {
        let repeating = intervals.is_repeating();
        Series {
            what: what.to_string(),
            count: intervals.count(),
            unpaired: intervals.unpaired,
            min: intervals.min(),
            mean: intervals.mean(),
            max: intervals.max(),
            deviation: intervals.deviation(),
            percentile_1: intervals.percentile(1.0),
            percentile_50: intervals.percentile(50.0),
            percentile_99: intervals.percentile(99.0),
            frequency_hz: intervals.mean().filter(|_| repeating).map(Estimate::recip),
            tick: intervals.base().tick(),
            bursts: None,
            of_bursts: None,
            duty_percent: None,
            jitter: None,
            averages: None,
            histogram: (intervals.count() > 0)
                .then(|| Histogram::of_times(&intervals.ticks.histogram(MOST_BINS), intervals.base().tick())),
        }
    }

    /// From each event to the next, also within bursts.
    pub(super) fn repeating_plainly(
        capture: &Capture,
        event: &TimedProgram,
        what: &str,
        range: Range<Tick>,
    ) -> Self {
        let all = periods(capture, event, range.clone());
        let bursts = bursts(capture, event, range, &all).map(InBursts::new);
        Series { bursts, ..Series::of(what, &all) }
    }

    /// The same with how steady that is.
    pub(super) fn repeating(
        args: &args::Measure,
        capture: &Capture,
        event: &TimedProgram,
        what: &str,
        range: Range<Tick>,
    ) -> Self {
        let mut series = Series::repeating_plainly(capture, event, what, range.clone());
        series.jitter = jitter(capture, event, range.clone());
        series.averages = args.average.map(|over| averages(capture, event, range, over));
        series
    }

    /// What is told besides the row in the table.
    pub(super) fn notes(&self) -> String {
        let mut lines: Vec<[String; 2]> = Vec::new();
        if let Some(frequency) = self.frequency_hz {
            let what = format!("frequency, mean over {}", self.count);
            lines.push([what, estimate(frequency, "Hz")]);
        }
        if let Some(InBursts { count, periods }) = &self.bursts
            && let Some(frequency) = periods.frequency_hz
        {
            let what = format!("frequency within {count} bursts, mean over {}", periods.count);
            lines.push([what, estimate(frequency, "Hz")]);
        }
        if let Some(duty) = self.duty_percent {
            lines.push([format!("duty, mean over {}", self.count), estimate(duty, "%")]);
        }
        if let Some(averages) = &self.averages
            && let (Some(min), Some(max)) = (averages.min, averages.max)
        {
            let Averages { over, count, .. } = averages;
            let told =
                |known: Estimate| format!("{}, {}", estimate(known, "s"), estimate(known.recip(), "Hz"));
            lines.push([format!("shortest mean over {over} (of {count})"), told(min)]);
            lines.push([format!("longest mean over {over}"), told(max)]);
        } else if let Some(averages) = &self.averages {
            lines.push([format!("mean over {}", averages.over), "there are not so many periods".to_string()]);
        }
        // Of a clock that stops and goes on, the pauses would be all of it.
        if let Some(jitter) = self.jitter.as_ref().filter(|_| self.bursts.is_none()) {
            let s = |known: Estimate| estimate(known, "s");
            let both =
                |rms: Estimate, peak: Estimate, word: &str| format!("{} rms, {} {word}", s(rms), s(peak));
            lines.push([
                "jitter of the period".to_string(),
                both(jitter.period_rms, jitter.period_peak_to_peak, "peak to peak"),
            ]);
            if let (Some(rms), Some(peak)) = (jitter.cycle_to_cycle_rms, jitter.cycle_to_cycle_peak) {
                lines.push(["from one period to the next".to_string(), both(rms, peak, "peak")]);
            }
            lines.push([
                "against the ideal grid".to_string(),
                both(jitter.grid_rms, jitter.grid_peak_to_peak, "peak to peak"),
            ]);
            if let Some(drift) = jitter.drift {
                lines.push(["drift, first to last tenth".to_string(), estimate(drift.times(1e6), "ppm")]);
            }
        }
        let mut grid = Grid::new(&["", ""], &[]);
        lines.into_iter().for_each(|line| grid.row(line.to_vec()));
        grid.text().trim_start_matches('\n').to_string()
    }
}

/// How far a length may be off, but for how much longer it may be where that is open.
fn off(measure: Measure) -> Time {
    let hi = measure.bounds.hi.unwrap_or(measure.value);
    let above = hi.to_rational().checked_sub(measure.value.to_rational());
    let below = measure.value.to_rational().checked_sub(measure.bounds.lo.to_rational());
    Time::from_rational(above.max(below).unwrap_or(Rational::ZERO))
}

/// A length and how far it may be off.
pub(super) fn length(measure: Option<Measure>) -> String {
    let Some(measure) = measure else { return "-".to_string() };
    uncertain(measure.value.into(), measure.bounds.map(Into::into), off(measure))
}

/// A length with the digits that are known.
fn plain(measure: Option<Measure>) -> String {
    measure.map_or("-".to_string(), |measure| measure.value.rounded(off(measure)))
}

/// Each with what it is within bursts.
pub(super) fn with_bursts(all: &[Series]) -> impl Iterator<Item = &Series> {
    all.iter().flat_map(|series| [series].into_iter().chain(series.bursts.as_ref().map(|b| &*b.periods)))
}

/// A table with a row for each.
pub(super) fn text(all: &[Series]) -> String {
    let header = ["", "count", "shortest", "mean", "longest", "std. deviation", "1 %", "50 %", "99 %"];
    let mut grid = Grid::new(&header, &[1, 2, 3, 4, 5, 6, 7, 8]);
    for series in with_bursts(all) {
        let known = |known: Option<Estimate>| known.map_or("-".to_string(), |known| estimate(known, "s"));
        grid.row(vec![
            series.what.clone(),
            series.count.to_string(),
            length(series.min),
            known(series.mean),
            length(series.max),
            known(series.deviation),
            plain(series.percentile_1),
            plain(series.percentile_50),
            plain(series.percentile_99),
        ]);
    }
    let mut text = format!("{}\n", grid.text());
    for series in all {
        let ends = [("shortest", series.min), ("longest", series.max)];
        let at = |(what, end): (&str, Option<Measure>)| {
            Some(format!("{what} at {}", end?.at?.rounded(series.tick)))
        };
        let told: Vec<String> = ends.into_iter().filter_map(at).collect();
        if !told.is_empty() {
            text.push_str(&format!("\n{}: {}", series.what, told.join(", ")));
        }
        if series.unpaired > 0 {
            text.push_str(&format!("; {} without an end", series.unpaired));
        }
    }
    for series in all {
        let notes = series.notes();
        if !notes.is_empty() {
            text.push_str(&format!("\n\n{notes}"));
        }
    }
    text
}

/// All of them as a list.
pub(super) fn list<S: Serializer>(all: &[Series], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(with_bursts(all))
}

fn trimmed<S: Serializer>(text: &str, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(text.trim())
}

/// The columns of the table for programs.
pub(super) const COLUMNS: &[&str] = &[
    "what",
    "count",
    "unpaired",
    "of_bursts",
    "shortest_s.value",
    "shortest_s.lo",
    "shortest_s.hi",
    "shortest_s.at_s",
    "mean_s.value",
    "mean_s.lo",
    "mean_s.hi",
    "longest_s.value",
    "longest_s.lo",
    "longest_s.hi",
    "longest_s.at_s",
    "deviation_s.value",
    "deviation_s.hi",
    "percentile_1_s.value",
    "percentile_50_s.value",
    "percentile_99_s.value",
];
