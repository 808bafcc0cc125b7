//! `show`: waveforms as text or as a picture, or the levels at an instant.

use std::ops::{ControlFlow, Range};
use std::path::Path;

use deep_tap::capture::Capture;
use deep_tap::draw::{Dimension, Marker, Picture, RowSource, Sheet, View};
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{BoundLimit, LimitResult, Occurrence, Verdict, Visited};
use deep_tap::line::AnalogId;
use deep_tap::quantity::uncertain;
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};

use super::check::checked_limit;
use crate::Outcome;
use crate::args;
use crate::errors::Failure;
use crate::load::{load, parse_time, tell_damage};
use crate::output::{Grid, Out, terminal_width};
use crate::picture;
use crate::rows::{self, RowKind};

/// Columns when standard output is no terminal.
const PIPED_WIDTH: usize = 120;

/// Pixels of a picture's width.
const PICTURE_WIDTH: usize = 1280;

pub(crate) fn run(args: &args::Show, out: &mut Out) -> Result<Outcome, Failure> {
    if args.span.is_some() && args.around.is_none() && args.limit.is_empty() {
        let error = Error::new(ErrorKind::Unknown, "--span says how much is shown around a place");
        return Err(error
            .with_help("give the place with --around or --limit, or use --from and --to")
            .into());
    }
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let rows = wanted_rows(args, &loaded)?;
    let rows: Vec<RowSource<'_>> = rows.iter().filter_map(|row| row.source(&loaded)).collect();
    match (&args.at, &args.output) {
        (Some(at), _) => {
            let tick = loaded.place(at, Tick(0)).map_err(|e| e.about("--at"))?;
            out.line(instant(capture, &rows, Tick(tick.0.min(capture.len().saturating_sub(1)))))?;
        }
        (None, Some(path)) => drawn(args, &loaded, &rows, path)?,
        (None, None) => out.line(waveforms(args, &loaded, &rows)?.trim_end())?,
    }
    tell_damage(capture);
    Ok(Outcome::Done)
}

/// The rows that are asked for, in the form that is asked for.
fn wanted_rows(args: &args::Show, loaded: &Job) -> Result<Vec<RowKind>, Failure> {
    let mut rows = match args.lines.is_empty() {
        true => rows::all(loaded),
        false => rows::named(loaded, &args.lines)?,
    };
    for name in &args.curve {
        let bus = loaded.capture.bus_named(name).ok_or_else(|| {
            let known = loaded.capture.buses().iter().map(|bus| bus.name.as_str());
            let help = deep_tap::suggest(name, known, "group of lines");
            let error =
                Error::new(ErrorKind::Unknown, format!("--curve: there is no group of lines '{name}'"));
            error.with_help(help)
        })?;
        match rows.iter_mut().find(|row| **row == RowKind::Bus(bus)) {
            Some(row) => *row = RowKind::Curve(bus),
            None => rows.push(RowKind::Curve(bus)),
        }
    }
    if args.with_lines {
        let lines = |row: &RowKind| match row {
            RowKind::Bus(bus) | RowKind::Curve(bus) => loaded.capture.buses()[bus.0].lines.clone(),
            RowKind::Line(_) | RowKind::Frames(_) | RowKind::Analog(_) => Vec::new(),
        };
        let own = |row: RowKind| std::iter::once(row).chain(lines(&row).into_iter().map(RowKind::Line));
        rows = rows.into_iter().flat_map(own).collect();
    }
    Ok(rows)
}

fn columns(args: &args::Show, capture: &Capture, rows: &[RowSource<'_>]) -> usize {
    let name = |row: &RowSource<'_>| match row {
        // Its fields are named under it.
        RowSource::Frames(bus) => bus.name().chars().count().max("  identifier".len()),
        RowSource::Line(line) => capture.line(*line).name.chars().count(),
        RowSource::Bus(bus) => capture.buses()[bus.0].name.chars().count(),
        // The scale of a curve stands in front, too.
        RowSource::Curve(bus) => capture.buses()[bus.0].name.chars().count().max("4294967295".len()),
        // Its scale stands in front, too.
        RowSource::Analog(line) => capture.analog_lines()[line.0].name.chars().count().max("-10.000 V".len()),
    };
    let margin = rows.iter().map(name).max().unwrap_or(0) + 1;
    let width = args.width.unwrap_or_else(|| terminal_width().map_or(PIPED_WIDTH, usize::from));
    width.saturating_sub(margin)
}

/// What is shown: where, and what is marked in it.
struct Shown {
    start: Tick,
    end: Tick,
    markers: Vec<Marker>,
    dimensions: Vec<Dimension>,
}

/// Works out what the options ask for; `columns` is how many ticks are shown around a place.
fn shown(args: &args::Show, loaded: &Job, columns: usize) -> Result<Shown, Failure> {
    let capture = &loaded.capture;
    let mut markers = rows::markers(capture, &loaded.marks());
    let mut marked = Vec::new();
    for mark in &args.mark {
        let Some((name, text)) = mark.split_once('=') else {
            let error = Error::new(ErrorKind::Unknown, format!("--mark: '{mark}' has no place"));
            return Err(error.with_help("write it like 'boot=RESET_N rises' or 'here=1.2 ms'").into());
        };
        let tick = loaded.place(text.trim(), Tick(0)).map_err(|e| e.about("--mark"))?;
        markers.push(Marker { tick, name: name.trim().to_string() });
        marked.push((tick, text.trim()));
    }
    let (mut worst, mut drawn) = (None, Vec::new());
    let mut dimensions = between_marks(loaded, marked);
    for name in &args.limit {
        let (bound, result) = checked_limit(loaded, name)?;
        let Some(occurrence) = result.worst else {
            let error =
                Error::new(ErrorKind::Unknown, format!("--limit: {name} was not seen in this record"));
            return Err(error.with_help("its events never occurred; deep-tap check says more").into());
        };
        worst = worst.or(Some((occurrence.start, occurrence.end)));
        drawn.push((bound, result));
    }
    let (start, end) = match (&args.around, worst, !args.window.is_all()) {
        (Some(around), _, _) => {
            let middle = loaded.place(around, Tick(0)).map_err(|e| e.about("--around"))?;
            if markers.iter().all(|marker| marker.tick != middle) {
                markers.push(Marker { tick: middle, name: capture.base().text_of(middle) });
            }
            around_place(args, capture, middle, columns as u64)?
        }
        (None, Some((from, to)), false) => {
            // What the limit takes, and as much again to its left and right, and some edges of a clock.
            const ROOM: u64 = 60;
            let middle = Tick(from.0 + (to.0 - from.0) / 2);
            around_place(args, capture, middle, (to.0 - from.0).saturating_mul(4).max(ROOM))?
        }
        _ => {
            let range = args.window.of(loaded)?;
            (range.start, range.end)
        }
    };
    for (bound, result) in &drawn {
        dimensions.extend(self::dimensions(capture, bound, result, start..end)?);
    }
    Ok(Shown { start, end, markers: joined(markers), dimensions })
}

/// The time from each mark to the next, with its bounds where that is known.
fn between_marks(loaded: &Job, mut marked: Vec<(Tick, &str)>) -> Vec<Dimension> {
    marked.sort_by_key(|(tick, _)| *tick);
    let base = loaded.capture.base();
    let dimension = |pair: &[(Tick, &str)]| {
        let ((from, first), (to, second)) = (pair[0], pair[1]);
        let known = loaded.between(first, second).ok().filter(|found| (found.from, found.to) == (from, to));
        let length = base.length_of(to.since(from));
        let text = match known.and_then(|found| found.bounds) {
            Some(bounds) => uncertain(length.into(), bounds.map(Into::into), base.tick()),
            None => length.rounded(base.tick()),
        };
        Dimension { from, to, text, violated: false, signals: Vec::new() }
    };
    marked.windows(2).filter(|pair| pair[0].0 < pair[1].0).map(dimension).collect()
}

/// The markers in their order; those at one instant are one.
fn joined(mut markers: Vec<Marker>) -> Vec<Marker> {
    markers.sort_by_key(|marker| marker.tick);
    markers.dedup_by(|later, before| {
        let same = later.tick == before.tick;
        if same && later.name != before.name {
            before.name.push_str(&format!(", {}", later.name));
        }
        same
    });
    markers
}

/// The range around a place: as long as is asked for, or so many ticks.
fn around_place(
    args: &args::Show,
    capture: &Capture,
    middle: Tick,
    ticks: u64,
) -> Result<(Tick, Tick), Failure> {
    let span = match &args.span {
        Some(span) => {
            let span = parse_time("span", span)?;
            let ticks = capture.base().ticks_in(span).and_then(|t| u64::try_from(t.ceil()).ok());
            ticks.filter(|t| *t > 0).ok_or_else(|| {
                Error::new(ErrorKind::Quantity, format!("--span: {span} shows nothing"))
                    .with_help(format!("give a time from one tick ({}) on", capture.base().tick()))
            })?
        }
        None => ticks,
    };
    let start = middle.0.saturating_sub(span / 2);
    Ok((Tick(start), Tick(start.saturating_add(span).min(capture.len()))))
}

/// What of a limit is drawn in a stretch: its worst occurrence, what violates it, and what is in doubt.
fn dimensions(
    capture: &Capture,
    bound: &BoundLimit,
    result: &LimitResult,
    shown: Range<Tick>,
) -> Result<Vec<Dimension>, Failure> {
    /// More in one picture nobody tells apart.
    const MOST: usize = 200;
    let mut drawn: Vec<Occurrence> = result.worst.into_iter().collect();
    bound.occurrences(capture, Rule::Proven, &mut |found| {
        if let Visited::Occurrence(occurrence) = found {
            // What may have been none at all would be too many.
            let doubtful = occurrence.verdict == Verdict::Inconclusive && occurrence.certain;
            let asks = occurrence.verdict == Verdict::Fail || doubtful;
            let inside = occurrence.end >= shown.start && occurrence.start < shown.end;
            let same = |other: &Occurrence| (other.start, other.end) == (occurrence.start, occurrence.end);
            if asks && inside && !drawn.first().is_some_and(same) {
                drawn.push(occurrence);
            }
        }
        if drawn.len() < MOST { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    })?;
    Ok(drawn.iter().map(|occurrence| rows::dimension(capture, bound, result, occurrence)).collect())
}

fn waveforms(args: &args::Show, loaded: &Job, rows: &[RowSource<'_>]) -> Result<String, Failure> {
    let capture = &loaded.capture;
    let columns = columns(args, capture, rows);
    if columns == 0 {
        let error = Error::new(ErrorKind::Unknown, "the names leave no room for the waveforms");
        return Err(error.with_help("give a larger --width, or fewer --lines").into());
    }
    let Shown { start, end, markers, dimensions } = shown(args, loaded, columns)?;
    let view = View { start, end, columns };
    Ok(Picture::new(capture, rows, view, &markers)?.with_dimensions(view, &dimensions).to_string())
}

/// The same as a picture in a file.
fn drawn(args: &args::Show, loaded: &Job, rows: &[RowSource<'_>], path: &Path) -> Result<(), Failure> {
    // What is drawn larger has fewer columns.
    let scale = f64::from(args.scale);
    let width = (args.width.unwrap_or(PICTURE_WIDTH) as f64 / scale) as usize;
    let Shown { start, end, markers, dimensions } = shown(args, loaded, width / 8)?;
    let levels = rows::levels(loaded);
    let title = loaded.setup.as_ref().and_then(|setup| setup.title.clone());
    let file = args.source.file.display();
    let sheet = Sheet {
        start,
        end,
        width: u32::try_from(width).unwrap_or(u32::MAX),
        title: title.map_or_else(|| file.to_string(), |title| format!("{title} ({file})")),
        markers: &markers,
        dimensions: &dimensions,
        levels: &levels,
        tall: args.tall,
    };
    picture::save_large(&sheet.draw(&loaded.capture, rows)?, path, (args.ground, args.scale), args.replace)
}

/// The voltage of an analog line at a tick, and between which samples that is.
fn voltage(capture: &Capture, line: AnalogId, tick: Tick) -> Vec<String> {
    let trace = capture.analog(line);
    let sample = trace.sample_at(tick);
    let volts = trace.voltage_at(tick).map_or("unknown".to_string(), |volts| {
        format!("{:.3} V ± {:.0} mV", volts.to_f64(), trace.scale().error().to_f64() * 1e3)
    });
    let at = |sample: Option<u64>, none: &str| {
        let known = sample.filter(|s| *s < trace.len());
        known.map_or(none.to_string(), |sample| capture.base().text_of(trace.tick_of(sample)))
    };
    let name = capture.analog_lines()[line.0].name.clone();
    vec![name, volts, at(sample, "the start"), at(sample.map(|s| s + 1), "the end")]
}

/// Levels and values at a tick, with the edges around it.
fn instant(capture: &Capture, rows: &[RowSource<'_>], tick: Tick) -> String {
    let mut grid = Grid::new(&["line", "level", "since", "until"], &[2, 3]);
    for row in rows {
        if let RowSource::Analog(line) = row {
            grid.row(voltage(capture, *line, tick));
            continue;
        }
        let (name, level, lines) = match row {
            RowSource::Analog(_) | RowSource::Frames(_) => continue,
            RowSource::Line(line) => {
                let level = capture.trace(*line).level_at(tick).to_string();
                (&capture.line(*line).name, level, vec![*line])
            }
            RowSource::Bus(bus) | RowSource::Curve(bus) => {
                let bus = &capture.buses()[bus.0];
                (&bus.name, bus.show(capture.bus_value(bus, tick)), bus.lines.clone())
            }
        };
        let after = Tick(tick.0.saturating_add(1));
        let since = lines.iter().filter_map(|l| capture.trace(*l).prev_edge(after)).map(|e| e.tick).max();
        let until = lines.iter().filter_map(|l| capture.trace(*l).next_edge(tick)).map(|e| e.tick).min();
        let told =
            |tick: Option<Tick>, none: &str| tick.map_or(none.to_string(), |t| capture.base().text_of(t));
        grid.row(vec![name.clone(), level, told(since, "the start"), told(until, "the end")]);
    }
    format!("at {}\n\n{}", capture.base().text_of(tick), grid.text())
}
