//! What lines do, and the voltages on them.

use deep_tap::line::Level;
use deep_tap::measure::{LineActivity, VoltageLevels};
use deep_tap::quantity::{Rate, Voltage};
use deep_tap::setup::{SweptLevel, SweptLine};
use serde::Serialize;

/// The activity of a line. Ticks of the record are samples here.
#[derive(Serialize)]
pub(crate) struct ActivityRow {
    level: Level,
    edges: u64,
    recent_edges: u64,
    rises: u64,
    /// From the beginning.
    last_change_s: Option<f64>,
    high_s: f64,
    /// Where a pulse of a single sample was seen first.
    single_sample_s: Option<f64>,
}

impl ActivityRow {
    pub(crate) fn new(of: &LineActivity, rate: Rate) -> Self {
        let LineActivity { level, edges, recent, last_change, high, rises, single } = *of;
        let seconds = |samples: u64| samples as f64 / rate.to_f64();
        ActivityRow {
            level,
            edges,
            recent_edges: recent,
            rises,
            last_change_s: last_change.map(seconds),
            high_s: seconds(high),
            single_sample_s: single.map(seconds),
        }
    }
}

/// The levels of an analog line.
#[derive(Serialize)]
pub(crate) struct LevelsRow {
    low_v: Voltage,
    high_v: Voltage,
    lowest_v: Voltage,
    highest_v: Voltage,
    mean_v: f64,
    error_v: Voltage,
    samples: u64,
}

impl From<VoltageLevels> for LevelsRow {
    fn from(of: VoltageLevels) -> Self {
        let VoltageLevels { low, high, least, most, mean, samples, error } = of;
        LevelsRow {
            low_v: low,
            high_v: high,
            lowest_v: least,
            highest_v: most,
            mean_v: mean,
            error_v: error,
            samples,
        }
    }
}

/// What a sweep of the threshold shows of a line.
#[derive(Serialize)]
pub(crate) struct SweptRow<'a> {
    line: &'a str,
    changes: bool,
    low: Between,
    high: Between,
    edges: Vec<EdgesAt>,
}

/// Between which thresholds a level lies.
#[derive(Serialize)]
struct Between {
    above_v: Option<Voltage>,
    below_v: Option<Voltage>,
}

/// How many edges a line has at a threshold.
#[derive(Serialize)]
struct EdgesAt {
    threshold_v: Voltage,
    edges: u64,
}

/// A row of the table of a sweep.
#[derive(Serialize)]
pub(crate) struct SweepStep<'a> {
    line: &'a str,
    #[serde(flatten)]
    step: EdgesAt,
}

/// The columns of the table of a sweep.
pub(crate) const SWEEP_COLUMNS: &[&str] = &["line", "threshold_v", "edges"];

fn steps(of: &SweptLine) -> impl Iterator<Item = EdgesAt> {
    of.edges.iter().map(|(threshold_v, edges)| EdgesAt { threshold_v: *threshold_v, edges: *edges })
}

impl<'a> SweepStep<'a> {
    pub(crate) fn each(of: &'a SweptLine) -> impl Iterator<Item = SweepStep<'a>> {
        steps(of).map(|step| SweepStep { line: &of.name, step })
    }
}

impl From<SweptLevel> for Between {
    fn from(SweptLevel { above, below }: SweptLevel) -> Self {
        Between { above_v: above, below_v: below }
    }
}

impl<'a> From<&'a SweptLine> for SweptRow<'a> {
    fn from(of: &'a SweptLine) -> Self {
        let (low, high) = (of.low.into(), of.high.into());
        SweptRow { line: &of.name, changes: of.changes, low, high, edges: steps(of).collect() }
    }
}
