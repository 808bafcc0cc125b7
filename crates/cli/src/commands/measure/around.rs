//! `measure --at`: the numbers of each line around one place.

use deep_tap::job::Job;
use deep_tap::known::hiding_lines;
use deep_tap::line::{Level, Signal};
use deep_tap::measure::{Counted, around};
use deep_tap::quantity::{Estimate, Time, estimate, uncertain};
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};
use serde::Serialize;

use crate::args;
use crate::contract::{self, Document};
use crate::errors::Failure;
use crate::output::{Grid, Out, write_table};

/// The lines around a place.
#[derive(Serialize)]
struct Said {
    file: String,
    at_s: Time,
    lines: Vec<SaidLine>,
    /// What has to be said of lines that may have had pulses which the record does not show.
    remarks: Vec<String>,
}

#[derive(Serialize)]
struct SaidLine {
    line: String,
    level: Level,
    since_s: Option<Time>,
    until_s: Option<Time>,
    #[serde(serialize_with = "contract::measures::counted")]
    pulse_s: Option<Counted>,
    #[serde(serialize_with = "contract::measures::counted")]
    period_s: Option<Counted>,
    frequency_hz: Option<Estimate>,
    duty_percent: Option<Estimate>,
}

pub(super) fn run(args: &args::Measure, loaded: &Job, at: Tick, out: &mut Out) -> Result<(), Failure> {
    let capture = &loaded.capture;
    if args.histogram || args.picture.is_some() {
        let error =
            Error::new(ErrorKind::Unknown, "around one place there is nothing to make a histogram of");
        return Err(error.with_help("leave --at out, or --histogram and --picture").into());
    }
    let (lines, _) = loaded.signals(&args.lines)?;
    let base = capture.base();
    let line = |line: &deep_tap::line::LineId| {
        let there = around(capture, *line, at);
        let frequency = there.period.map(|Counted { value, bounds }| {
            Estimate {
                value: value.to_f64(),
                lo: bounds.lo.to_f64(),
                hi: bounds.hi.map_or(f64::INFINITY, Time::to_f64),
            }
            .recip()
        });
        let percent = |share: deep_tap::quantity::Percent| share.to_fraction().to_f64() * 100.0;
        SaidLine {
            line: capture.line(*line).name.clone(),
            level: there.level,
            since_s: there.before.map(|tick| base.time_of(tick)),
            until_s: there.after.map(|tick| base.time_of(tick)),
            pulse_s: there.pulse,
            period_s: there.period,
            frequency_hz: frequency,
            duty_percent: there.duty.map(|Counted { value, bounds }| Estimate {
                value: percent(value),
                lo: percent(bounds.lo),
                hi: bounds.hi.map_or(100.0, percent),
            }),
        }
    };
    let said = Said {
        file: args.file.display().to_string(),
        at_s: base.time_of(at),
        lines: lines.iter().map(line).collect(),
        remarks: hiding_lines(capture, &lines.iter().map(Signal::from).collect::<Vec<_>>()),
    };
    let document = Document::new("around", &said);
    let text = || text(&said, base.tick(), &base.text_of(at));
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.each(&said.lines), text)
}

const COLUMNS: &[&str] = &[
    "line",
    "level",
    "since_s",
    "until_s",
    "pulse_s.value",
    "pulse_s.lo",
    "pulse_s.hi",
    "period_s.value",
    "period_s.lo",
    "period_s.hi",
    "frequency_hz.value",
    "duty_percent.value",
];

fn text(said: &Said, tick: Time, at: &str) -> String {
    let header = ["line", "level", "since", "until", "pulse", "period", "frequency", "duty"];
    let mut grid = Grid::new(&header, &[2, 3, 4, 5, 6, 7]);
    let dash = || "-".to_string();
    for line in &said.lines {
        let length = |length: Option<Counted>| {
            let text =
                |Counted { value, bounds }: Counted| uncertain(value.into(), bounds.map(Into::into), tick);
            length.map_or_else(dash, text)
        };
        let told = |instant: Option<Time>| instant.map_or_else(dash, |instant| instant.rounded(tick));
        grid.row(vec![
            line.line.clone(),
            line.level.to_string(),
            told(line.since_s),
            told(line.until_s),
            length(line.pulse_s),
            length(line.period_s),
            line.frequency_hz.map_or_else(dash, |f| estimate(f, "Hz")),
            line.duty_percent.map_or_else(dash, |d| estimate(d, "%")),
        ]);
    }
    let remarks: String = said.remarks.iter().map(|remark| format!("\n{remark}\n")).collect();
    format!("at {at}          {}\n\n{}\n{remarks}", said.file, grid.text())
}
