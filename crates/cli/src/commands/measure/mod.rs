//! `measure`: widths, periods, frequency, duty, jitter, intervals between events, voltages.

mod around;
mod between;
mod follow;
mod histogram;
mod levels;
mod lines;
mod series;
mod voltages;

use std::ops::Range;

use deep_tap::capture::Capture;
use deep_tap::event::{Program, TimedProgram};
use deep_tap::job::Job;
use deep_tap::known::hiding_lines;
use deep_tap::line::{LineId, Signal};
use deep_tap::measure::chain;
use deep_tap::quantity::Time;
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind, Place};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::{Document, Rows};
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::output::{Out, Working, write_table};
use crate::words::counted;
use lines::MeasuredLine;
use series::Series;
use voltages::MeasuredLine as MeasuredAnalog;

/// What was measured.
#[derive(Serialize)]
struct Measured {
    file: String,
    from_s: Time,
    to_s: Time,
    lines: Vec<MeasuredLine>,
    analog: Vec<MeasuredAnalog>,
    #[serde(serialize_with = "series::list")]
    intervals: Vec<Series>,
    /// What has to be said of lines that may have had pulses which the record does not show.
    remarks: Vec<String>,
}

pub(crate) fn run(args: &args::Measure, out: &mut Out) -> Result<Outcome, Failure> {
    if args.levels {
        return levels::run(args, out);
    }
    if args.file.extension().is_some_and(|e| e.eq_ignore_ascii_case("toml")) {
        let error = Error::new(ErrorKind::Unknown, "this is a setup, and what is measured is a capture");
        let help = "give a capture, or --levels to sweep the thresholds of the setup's lines";
        return Err(error.with_help(help).at(Place::File(args.file.clone())).into());
    }
    let loaded = load(&args::Source {
        setup: args.setup.clone(),
        stated: args.stated.clone(),
        ..args::Source::of(args.file.clone())
    })?;
    let _working = Working::on("measuring");
    if let Some(name) = &args.limit {
        histogram::of_limit(args, &loaded, name, out)?;
    } else if let Some(name) = &args.follow {
        follow::run(args, &loaded, name, out)?;
    } else if let Some(places) = &args.between {
        between::run(args, &loaded, places, out)?;
    } else if let Some(at) = &args.at {
        let tick = loaded.place(at, Tick(0)).map_err(|e| e.about("--at"))?;
        around::run(args, &loaded, tick, out)?;
    } else {
        let range = args.window.of(&loaded)?;
        measure(args, &loaded, range, out)?;
    }
    tell_damage(&loaded.capture);
    Ok(Outcome::Done)
}

fn measure(args: &args::Measure, loaded: &Job, range: Range<Tick>, out: &mut Out) -> Result<(), Failure> {
    let capture = &loaded.capture;
    let base = capture.base();
    let mut measured = Measured {
        file: args.file.display().to_string(),
        from_s: base.time_of(range.start),
        to_s: base.time_of(range.end),
        lines: Vec::new(),
        analog: Vec::new(),
        intervals: Vec::new(),
        remarks: Vec::new(),
    };
    if let Some(each) = &args.each {
        let events = events(args, loaded, each)?;
        let signals: Vec<Signal> = events.iter().flat_map(TimedProgram::signals).collect();
        measured.remarks = hiding_lines(capture, &signals);
        measured.intervals = intervals(args, capture, each, &events, range.clone());
    } else {
        let (lines, analog) = loaded.signals(&args.lines)?;
        let signals: Vec<Signal> = lines.iter().map(Signal::from).collect();
        measured.remarks = hiding_lines(capture, &signals);
        let full = args.lines.len() == 1 && lines.len() == 1;
        let line = |line: &LineId| lines::measure(args, capture, *line, range.clone(), full);
        measured.lines = lines.iter().map(line).collect();
        let analog = analog.iter().map(|line| voltages::measure(capture, *line, range.start, range.end));
        measured.analog = analog.collect();
        if full && let Some(line) = measured.lines.first() {
            measured.intervals = line.series.clone();
        }
    }
    let wanted = args.histogram || args.picture.is_some();
    if wanted && measured.intervals.is_empty() {
        let error = Error::new(ErrorKind::Unknown, "a histogram is of one line, of intervals, or of a limit");
        let help = "name one with --lines, give --each EVENT, or --limit NAME";
        return Err(error.with_help(help).into());
    }
    if let Some(path) = &args.picture {
        histogram::save(args, path, &measured.intervals)?;
    }
    let head = format!(
        "{}, {}, from {} to {}",
        measured.file,
        if capture.resolution().sampled { format!("tick {}", base.tick()) } else { "exact".to_string() },
        capture.base().text_of(range.start),
        capture.base().text_of(range.end)
    );
    // A table has one set of columns: of the intervals, of the lines, or where there are none, of the analog ones.
    let columns = match (measured.intervals.is_empty(), measured.lines.is_empty()) {
        (false, _) => series::COLUMNS,
        (true, false) => lines::COLUMNS,
        (true, true) => voltages::COLUMNS,
    };
    let rows = |rows: &mut Rows| match (measured.intervals.is_empty(), measured.lines.is_empty()) {
        (false, _) => rows.each(series::with_bursts(&measured.intervals)),
        (true, false) => rows.each(&measured.lines),
        (true, true) => rows.each(&measured.analog),
    };
    let document = Document::new("measurements", &measured);
    write_table(&args.table, out, &document, columns, rows, || text(args, &measured, &head))
}

/// What intervals are measured between.
fn events(args: &args::Measure, loaded: &Job, each: &str) -> Result<Vec<TimedProgram>, Failure> {
    let (scope, base) = (loaded.scope(), loaded.capture.base());
    let texts = std::iter::once(each).chain(args.until.iter().map(String::as_str));
    texts.map(|text| Ok(Program::compile(text, &scope)?.at(base)?)).collect()
}

/// From each event to the next, or along a chain.
fn intervals(
    args: &args::Measure,
    capture: &Capture,
    each: &str,
    events: &[TimedProgram],
    range: Range<Tick>,
) -> Vec<Series> {
    if let [event] = events {
        return vec![Series::repeating(args, capture, event, "period", range)];
    }
    let ends: Vec<&str> = std::iter::once(each).chain(args.until.iter().map(String::as_str)).collect();
    let mut names: Vec<String> = ends.windows(2).map(|pair| format!("{} → {}", pair[0], pair[1])).collect();
    if let ([first, .., last], true) = (&ends[..], ends.len() > 2) {
        names.push(format!("{first} → … → {last}"));
    }
    let stages = chain(capture, events, range);
    stages.iter().zip(names).map(|(stage, name)| Series::of(&name, stage)).collect()
}

fn text(args: &args::Measure, measured: &Measured, head: &str) -> String {
    let mut text = match (measured.lines.as_slice(), args.each.is_some()) {
        ([line], false) if !line.series.is_empty() => lines::full_text(line, head),
        _ => {
            let intervals = measured.intervals.iter().map(|series| series.count).sum::<u64>();
            let count = match args.each.is_some() {
                true => format!("{intervals} intervals"),
                false => counted(measured.lines.len() + measured.analog.len(), "line"),
            };
            let mut text = format!("{count}          {head}\n");
            if !measured.lines.is_empty() {
                text.push_str(&format!("\n{}\n", lines::text(&measured.lines)));
            }
            if !measured.analog.is_empty() {
                text.push_str(&format!("\n{}", voltages::text(&measured.analog)));
            }
            if args.each.is_some() {
                text.push_str(&format!("\n{}\n", series::text(&measured.intervals)));
            }
            text
        }
    };
    if args.histogram {
        for series in &measured.intervals {
            if let Some(histogram) = &series.histogram {
                text.push_str(&format!("\n{}\n{histogram}", series.what));
            }
        }
    }
    for remark in &measured.remarks {
        text.push_str(&format!("\n{remark}\n"));
    }
    text
}
