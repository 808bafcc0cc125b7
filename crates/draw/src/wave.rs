//! Waveforms as cells: what each column of each row shows.

use deep_tap_core::capture::Capture;
use deep_tap_core::capture::Extremes;
use deep_tap_core::line::{AnalogId, Bus, LineId, Radix, Value};
use deep_tap_core::quantity::Voltage;
use deep_tap_core::time::Tick;
use deep_tap_core::{Error, ErrorKind, Result};

use crate::axis::{AxisLabel, labels};
use crate::frames::frame_rows;
use crate::row::{Cell, Dimension, Marker, Row, RowSource, Scale, View, business};
use deep_tap_core::quantity::rough;

/// A picture of a stretch of a capture, as cells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// The time axis.
    pub axis: Vec<AxisLabel>,
    /// Markers inside the view, with their columns.
    pub markers: Vec<(usize, String)>,
    /// The rows.
    pub rows: Vec<Row>,
    /// Intervals inside the view: first and last column, and what is said about each.
    pub dimensions: Vec<(usize, usize, String)>,
    /// Columns of each row.
    pub columns: usize,
    /// What is shown, in words: from, to, scale.
    pub caption: String,
}

impl Picture {
    /// Works out a picture. Each column costs a few binary searches per row, whatever the length
    /// of the record.
    ///
    /// # Errors
    /// When the view is empty, has no columns, or lies outside the record.
    pub fn new(
        capture: &Capture,
        sources: &[RowSource<'_>],
        view: View,
        markers: &[Marker],
    ) -> Result<Picture> {
        /// Columns that a label of the axis needs at least, with the gap to the next.
        const ROOM: usize = 16;
        Picture::with_room(capture, sources, view, markers, ROOM)
    }

    /// The same with so many columns for each label of the axis.
    pub(crate) fn with_room(
        capture: &Capture,
        sources: &[RowSource<'_>],
        view: View,
        markers: &[Marker],
        room: usize,
    ) -> Result<Picture> {
        if view.columns == 0 || view.columns > 1 << 16 {
            return Err(Error::new(
                ErrorKind::Unknown,
                format!("a picture of {} columns cannot be drawn", view.columns),
            )
            .with_help("give a width from 1 to 65536"));
        }
        if view.start >= view.end || view.end.0 > capture.len() {
            let base = capture.base();
            let first = base.text_of(Tick(0));
            let last = base.text_of(Tick(capture.len()));
            return Err(Error::new(ErrorKind::Unknown, "there is nothing to draw in this range of time")
                .with_help(format!("the record goes from {first} to {last}")));
        }
        let rows = sources.iter().flat_map(|source| match source {
            RowSource::Line(line) => vec![line_row(capture, *line, &view)],
            RowSource::Bus(bus) => vec![bus_row(capture, &capture.buses()[bus.0], &view)],
            RowSource::Curve(bus) => vec![curve_row(capture, &capture.buses()[bus.0], &view)],
            RowSource::Frames(bus) => frame_rows(capture, bus, &view),
            RowSource::Analog(line) => vec![analog_row(capture, *line, &view)],
        });
        let base = capture.base();
        let (from, to) = (base.time_of(view.start), base.time_of(view.end));
        let per_column = base.length_of(view.end.since(view.start)).to_f64() / view.columns as f64;
        let caption = format!(
            "{} to {}, {} per column",
            from.rounded(base.tick()),
            to.rounded(base.tick()),
            rough(per_column, 3, "s")
        );
        let inside = markers.iter().filter_map(|m| view.column_of(m.tick).map(|c| (c, m.name.clone())));
        Ok(Picture {
            axis: labels(base, view.start, view.end, view.columns, room),
            markers: inside.collect(),
            dimensions: Vec::new(),
            rows: rows.collect(),
            columns: view.columns,
            caption,
        })
    }
}

impl Picture {
    /// The same with intervals drawn under the rows; those outside the view are left out.
    #[must_use]
    pub fn with_dimensions(mut self, view: View, dimensions: &[Dimension]) -> Picture {
        let inside = dimensions.iter().filter(|d| d.to >= view.start && d.from < view.end);
        let place = |d: &Dimension| {
            let from = view.column_of(d.from.max(view.start)).unwrap_or(0);
            let to = view.column_of(d.to).unwrap_or(view.columns.saturating_sub(1));
            (from, to.max(from), d.text.clone())
        };
        self.dimensions = inside.map(place).collect();
        self
    }
}

fn line_row(capture: &Capture, line: LineId, view: &View) -> Row {
    let trace = capture.trace(line);
    let cells = (0..view.columns).map(|column| {
        let (from, to) = (view.tick_of(column), view.tick_of(column + 1));
        // A tick wider than a column: its edge shows in the column it begins in.
        if from == to {
            return Cell::Steady(trace.level_at(Tick(from.0.saturating_sub(1))));
        }
        // An edge at the very first tick shown is before the picture.
        let counted = if column == 0 { Tick(from.0 + 1)..to } else { from..to };
        match trace.count(counted) {
            0 => Cell::Steady(trace.level_at(from)),
            1 => Cell::Edge(trace.level_at(Tick(to.0 - 1))),
            edges => Cell::Busy(business(edges, to.0 - from.0)),
        }
    });
    Row {
        name: capture.line(line).name.clone(),
        cells: cells.collect(),
        labels: Vec::new(),
        spans: Vec::new(),
        scale: None,
        narrow: narrow(capture, line, view),
    }
}

/// Most edges in a view among which pulses of a single sample are looked for.
const MOST_NARROW: u64 = 20_000;

/// The columns with a pulse of a single sample.
fn narrow(capture: &Capture, line: LineId, view: &View) -> Vec<usize> {
    let trace = capture.trace(line);
    if !capture.resolution().sampled || trace.count(view.start..view.end) > MOST_NARROW {
        return Vec::new();
    }
    let mut columns: Vec<usize> = Vec::new();
    let mut before: Option<Tick> = None;
    for edge in trace.edges(view.start..view.end) {
        let single = before.is_some_and(|before| edge.tick.since(before) == 1);
        columns.extend(before.filter(|_| single).and_then(|at| view.column_of(at)));
        before = Some(edge.tick);
    }
    columns.dedup();
    columns
}

fn bus_row(capture: &Capture, bus: &Bus, view: &View) -> Row {
    let value = |tick: Tick| capture.bus_value(bus, tick);
    let mut cells = Vec::with_capacity(view.columns);
    for column in 0..view.columns {
        let (from, to) = (view.tick_of(column), view.tick_of(column + 1));
        if from == to {
            cells.push(Cell::Value(value(Tick(from.0.saturating_sub(1)))));
            continue;
        }
        let start = if column == 0 { Tick(from.0 + 1) } else { from };
        let changes = bus.lines.iter().map(|l| capture.trace(*l).count(start..to));
        let (most, any) = changes.fold((0, false), |(most, any), n| (most.max(n), any || n > 0));
        cells.push(match (most, any) {
            (_, false) => Cell::Value(value(from)),
            (1, _) => Cell::Change(value(Tick(to.0 - 1))),
            (edges, _) => Cell::Busy(business(edges, to.0 - from.0)),
        });
    }
    let labels = stretches(&cells).into_iter().map(|(at, len, value)| (at, len, words(bus, value)));
    let labels = labels.collect();
    Row { name: bus.name.clone(), cells, labels, spans: Vec::new(), scale: None, narrow: Vec::new() }
}

/// Instants of a column at which the value of a bus is asked for, where it changes more often.
const MOST_ASKED: u64 = 64;

/// The values of a bus as a curve: the smallest and the largest of each column. In a column in which they change
/// often, those at some instants stand for all.
fn curve_row(capture: &Capture, bus: &Bus, view: &View) -> Row {
    let number = |value: Value| match bus.radix {
        Radix::Signed => value.signed().map(i128::from),
        _ => value.known().map(i128::from),
    };
    let mut columns: Vec<Option<(i128, i128)>> = Vec::with_capacity(view.columns);
    for column in 0..view.columns {
        let (from, to) = (view.tick_of(column), view.tick_of(column + 1));
        // A column in which no tick begins is one of the tick before.
        let from = if from == to { Tick(from.0.saturating_sub(1)) } else { from };
        let to = Tick(to.0.max(from.0 + 1));
        let inside = Tick(from.0 + 1)..to;
        let changes: u64 = bus.lines.iter().map(|line| capture.trace(*line).count(inside.clone())).sum();
        let ticks: Vec<Tick> = match changes {
            0 => vec![from],
            1..=MOST_ASKED => {
                let edges = bus.lines.iter().flat_map(|line| capture.trace(*line).edges(inside.clone()));
                std::iter::once(from).chain(edges.map(|edge| edge.tick)).collect()
            }
            _ => (0..MOST_ASKED).map(|part| Tick(from.0 + (to.0 - from.0) * part / MOST_ASKED)).collect(),
        };
        let values = ticks.into_iter().filter_map(|tick| number(capture.bus_value(bus, tick)));
        columns.push(values.fold(None, |ends, value| match ends {
            None => Some((value, value)),
            Some((least, most)) => Some((least.min(value), most.max(value))),
        }));
    }
    let known = || columns.iter().flatten();
    let bottom = known().map(|(least, _)| *least).min().unwrap_or(0);
    let top = known().map(|(_, most)| *most).max().unwrap_or(0).max(bottom + 1);
    let share = |value: i128| ((value - bottom) * 1000 / (top - bottom)).clamp(0, 1000) as u16;
    let cell = |ends: Option<(i128, i128)>| match ends {
        Some((least, most)) => Cell::Band(share(least), share(most)),
        None => Cell::Nothing,
    };
    Row {
        name: bus.name.clone(),
        cells: columns.into_iter().map(cell).collect(),
        labels: Vec::new(),
        spans: Vec::new(),
        scale: Some(Scale::Values(bottom, top)),
        narrow: Vec::new(),
    }
}

/// A value with its name, the name alone, the value alone: the first that fits is written.
fn words(bus: &Bus, value: Value) -> Vec<String> {
    let name = value.known().and_then(|value| bus.names.name(value)).map(str::to_string);
    let named = name.as_ref().map(|_| bus.show(value));
    named.into_iter().chain(name).chain([value.show(bus.radix)]).collect()
}

/// Least height of a row, as a share of all codes: what is smaller shall not look large.
const LEAST_CODES: i32 = 1 << 16 >> 5;

fn analog_row(capture: &Capture, line: AnalogId, view: &View) -> Row {
    let trace = capture.analog(line);
    let mut columns: Vec<Option<Extremes>> = Vec::with_capacity(view.columns);
    for column in 0..view.columns {
        let (from, to) = (view.tick_of(column), view.tick_of(column + 1));
        // Between two samples, the voltage is drawn as that of the one before; a column in which no tick begins is
        // one of the tick before.
        let at = if from == to { Tick(from.0.saturating_sub(1)) } else { from };
        let held = || trace.sample_at(at).and_then(|sample| trace.extremes_of(sample..sample + 1));
        columns.push(trace.extremes(from..to).or_else(held));
    }
    let least = columns.iter().flatten().map(|e| i32::from(e.least)).min().unwrap_or(0);
    let most = columns.iter().flatten().map(|e| i32::from(e.most)).max().unwrap_or(0);
    let scale = trace.scale();
    let missing = (least_span(trace.scale().step()) - (most - least)).max(0);
    let bottom = (least - missing / 2).max(i32::from(i16::MIN));
    let top = (bottom + (most - least) + missing).min(i32::from(i16::MAX)).max(bottom + 1);
    let share = |code: i16| ((i32::from(code) - bottom) * 1000 / (top - bottom)).clamp(0, 1000) as u16;
    let cell = |extremes: Option<Extremes>| match extremes {
        Some(Extremes { least, most }) => Cell::Band(share(least), share(most)),
        None => Cell::Nothing,
    };
    Row {
        name: capture.analog_lines()[line.0].name.clone(),
        cells: columns.into_iter().map(cell).collect(),
        labels: Vec::new(),
        spans: Vec::new(),
        scale: Some(Scale::Voltages(scale.voltage(bottom as i16), scale.voltage(top as i16))),
        narrow: Vec::new(),
    }
}

/// The codes that a row is high at the least: a tenth of a volt, or as many as there are.
fn least_span(step: Voltage) -> i32 {
    (0.1 / step.to_f64().max(1e-9)).min(f64::from(LEAST_CODES)).ceil() as i32
}

/// Stretches of columns with one value, the changing column at their start not counted.
fn stretches(cells: &[Cell]) -> Vec<(usize, usize, Value)> {
    let mut stretches: Vec<(usize, usize, Value)> = Vec::new();
    for (column, cell) in cells.iter().enumerate() {
        if let Cell::Value(value) = cell {
            match stretches.last_mut() {
                Some((at, len, known)) if *at + *len == column && known == value => *len += 1,
                _ => stretches.push((column, 1, *value)),
            }
        }
    }
    stretches
}
