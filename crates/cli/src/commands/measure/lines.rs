//! Pulses, period, frequency and duty of digital lines.

use std::ops::Range;

use deep_tap::capture::Capture;
use deep_tap::event::{Meaning, Program, Scope};
use deep_tap::line::{Level, LineId};
use deep_tap::measure::{Measure, duty, widths};
use deep_tap::quantity::Estimate;
use deep_tap::time::Tick;
use serde::Serialize;

use super::series::{self, Series};
use crate::args;
use crate::contract;
use crate::output::Grid;
use deep_tap::quantity::estimate;

/// What was measured of a line.
#[derive(Serialize)]
pub(super) struct MeasuredLine {
    pub(super) line: String,
    pub(super) edges: u64,
    /// Periods from rising edge to rising edge.
    pub(super) periods: u64,
    pub(super) frequency_hz: Option<Estimate>,
    /// The same within bursts, where it comes in such.
    pub(super) frequency_in_bursts_hz: Option<Estimate>,
    /// Share of the time from the first to the last rising edge for which it is high.
    pub(super) duty_percent: Option<Estimate>,
    #[serde(serialize_with = "contract::measures::some")]
    shortest_high_s: Option<Measure>,
    #[serde(serialize_with = "contract::measures::some")]
    longest_high_s: Option<Measure>,
    #[serde(serialize_with = "contract::measures::some")]
    shortest_low_s: Option<Measure>,
    #[serde(serialize_with = "contract::measures::some")]
    longest_low_s: Option<Measure>,
    /// High and low pulses and periods, where the line is measured in full.
    #[serde(skip)]
    pub(super) series: Vec<Series>,
}

pub(super) fn measure(
    args: &args::Measure,
    capture: &Capture,
    line: LineId,
    range: Range<Tick>,
    full: bool,
) -> MeasuredLine {
    let high = widths(capture, line, Level::High, range.clone());
    let low = widths(capture, line, Level::Low, range.clone());
    let mut scope = Scope::new();
    scope.define("line", Meaning::Line(line));
    let rises = Program::compile("line rises", &scope).and_then(|rises| rises.at(capture.base())).ok();
    let period = rises.as_ref().map(|rises| match full {
        true => Series::repeating(args, capture, rises, "period", range.clone()),
        false => Series::repeating_plainly(capture, rises, "period", range.clone()),
    });
    let duty = duty(capture, line, range.clone()).map(|share| share.times(100.0));
    let series = match (&period, full) {
        (Some(period), true) => {
            let mut period = period.clone();
            period.duty_percent = duty;
            vec![Series::of("high", &high), Series::of("low", &low), period]
        }
        _ => Vec::new(),
    };
    MeasuredLine {
        line: capture.line(line).name.clone(),
        edges: capture.trace(line).count(range),
        periods: period.as_ref().map_or(0, |period| period.count),
        frequency_hz: period.as_ref().and_then(|period| period.frequency_hz),
        frequency_in_bursts_hz: period.and_then(|period| period.bursts?.periods.frequency_hz),
        duty_percent: duty,
        shortest_high_s: high.min(),
        longest_high_s: high.max(),
        shortest_low_s: low.min(),
        longest_low_s: low.max(),
        series,
    }
}

/// The columns of the table for programs.
pub(super) const COLUMNS: &[&str] = &[
    "line",
    "edges",
    "periods",
    "frequency_hz.value",
    "frequency_hz.lo",
    "frequency_hz.hi",
    "frequency_in_bursts_hz.value",
    "duty_percent.value",
    "shortest_high_s.value",
    "longest_high_s.value",
    "shortest_low_s.value",
    "longest_low_s.value",
];

/// The column that only some tables have.
const IN_BURSTS: usize = 3;

/// A table with a row for each line.
pub(super) fn text(lines: &[MeasuredLine]) -> String {
    let header = [
        "line",
        "edges",
        "frequency, mean",
        "in bursts",
        "duty",
        "shortest high",
        "longest high",
        "shortest low",
        "longest low",
    ];
    // The table is wide: what no line has takes no place.
    let bursts = lines.iter().any(|line| line.frequency_in_bursts_hz.is_some());
    let shown = |place: usize| bursts || place != IN_BURSTS;
    let header: Vec<&str> =
        header.into_iter().enumerate().filter(|(at, _)| shown(*at)).map(|(_, h)| h).collect();
    let right: Vec<usize> = (1..header.len()).collect();
    let mut grid = Grid::new(&header, &right);
    let dash = || "-".to_string();
    for line in lines {
        let cells = [
            line.line.clone(),
            line.edges.to_string(),
            line.frequency_hz.map_or_else(dash, |f| estimate(f, "Hz")),
            line.frequency_in_bursts_hz.map_or_else(dash, |f| estimate(f, "Hz")),
            line.duty_percent.map_or_else(dash, |d| format!("{:.1} %", d.value)),
            series::length(line.shortest_high_s),
            series::length(line.longest_high_s),
            series::length(line.shortest_low_s),
            series::length(line.longest_low_s),
        ];
        grid.row(cells.into_iter().enumerate().filter(|(at, _)| shown(*at)).map(|(_, cell)| cell).collect());
    }
    grid.text()
}

/// One line in full.
pub(super) fn full_text(line: &MeasuredLine, head: &str) -> String {
    let edges = if line.edges == 1 { "edge" } else { "edges" };
    let mut text = format!("{}: {} {edges}          {head}\n\n", line.line, line.edges);
    text.push_str(&series::text(&line.series));
    text.push('\n');
    text
}
