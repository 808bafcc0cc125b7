//! Which rows of a record are drawn, and what is marked in them.

use deep_tap::Error;
use deep_tap::capture::{Capture, Note};
use deep_tap::decode::SerialBus;
use deep_tap::draw::{Dimension, Marker, RowSource};
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{BoundLimit, LimitResult, Occurrence, Verdict};
use deep_tap::line::{AnalogId, BusId, LineId};
use deep_tap::quantity::{Voltage, uncertain};
use deep_tap::setup::LevelSource;

/// A row, without the record that it is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum RowKind {
    Line(LineId),
    Bus(BusId),
    /// A bus as a curve.
    Curve(BusId),
    /// A serial bus or an exchange, by its place among both.
    Frames(usize),
    Analog(AnalogId),
}

/// Where a record was triggered, and what is marked in it.
pub(crate) fn markers(capture: &Capture, marks: &[Note]) -> Vec<Marker> {
    let base = capture.base();
    let triggered = capture.origin().trigger.is_some() && base.zero_at() >= 0;
    let trigger = triggered.then(|| Marker { tick: base.zero(), name: "trigger".to_string() });
    let marks = marks.iter().map(|note| Marker { tick: note.at, name: note.name.clone() });
    trigger.into_iter().chain(marks).collect()
}

/// An occurrence of a limit, with its value and what is required of it.
pub(crate) fn dimension(
    capture: &Capture,
    bound: &BoundLimit,
    result: &LimitResult,
    occurrence: &Occurrence,
) -> Dimension {
    let span = bound.span(capture, Rule::Proven);
    let known = occurrence.value(capture.base()).zip(occurrence.bounds(&span));
    let tick = capture.base().tick();
    let value = known.map_or(String::new(), |(value, bounds)| uncertain(value, bounds, tick));
    let verdict = match occurrence.verdict {
        Verdict::Fail => "FAIL",
        Verdict::Pass => "pass",
        Verdict::Inconclusive | Verdict::NotSeen => "inconclusive",
    };
    Dimension {
        from: occurrence.start,
        to: occurrence.end,
        text: format!("{} {value}, required {}: {verdict}", result.symbol, result.required),
        violated: occurrence.verdict == Verdict::Fail,
        signals: bound.signals(),
    }
}

/// The serial buses of a record's setup, then its exchanges.
pub(crate) fn frame_buses(job: &Job) -> impl Iterator<Item = &SerialBus> {
    job.setup.iter().flat_map(|setup| setup.serial.iter().chain(&setup.exchanged))
}

/// The thresholds of the lines that a setup makes from analog ones.
pub(crate) fn levels(job: &Job) -> Vec<(AnalogId, Voltage)> {
    let lines = job.setup.iter().flat_map(|setup| &setup.lines);
    let made = lines.filter_map(|line| match line.source {
        LevelSource::Analog { analog, .. } => Some((analog, line.line.threshold?.voltage())),
        LevelSource::Input | LevelSource::LeftOut => None,
    });
    made.collect()
}

impl RowKind {
    /// The row in its record; `None` where that has no such bus.
    pub(crate) fn source(self, job: &Job) -> Option<RowSource<'_>> {
        Some(match self {
            RowKind::Line(line) => RowSource::Line(line),
            RowKind::Bus(bus) => RowSource::Bus(bus),
            RowKind::Curve(bus) => RowSource::Curve(bus),
            RowKind::Analog(line) => RowSource::Analog(line),
            RowKind::Frames(place) => RowSource::Frames(frame_buses(job).nth(place)?),
        })
    }
}

/// All rows: a bus stands for its lines, and frames below the lines that they are on.
pub(crate) fn all(job: &Job) -> Vec<RowKind> {
    let capture = &job.capture;
    if capture.lines().is_empty() && capture.analog_lines().is_empty() {
        // Before anything is recorded, a setup's buses have no lines.
        return Vec::new();
    }
    let grouped = |line: LineId| capture.buses().iter().any(|bus| bus.lines.contains(&line));
    let lines = (0..capture.lines().len()).map(LineId).filter(|line| !grouped(*line)).map(RowKind::Line);
    let buses = (0..capture.buses().len()).map(|bus| RowKind::Bus(BusId(bus)));
    let analog = (0..capture.analog_lines().len()).map(|line| RowKind::Analog(AnalogId(line)));
    let mut rows: Vec<RowKind> = lines.chain(buses).chain(analog).collect();
    let serial = job.setup.as_ref().map_or(0, |setup| setup.serial.len());
    for (place, bus) in frame_buses(job).enumerate().take(serial) {
        // Its frames stand under the last of its lines.
        let own = |row: &RowKind| matches!(row, RowKind::Line(line) if bus.lines().contains(line));
        let at = rows.iter().rposition(own).map_or(rows.len(), |at| at + 1);
        rows.insert(at, RowKind::Frames(place));
    }
    for (place, exchange) in frame_buses(job).enumerate().skip(serial) {
        // It stands above the first of its buses.
        let own = |row: &RowKind| match row {
            RowKind::Frames(bus) => frame_buses(job)
                .nth(*bus)
                .is_some_and(|bus| bus.lines().iter().all(|line| exchange.lines().contains(line))),
            _ => false,
        };
        let at = rows.iter().position(own).unwrap_or(rows.len());
        rows.insert(at, RowKind::Frames(place));
    }
    rows
}

/// The rows of these names.
pub(crate) fn named(job: &Job, names: &[String]) -> Result<Vec<RowKind>, Error> {
    let capture = &job.capture;
    let find = |name: &String| {
        if let Some(place) = frame_buses(job).position(|bus| bus.name() == *name) {
            return Ok(RowKind::Frames(place));
        }
        match (capture.bus_named(name), capture.analog_named(name)) {
            (Some(bus), _) => Ok(RowKind::Bus(bus)),
            (_, Some(line)) => Ok(RowKind::Analog(line)),
            _ => capture.line_named(name).map(RowKind::Line),
        }
    };
    names.iter().map(find).collect()
}
