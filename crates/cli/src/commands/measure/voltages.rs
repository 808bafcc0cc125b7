//! Voltages of analog lines, and how fast they go from one to another.

use deep_tap::capture::Capture;
use deep_tap::line::AnalogId;
use deep_tap::measure::{Transition, VoltageLevels, transitions, voltage_levels};
use deep_tap::quantity::Time;
use deep_tap::time::Tick;
use serde::Serialize;

use crate::contract::lines::LevelsRow;
use crate::output::Grid;

/// What was measured of an analog line.
#[derive(Serialize)]
pub(super) struct MeasuredLine {
    line: String,
    #[serde(flatten)]
    row: Option<LevelsRow>,
    #[serde(skip)]
    levels: Option<VoltageLevels>,
    amplitude_v: Option<f64>,
    rise: Ways,
    fall: Ways,
    /// Time from one sample to the next.
    sample_s: Time,
}

/// The ways from 10 % to 90 %, or back.
#[derive(Clone, Copy, Serialize)]
struct Ways {
    count: u64,
    shortest_s: Option<Time>,
    mean_s: Option<f64>,
    longest_s: Option<Time>,
}

pub(super) fn measure(capture: &Capture, line: AnalogId, from: Tick, to: Tick) -> MeasuredLine {
    let trace = capture.analog(line);
    let levels = voltage_levels(trace, from..to);
    let changing = levels.filter(|levels| levels.high > levels.low);
    let all = changing.map(|l| transitions(trace, from..to, l.at(10), l.at(90))).unwrap_or_default();
    let base = capture.base();
    let ways = |rises: bool| {
        let ticks = all.iter().filter(|t| t.rises == rises).map(Transition::ticks);
        let time = |ticks: u64| base.length_of(i64::try_from(ticks).unwrap_or(i64::MAX));
        let count = ticks.clone().count() as u64;
        let mean = ticks.clone().map(|t| t as f64).sum::<f64>() / count.max(1) as f64 * base.tick().to_f64();
        Ways {
            count,
            shortest_s: ticks.clone().min().map(time),
            mean_s: (count > 0).then_some(mean),
            longest_s: ticks.max().map(time),
        }
    };
    MeasuredLine {
        line: capture.analog_lines()[line.0].name.clone(),
        row: levels.map(Into::into),
        levels,
        amplitude_v: levels.map(|l| l.amplitude().to_f64()),
        rise: ways(true),
        fall: ways(false),
        sample_s: base.length_of(i64::try_from(trace.every()).unwrap_or(i64::MAX)),
    }
}

/// The columns of the table for programs.
pub(super) const COLUMNS: &[&str] = &[
    "line",
    "low_v",
    "high_v",
    "amplitude_v",
    "lowest_v",
    "highest_v",
    "mean_v",
    "error_v",
    "rise.count",
    "rise.shortest_s",
    "rise.mean_s",
    "rise.longest_s",
    "fall.count",
    "fall.shortest_s",
    "fall.mean_s",
    "fall.longest_s",
];

pub(super) fn text(lines: &[MeasuredLine]) -> String {
    let mut text = String::new();
    let header = [
        "line",
        "low level",
        "high level",
        "amplitude",
        "lowest",
        "highest",
        "mean",
        "rise 10-90 %",
        "fall 90-10 %",
    ];
    let mut grid = Grid::new(&header, &[1, 2, 3, 4, 5, 6]);
    for line in lines {
        let Some(levels) = line.levels else {
            let mut row = vec![line.line.clone()];
            row.extend(std::iter::repeat_n("-".to_string(), header.len() - 1));
            grid.row(row);
            continue;
        };
        let volts = |volts: f64| format!("{volts:.3} V");
        grid.row(vec![
            line.line.clone(),
            volts(levels.low.to_f64()),
            volts(levels.high.to_f64()),
            volts(levels.amplitude().to_f64()),
            volts(levels.least.to_f64()),
            volts(levels.most.to_f64()),
            volts(levels.mean),
            ways(line.rise, line.sample_s),
            ways(line.fall, line.sample_s),
        ]);
    }
    text.push_str(&format!("{}\n", grid.text()));
    let worst = lines.iter().filter_map(|line| line.levels).map(|levels| levels.error).max();
    if let (Some(error), Some(sample)) = (worst, lines.iter().map(|line| line.sample_s).max()) {
        text.push_str(&format!(
            "\nvoltages are known to {:.1} mV, rise and fall times to {sample} either way\n",
            error.to_f64() * 1e3
        ));
    }
    text
}

/// How long the ways are, and how many there are.
fn ways(ways: Ways, sample: Time) -> String {
    let told = |time: Time| time.rounded(sample);
    match (ways.shortest_s, ways.longest_s) {
        (Some(shortest), Some(longest)) if shortest == longest => {
            format!("{} ({})", told(longest), ways.count)
        }
        (Some(shortest), Some(longest)) => {
            format!("{} .. {} ({})", told(shortest), told(longest), ways.count)
        }
        _ => "none".to_string(),
    }
}
