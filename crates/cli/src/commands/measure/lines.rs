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
use crate::output::Grid;
use crate::said;
use deep_tap::quantity::estimate;

/// What was measured of a line.
#[derive(Serialize)]
pub(super) struct MeasuredLine {
    pub(super) line: String,
    pub(super) edges: u64,
    /// Periods from rising edge to rising edge.
    pub(super) periods: u64,
    pub(super) frequency: Option<Estimate>,
    /// The same within bursts, where it comes in such.
    pub(super) frequency_in_bursts: Option<Estimate>,
    /// Share of the time from the first to the last rising edge for which it is high, in percent.
    pub(super) duty: Option<Estimate>,
    #[serde(serialize_with = "said::measures::some")]
    shortest_high: Option<Measure>,
    #[serde(serialize_with = "said::measures::some")]
    longest_high: Option<Measure>,
    #[serde(serialize_with = "said::measures::some")]
    shortest_low: Option<Measure>,
    #[serde(serialize_with = "said::measures::some")]
    longest_low: Option<Measure>,
    /// High and low pulses and periods, where the line is measured in full.
    #[serde(skip_serializing_if = "Vec::is_empty")]
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
            period.duty = duty;
            vec![Series::of("high", &high), Series::of("low", &low), period]
        }
        _ => Vec::new(),
    };
    MeasuredLine {
        line: capture.line(line).name.clone(),
        edges: capture.trace(line).count(range),
        periods: period.as_ref().map_or(0, |period| period.count),
        frequency: period.as_ref().and_then(|period| period.frequency),
        frequency_in_bursts: period.and_then(|period| period.bursts?.periods.frequency),
        duty,
        shortest_high: high.min(),
        longest_high: high.max(),
        shortest_low: low.min(),
        longest_low: low.max(),
        series,
    }
}

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
    let bursts = lines.iter().any(|line| line.frequency_in_bursts.is_some());
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
            line.frequency.map_or_else(dash, |f| estimate(f, "Hz")),
            line.frequency_in_bursts.map_or_else(dash, |f| estimate(f, "Hz")),
            line.duty.map_or_else(dash, |d| format!("{:.1} %", d.value)),
            series::length(line.shortest_high),
            series::length(line.longest_high),
            series::length(line.shortest_low),
            series::length(line.longest_low),
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

pub(super) fn rows(lines: &[MeasuredLine]) -> Vec<Vec<String>> {
    let header = [
        "line",
        "edges",
        "periods",
        "frequency_Hz",
        "frequency_lo_Hz",
        "frequency_hi_Hz",
        "frequency_in_bursts_Hz",
        "duty_percent",
        "high_min_s",
        "high_max_s",
        "low_min_s",
        "low_max_s",
    ];
    let mut rows = vec![header.map(str::to_string).to_vec()];
    let number = |value: Option<f64>| value.map_or(String::new(), |value| format!("{value:e}"));
    let length = |measure: Option<Measure>| number(measure.map(|m| m.value.to_f64()));
    for line in lines {
        rows.push(vec![
            line.line.clone(),
            line.edges.to_string(),
            line.periods.to_string(),
            number(line.frequency.map(|f| f.value)),
            number(line.frequency.map(|f| f.lo)),
            number(line.frequency.map(|f| f.hi)),
            number(line.frequency_in_bursts.map(|f| f.value)),
            number(line.duty.map(|d| d.value)),
            length(line.shortest_high),
            length(line.longest_high),
            length(line.shortest_low),
            length(line.longest_low),
        ]);
    }
    rows
}
