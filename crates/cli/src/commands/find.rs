//! `find`: every occurrence of an event.

use deep_tap::capture::Capture;
use deep_tap::draw::{Marker, Picture, RowSource, View};
use deep_tap::event::{Program, TimedProgram};
use deep_tap::line::Signal;
use deep_tap::quantity::Time;
use deep_tap::time::Tick;

use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::Document;
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::next::{look, source_words};
use crate::output::{Grid, Out, Working, write_lines, write_table};

/// Most pictures drawn by `--around`.
const MOST_PICTURES: usize = 10;
/// Columns of a picture.
const WIDTH: u64 = 100;

/// What was found.
#[derive(Serialize)]
struct Found<'a> {
    file: String,
    event: &'a str,
    count: u64,
    /// Whether the search was stopped by `--first`, so that there may be more.
    #[serde(skip)]
    stopped: bool,
    #[serde(skip)]
    hits: Vec<FoundHit>,
}

#[derive(Serialize)]
struct FoundHit {
    /// From 1.
    number: u64,
    #[serde(skip)]
    tick: Tick,
    at_s: Time,
    since_previous_s: Option<Time>,
}

const COLUMNS: &[&str] = &["number", "at_s", "since_previous_s"];

pub(crate) fn run(args: &args::Find, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let program = Program::compile(&args.event, &loaded.scope())?.at(capture.base())?;
    let range = args.window.of(&loaded)?;
    let working = Working::on("looking");
    let hits = program.hits(capture, range).map(|hit| hit.tick);
    let (ticks, count, stopped) = if args.count {
        (Vec::new(), hits.count() as u64, false)
    } else {
        let most = args.first.map_or(usize::MAX, |n| usize::try_from(n).unwrap_or(usize::MAX));
        let ticks: Vec<Tick> = hits.take(most).collect();
        let stopped = ticks.len() == most;
        let count = ticks.len() as u64;
        (ticks, count, stopped)
    };
    drop(working);
    let found = found(args, capture, &ticks, count, stopped);
    let text = || text(args, capture, &program, &found);
    match args.count {
        true => {
            let document = Document::new("count", &found);
            write_table(
                &args.table,
                out,
                &document,
                &["file", "event", "count"],
                |rows| rows.row(&found),
                text,
            )?;
        }
        false => write_lines(&args.table, out, "hit", found.hits.iter(), COLUMNS, text)?,
    }
    tell_damage(capture);
    Ok(if count > 0 { Outcome::Done } else { Outcome::Violated })
}

fn found<'a>(
    args: &'a args::Find,
    capture: &Capture,
    ticks: &[Tick],
    count: u64,
    stopped: bool,
) -> Found<'a> {
    let base = capture.base();
    let hit = |(i, tick): (usize, &Tick)| FoundHit {
        number: i as u64 + 1,
        tick: *tick,
        at_s: base.time_of(*tick),
        since_previous_s: i.checked_sub(1).map(|p| base.length_of(tick.since(ticks[p]))),
    };
    Found {
        file: args.source.file.display().to_string(),
        event: &args.event,
        count,
        stopped,
        hits: ticks.iter().enumerate().map(hit).collect(),
    }
}

fn text(args: &args::Find, capture: &Capture, program: &TimedProgram, found: &Found<'_>) -> String {
    let times = if found.count == 1 { "once".to_string() } else { format!("{} times", found.count) };
    let more = if found.stopped { ", and stopped there" } else { "" };
    let mut text = match found.count {
        0 => format!("never: {}          {}\n", found.event, found.file),
        _ => format!("{times}{more}: {}          {}\n", found.event, found.file),
    };
    if found.hits.is_empty() {
        return text;
    }
    let tick = capture.base().tick();
    let mut grid = Grid::new(&["number", "at", "since previous"], &[0, 1, 2]);
    for hit in &found.hits {
        let since = hit.since_previous_s.map_or("-".to_string(), |t| t.rounded(tick));
        grid.row(vec![hit.number.to_string(), capture.base().text_of(hit.tick), since]);
    }
    text.push_str(&format!("\n{}\n", grid.text()));
    if args.around {
        for hit in found.hits.iter().take(MOST_PICTURES) {
            text.push_str(&format!("\n{}", picture(capture, &program.signals(), hit)));
        }
        if found.hits.len() > MOST_PICTURES {
            text.push_str(&format!("\n{} more are not drawn\n", found.hits.len() - MOST_PICTURES));
        }
    }
    if let Some(first) = found.hits.first() {
        let lines = look(&source_words(&args.source), capture.base().text_of(first.tick));
        text.push_str(&format!("\n{}\n", lines.join("\n")));
    }
    text
}

/// What the event looks at, around a hit.
fn picture(capture: &Capture, signals: &[Signal], hit: &FoundHit) -> String {
    let start = hit.tick.0.saturating_sub(WIDTH / 2);
    let end = (start + WIDTH).min(capture.len());
    let row = |signal: &Signal| match signal {
        Signal::Crossing(crossing) => RowSource::Analog(crossing.analog()),
        Signal::Line(line) | Signal::Drive(line) => RowSource::Line(*line),
    };
    let rows: Vec<RowSource> = signals.iter().map(row).collect();
    let marker =
        Marker { tick: hit.tick, name: format!("{}: {}", hit.number, capture.base().text_of(hit.tick)) };
    let view = View { start: Tick(start), end: Tick(end), columns: WIDTH as usize };
    Picture::new(capture, &rows, view, &[marker]).map_or_else(|e| format!("{e}\n"), |p| p.to_string())
}
