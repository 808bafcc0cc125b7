//! What is seen of a record: which stretch of it, which rows, and where the cursors are. Nothing here knows a terminal.

mod rows;
mod seek;

use deep_tap::bus::Frame;
use deep_tap::capture::{Capture, Note};
use deep_tap::draw::View;
use deep_tap::job::Job;
use deep_tap::known::{Instants, Precision, Rule};
use deep_tap::line::{BusId, LineId, Signal};
use deep_tap::quantity::{Rational, Time, rough, uncertain};
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};

use crate::rows::{RowKind, all, frame_buses};
use crate::words::counted;

/// Fewest ticks that are shown.
const NEAREST: u64 = 8;
/// Most edges on the lines of a bus in a view of which frames are decoded.
pub(in crate::view) const MOST_DECODED: u64 = 20_000;

/// What a search looks for.
pub(in crate::view) struct Search {
    pub(in crate::view) text: String,
    program: deep_tap::event::TimedProgram,
}

/// A place in time that somebody chose, and the line whose edge it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::view) struct Cursor {
    pub(in crate::view) tick: Tick,
    pub(in crate::view) signal: Option<Signal>,
}

/// A record being looked at.
pub(in crate::view) struct Viewer {
    pub(in crate::view) job: Job,
    /// What is marked in the record, by its setup too; looked for once.
    pub(in crate::view) marks: Vec<Note>,
    pub(in crate::view) rows: Vec<RowKind>,
    /// Buses whose lines are shown besides.
    opened: Vec<BusId>,
    pub(in crate::view) selected: usize,
    start: u64,
    span: u64,
    /// Columns of the waveforms, as last drawn.
    pub(in crate::view) columns: usize,
    pub(in crate::view) cursor: Cursor,
    pub(in crate::view) anchor: Option<Cursor>,
    pub(in crate::view) search: Option<Search>,
    /// All violations, once they were asked for: from where to where, and what.
    wrong: Option<Vec<(Tick, Tick, String)>>,
    /// Something to be said once.
    pub(in crate::view) message: Option<String>,
}

impl Viewer {
    /// The whole record, with the cursor at the trigger where it has one.
    pub(in crate::view) fn new(job: Job) -> Viewer {
        let capture = &job.capture;
        let zero = capture.base().zero_at().clamp(0, i64::try_from(capture.len()).unwrap_or(i64::MAX));
        let cursor = Cursor { tick: Tick(zero as u64), signal: None };
        let rows = all(&job);
        let span = capture.len().max(1);
        let marks = job.marks();
        Viewer {
            job,
            marks,
            rows,
            opened: Vec::new(),
            selected: 0,
            start: 0,
            span,
            columns: 1,
            cursor,
            anchor: None,
            search: None,
            wrong: None,
            message: None,
        }
    }

    /// Another record of the same setup in its place: the same rows, and the same stretch around time zero.
    pub(in crate::view) fn replace(&mut self, job: Job) {
        let from_zero = self.start as i64 - self.job.capture.base().zero_at();
        let same = job.capture.lines().len() == self.job.capture.lines().len();
        let (zero, len) = (job.capture.base().zero_at(), job.capture.len());
        let first = self.job.capture.is_empty();
        self.marks = job.marks();
        self.job = job;
        if !same || self.rows.is_empty() {
            self.rows = all(&self.job);
        }
        self.start = u64::try_from(zero.saturating_add(from_zero)).unwrap_or(0);
        self.span = self.span.min(len.max(1));
        if first {
            self.whole();
        }
        self.cursor = Cursor { tick: Tick(u64::try_from(zero).unwrap_or(0)), signal: None };
        self.anchor = None;
        self.wrong = None;
        let text = self.search.take().map(|search| search.text);
        if let Some(text) = text {
            // What cannot be looked for in this record is no longer looked for.
            let _ = self.look_for(&text);
        }
        self.clamp();
    }

    /// Refuses what cannot be asked of nothing.
    pub(in crate::view) fn must_be_recorded(&self) -> Result<(), Error> {
        match self.capture().is_empty() {
            true => Err(Error::new(ErrorKind::Unknown, "nothing is recorded yet")),
            false => Ok(()),
        }
    }

    fn capture(&self) -> &Capture {
        &self.job.capture
    }

    fn len(&self) -> u64 {
        self.capture().len().max(1)
    }

    /// The stretch that is shown.
    pub(in crate::view) fn view(&self) -> View {
        let end = (self.start + self.span).min(self.len());
        View { start: Tick(self.start), end: Tick(end), columns: self.columns.max(1) }
    }

    fn clamp(&mut self) {
        let len = self.len();
        self.span = self.span.clamp(NEAREST.min(len), len);
        self.start = self.start.min(len - self.span);
        self.cursor.tick = Tick(self.cursor.tick.0.min(len));
        self.selected = self.selected.min(self.rows.len().saturating_sub(1));
    }

    /// Shows more or less, with the cursor where it is on the screen.
    pub(in crate::view) fn zoom(&mut self, nearer: bool) {
        let view = self.view();
        if view.column_of(self.cursor.tick).is_none() {
            self.cursor = Cursor { tick: Tick(self.start + self.span / 2), signal: None };
        }
        let before = self.cursor.tick.0.saturating_sub(self.start);
        let (span, kept) = match nearer {
            true => (self.span / 2, before / 2),
            false => (self.span.saturating_mul(2), before.saturating_mul(2)),
        };
        self.span = span.max(NEAREST);
        self.start = self.cursor.tick.0.saturating_sub(kept);
        self.clamp();
    }

    /// Everything.
    pub(in crate::view) fn whole(&mut self) {
        (self.start, self.span) = (0, self.len());
    }

    /// Moves what is shown by a share of it, with the cursor.
    pub(in crate::view) fn pan(&mut self, later: bool) {
        let by = (self.span / 2).max(1);
        let moved = |at: u64| if later { at.saturating_add(by) } else { at.saturating_sub(by) };
        let start = self.start;
        self.start = moved(self.start);
        self.clamp();
        let by = self.start as i64 - start as i64;
        self.cursor = Cursor { tick: Tick(self.cursor.tick.0.saturating_add_signed(by)), signal: None };
        self.clamp();
    }

    /// Moves the cursor by columns.
    pub(in crate::view) fn step(&mut self, columns: i64) {
        let per_column = (self.span / self.columns.max(1) as u64).max(1);
        let by = columns.saturating_mul(i64::try_from(per_column).unwrap_or(i64::MAX));
        self.put(Tick(self.cursor.tick.0.saturating_add_signed(by)), None);
    }

    /// Puts the cursor there, and shows it.
    pub(in crate::view) fn put(&mut self, tick: Tick, signal: Option<Signal>) {
        self.cursor = Cursor { tick: Tick(tick.0.min(self.len())), signal };
        let inside = (self.start..self.start + self.span).contains(&self.cursor.tick.0);
        if !inside {
            self.start = self.cursor.tick.0.saturating_sub(self.span / 2);
        }
        self.clamp();
    }

    /// Puts the cursor where something begins and the other one where it ends, both in what is shown.
    pub(in crate::view) fn put_between(&mut self, from: Tick, to: Tick) {
        let length = to.0.saturating_sub(from.0);
        self.span = self.span.max(length.saturating_mul(2));
        // What would not be seen is drawn nearer: it takes a sixth of the screen, or its tick a column.
        let nearer = length.saturating_mul(6).max(self.columns.max(1) as u64);
        if nearer < self.span / 4 {
            self.span = nearer;
            self.start = from.0.saturating_sub(nearer / 3);
        }
        self.clamp();
        self.put(to, None);
        self.put(from, None);
        if to.0 >= self.start + self.span {
            self.start = from.0.saturating_sub(self.span / 4);
            self.clamp();
        }
        self.anchor = (length > 0).then_some(Cursor { tick: to, signal: None });
    }

    /// Puts the cursor into a column.
    pub(in crate::view) fn put_at_column(&mut self, column: usize) {
        let tick = self.view().tick_of(column.min(self.columns.saturating_sub(1)));
        self.put(tick, None);
    }

    /// Puts the cursor at a place: a time, a mark, the first occurrence of an event.
    pub(in crate::view) fn go_to(&mut self, place: &str) -> Result<(), Error> {
        self.must_be_recorded()?;
        let tick = self.job.place(place, Tick(0))?;
        self.put(tick, None);
        Ok(())
    }

    /// The trigger, or the zero of times.
    pub(in crate::view) fn go_to_zero(&mut self) {
        let zero = self.capture().base().zero_at();
        self.put(Tick(u64::try_from(zero).unwrap_or(0)), None);
    }

    /// Remembers where the cursor is, or forgets it.
    pub(in crate::view) fn drop_anchor(&mut self) {
        self.anchor = match self.anchor {
            Some(anchor) if anchor.tick == self.cursor.tick => None,
            _ => Some(self.cursor),
        };
    }

    pub(in crate::view) fn selected_row(&self) -> Option<RowKind> {
        self.rows.get(self.selected).copied()
    }

    pub(in crate::view) fn select(&mut self, down: bool) {
        self.selected = if down { self.selected.saturating_add(1) } else { self.selected.saturating_sub(1) };
        self.clamp();
    }

    pub(in crate::view) fn select_row(&mut self, row: usize) {
        self.selected = row;
        self.clamp();
    }

    /// Whether the frames of a bus can be decoded at once in what is shown.
    pub(in crate::view) fn decodes(&self, place: usize) -> bool {
        let view = self.view();
        let Some(bus) = frame_buses(&self.job).nth(place) else { return false };
        let edges = |line: &LineId| self.capture().trace(*line).count(view.start..view.end);
        bus.lines().iter().map(edges).fold(0, u64::saturating_add) <= MOST_DECODED
    }

    /// The level or the value of a row at the cursor.
    pub(in crate::view) fn value_at_cursor(&self, row: RowKind) -> String {
        let capture = self.capture();
        let tick = Tick(self.cursor.tick.0.min(capture.len().saturating_sub(1)));
        match row {
            RowKind::Line(line) => match capture.trace(line).level_at(tick).bit() {
                Some(true) => "1".to_string(),
                Some(false) => "0".to_string(),
                None => "?".to_string(),
            },
            RowKind::Bus(bus) | RowKind::Curve(bus) => {
                let bus = &capture.buses()[bus.0];
                bus.show(capture.bus_value(bus, tick))
            }
            RowKind::Analog(line) => {
                let volts = capture.analog(line).voltage_at(tick);
                volts.map_or("?".to_string(), |volts| format!("{:.3} V", volts.to_f64()))
            }
            RowKind::Frames(_) => String::new(),
        }
    }

    /// The frame of a bus under the cursor.
    pub(in crate::view) fn frame_at_cursor(&self, place: usize) -> Option<Frame> {
        let bus = frame_buses(&self.job).nth(place).filter(|_| self.decodes(place))?;
        let at = self.cursor.tick;
        let window = at..Tick(at.0.saturating_add(1).min(self.capture().len()));
        bus.frames(self.capture(), window).ok()?.find(|frame| frame.start <= at && at <= frame.end)
    }

    /// The time from the anchor to the cursor, with its bounds where both are edges.
    pub(in crate::view) fn difference(&self) -> Option<String> {
        let anchor = self.anchor?;
        let base = self.capture().base();
        let (from, to) = (anchor.tick.min(self.cursor.tick), anchor.tick.max(self.cursor.tick));
        let length = base.length_of(to.since(from));
        let bounds = anchor.signal.zip(self.cursor.signal).and_then(|(one, other)| {
            let (one, other) = (Instants::edges_of(one), Instants::edges_of(other));
            let precision = Precision::of(self.capture(), Rule::Proven);
            precision.between(&one, &other).length(to.since(from))
        });
        let mut text = match bounds {
            Some(bounds) => uncertain(length.into(), bounds.map(Into::into), base.tick()),
            None => length.rounded(base.tick()),
        };
        if let Some(RowKind::Line(line)) = self.selected_row() {
            let edges = self.capture().trace(line).count(from..to);
            let name = &self.capture().line(line).name;
            text.push_str(&format!(", {} of {name}", counted(edges, "edge")));
            if let Some(rate) = frequency(length, edges) {
                text.push_str(&format!(", {rate}"));
            }
        }
        Some(text)
    }

    /// A name in front of each row.
    pub(in crate::view) fn name_of(&self, row: RowKind) -> String {
        let capture = self.capture();
        match row {
            RowKind::Line(line) => capture.line(line).name.clone(),
            RowKind::Bus(bus) | RowKind::Curve(bus) => capture.buses()[bus.0].name.clone(),
            RowKind::Analog(line) => capture.analog_lines()[line.0].name.clone(),
            RowKind::Frames(place) => {
                frame_buses(&self.job).nth(place).map_or(String::new(), |bus| bus.name().to_string())
            }
        }
    }

    /// The bus whose frames are listed: that of the selected row, else the first.
    pub(in crate::view) fn listed_bus(&self) -> Option<usize> {
        match self.selected_row() {
            Some(RowKind::Frames(place)) => Some(place),
            _ => frame_buses(&self.job).next().map(|_| 0),
        }
    }

    /// What is seen, as options of `show`.
    pub(in crate::view) fn options(&self) -> Result<(String, String, Vec<String>), Error> {
        let view = self.view();
        let text = |tick: Tick| self.capture().base().text_of(tick).replace(' ', "");
        let names: Vec<String> = self.rows.iter().map(|row| self.name_of(*row)).collect();
        if names.is_empty() {
            return Err(Error::new(ErrorKind::Unknown, "there is nothing to draw"));
        }
        Ok((text(view.start), text(view.end), names))
    }
}

/// How often a line repeats that has so many edges in a time.
fn frequency(length: Time, edges: u64) -> Option<String> {
    let periods = Rational::new((edges / 2).into(), 1)?.to_f64();
    (edges >= 4 && length > Time::ZERO)
        .then(|| format!("about {}", rough(periods / length.to_f64(), 3, "Hz")))
}
