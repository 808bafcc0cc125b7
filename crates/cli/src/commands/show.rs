//! `show`: waveforms as text, or the levels at an instant.

use std::io::IsTerminal;

use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::draw::{Marker, Picture, RowSource, View};
use deep_tap::line::{AnalogId, BusId, LineId};
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};

use crate::Outcome;
use crate::args;
use crate::errors::Failure;
use crate::load::{load, parse_time, tell_damage, tick_at, time};
use crate::output::{Grid, Out};

/// Columns when standard output is no terminal.
const PIPED_WIDTH: usize = 120;

pub(crate) fn run(args: &args::Show, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let serial = loaded.setup.as_ref().map_or(&[][..], |setup| &setup.serial);
    let rows = rows(capture, serial, &args.lines)?;
    match &args.at {
        Some(at) => {
            let tick = tick_at(capture, "at", at)?;
            out.line(instant(capture, &rows, Tick(tick.0.min(capture.len().saturating_sub(1)))))?;
        }
        None => out.line(waveforms(args, capture, &rows)?.trim_end())?,
    }
    tell_damage(capture);
    Ok(Outcome::Done)
}

/// The lines and buses asked for; all otherwise, where a bus stands for its lines.
fn rows<'a>(
    capture: &Capture,
    serial: &'a [SerialBus],
    names: &[String],
) -> Result<Vec<RowSource<'a>>, Failure> {
    if names.is_empty() {
        let grouped = |line: LineId| capture.buses().iter().any(|b| b.lines.contains(&line));
        let lines = (0..capture.lines().len()).map(LineId).filter(|l| !grouped(*l)).map(RowSource::Line);
        let buses = (0..capture.buses().len()).map(|b| RowSource::Bus(BusId(b)));
        let analog = (0..capture.analog_lines().len()).map(|a| RowSource::Analog(AnalogId(a)));
        let mut rows: Vec<RowSource<'_>> = lines.chain(buses).chain(analog).collect();
        for bus in serial {
            // Its frames stand under the last of its lines.
            let own = |row: &RowSource<'_>| matches!(row, RowSource::Line(line) if bus.lines.contains(line));
            let place = rows.iter().rposition(own).map_or(rows.len(), |place| place + 1);
            rows.insert(place, RowSource::Frames(bus));
        }
        return Ok(rows);
    }
    let find = |name: &String| {
        if let Some(bus) = serial.iter().find(|bus| bus.name == *name) {
            return Ok(RowSource::Frames(bus));
        }
        match (capture.bus_named(name), capture.analog_named(name)) {
            (Some(bus), _) => Ok(RowSource::Bus(bus)),
            (_, Some(line)) => Ok(RowSource::Analog(line)),
            _ => capture.line_named(name).map(RowSource::Line),
        }
    };
    Ok(names.iter().map(find).collect::<Result<_, Error>>()?)
}

fn columns(args: &args::Show, capture: &Capture, rows: &[RowSource<'_>]) -> usize {
    let name = |row: &RowSource<'_>| match row {
        // Its fields are named under it.
        RowSource::Frames(bus) => bus.name.chars().count().max("  identifier".len()),
        RowSource::Line(line) => capture.line(*line).name.chars().count(),
        RowSource::Bus(bus) => capture.buses()[bus.0].name.chars().count(),
        // Its scale stands in front, too.
        RowSource::Analog(line) => capture.analog_lines()[line.0].name.chars().count().max("-10.000 V".len()),
    };
    let margin = rows.iter().map(name).max().unwrap_or(0) + 1;
    let terminal = std::io::stdout().is_terminal().then(terminal_size::terminal_size).flatten();
    let width = args.width.unwrap_or_else(|| terminal.map_or(PIPED_WIDTH, |(w, _)| usize::from(w.0)));
    width.saturating_sub(margin)
}

fn waveforms(args: &args::Show, capture: &Capture, rows: &[RowSource<'_>]) -> Result<String, Failure> {
    let columns = columns(args, capture, rows);
    if columns == 0 {
        let error = Error::new(ErrorKind::Unknown, "the names leave no room for the waveforms");
        return Err(error.with_help("give a larger --width, or fewer --lines").into());
    }
    let mut markers = Vec::new();
    let zero = capture.base().zero();
    if capture.origin().trigger.is_some() {
        markers.push(Marker { tick: zero, name: "trigger".into() });
    }
    let (start, end) = match &args.around {
        Some(around) => {
            let middle = tick_at(capture, "around", around)?;
            let span = match &args.span {
                Some(span) => {
                    let span = parse_time("span", span)?;
                    let ticks = capture.base().ticks_in(span).and_then(|t| u64::try_from(t.ceil()).ok());
                    ticks.filter(|t| *t > 0).ok_or_else(|| {
                        Error::new(ErrorKind::Quantity, format!("--span: {span} shows nothing"))
                            .with_help(format!("give a time from one tick ({}) on", capture.base().tick()))
                    })?
                }
                None => columns as u64,
            };
            markers.push(Marker { tick: middle, name: time(capture, middle) });
            let start = middle.0.saturating_sub(span / 2);
            (Tick(start), Tick(start.saturating_add(span).min(capture.len())))
        }
        None => {
            let from = args.from.as_ref().map(|t| tick_at(capture, "from", t)).transpose()?;
            let to = args.to.as_ref().map(|t| tick_at(capture, "to", t)).transpose()?;
            (from.unwrap_or(Tick(0)), to.unwrap_or(Tick(capture.len())))
        }
    };
    if start >= end {
        let error = Error::new(ErrorKind::Unknown, "the range to show is empty or upside down");
        return Err(error.with_help("--from must be before --to").into());
    }
    markers.sort_by_key(|m| m.tick);
    let view = View { start, end, columns };
    Ok(Picture::new(capture, rows, view, &markers)?.to_string())
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
        known.map_or(none.to_string(), |sample| time(capture, trace.tick_of(sample)))
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
            RowSource::Bus(bus) => {
                let bus = &capture.buses()[bus.0];
                (&bus.name, capture.bus_value(bus, tick).show(bus.radix), bus.lines.clone())
            }
        };
        let after = Tick(tick.0.saturating_add(1));
        let since = lines.iter().filter_map(|l| capture.trace(*l).prev_edge(after)).map(|e| e.tick).max();
        let until = lines.iter().filter_map(|l| capture.trace(*l).next_edge(tick)).map(|e| e.tick).min();
        let told = |tick: Option<Tick>, none: &str| tick.map_or(none.to_string(), |t| time(capture, t));
        grid.row(vec![name.clone(), level, told(since, "the start"), told(until, "the end")]);
    }
    format!("at {}\n\n{}", time(capture, tick), grid.text())
}
