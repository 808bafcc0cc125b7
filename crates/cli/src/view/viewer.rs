//! What is seen of a record: which stretch of it, which rows, and where the cursors are. Nothing here knows a terminal.

use deep_tap::bus::Frame;
use deep_tap::capture::{Capture, Edge, Note};
use deep_tap::draw::View;
use deep_tap::event::Program;
use deep_tap::job::Job;
use deep_tap::known::{Instants, Precision, Rule};
use deep_tap::limit;
use deep_tap::line::{BusId, LineId, Radix, Signal};
use deep_tap::quantity::{Rational, Time, rough, uncertain};
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};

use crate::rows::{RowKind, all, frame_buses};
use crate::words::counted;

/// Fewest ticks that are shown.
const NEAREST: u64 = 8;
/// Most edges on the lines of a bus in a view of which frames are decoded.
pub(super) const MOST_DECODED: u64 = 20_000;
/// Most ticks of a view in which hits of a search are looked for.
const MOST_SEARCHED: u64 = 1 << 26;
/// Most violations of a limit that can be gone to.
const MOST_WRONG: usize = 100_000;
/// Most hits that are drawn.
const MOST_HITS: usize = 1000;

/// What a search looks for.
pub(super) struct Search {
    pub(super) text: String,
    program: deep_tap::event::TimedProgram,
}

/// A place in time that somebody chose, and the line whose edge it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Cursor {
    pub(super) tick: Tick,
    pub(super) signal: Option<Signal>,
}

/// A record being looked at.
pub(super) struct Viewer {
    pub(super) job: Job,
    /// What is marked in the record, by its setup too; looked for once.
    pub(super) marks: Vec<Note>,
    pub(super) rows: Vec<RowKind>,
    /// Buses whose lines are shown besides.
    opened: Vec<BusId>,
    pub(super) selected: usize,
    start: u64,
    span: u64,
    /// Columns of the waveforms, as last drawn.
    pub(super) columns: usize,
    pub(super) cursor: Cursor,
    pub(super) anchor: Option<Cursor>,
    pub(super) search: Option<Search>,
    /// All violations, once they were asked for: from where to where, and what.
    wrong: Option<Vec<(Tick, Tick, String)>>,
    /// Something to be said once.
    pub(super) message: Option<String>,
}

impl Viewer {
    /// The whole record, with the cursor at the trigger where it has one.
    pub(super) fn new(job: Job) -> Viewer {
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
    pub(super) fn replace(&mut self, job: Job) {
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
    pub(super) fn must_be_recorded(&self) -> Result<(), Error> {
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
    pub(super) fn view(&self) -> View {
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
    pub(super) fn zoom(&mut self, nearer: bool) {
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
    pub(super) fn whole(&mut self) {
        (self.start, self.span) = (0, self.len());
    }

    /// Moves what is shown by a share of it, with the cursor.
    pub(super) fn pan(&mut self, later: bool) {
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
    pub(super) fn step(&mut self, columns: i64) {
        let per_column = (self.span / self.columns.max(1) as u64).max(1);
        let by = columns.saturating_mul(i64::try_from(per_column).unwrap_or(i64::MAX));
        self.put(Tick(self.cursor.tick.0.saturating_add_signed(by)), None);
    }

    /// Puts the cursor there, and shows it.
    pub(super) fn put(&mut self, tick: Tick, signal: Option<Signal>) {
        self.cursor = Cursor { tick: Tick(tick.0.min(self.len())), signal };
        let inside = (self.start..self.start + self.span).contains(&self.cursor.tick.0);
        if !inside {
            self.start = self.cursor.tick.0.saturating_sub(self.span / 2);
        }
        self.clamp();
    }

    /// Puts the cursor where something begins and the other one where it ends, both in what is shown.
    pub(super) fn put_between(&mut self, from: Tick, to: Tick) {
        let length = to.0.saturating_sub(from.0);
        self.span = self.span.max(length.saturating_mul(2));
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
    pub(super) fn put_at_column(&mut self, column: usize) {
        let tick = self.view().tick_of(column.min(self.columns.saturating_sub(1)));
        self.put(tick, None);
    }

    /// Puts the cursor at a place: a time, a mark, the first occurrence of an event.
    pub(super) fn go_to(&mut self, place: &str) -> Result<(), Error> {
        self.must_be_recorded()?;
        let tick = self.job.place(place, Tick(0))?;
        self.put(tick, None);
        Ok(())
    }

    /// The trigger, or the zero of times.
    pub(super) fn go_to_zero(&mut self) {
        let zero = self.capture().base().zero_at();
        self.put(Tick(u64::try_from(zero).unwrap_or(0)), None);
    }

    /// Remembers where the cursor is, or forgets it.
    pub(super) fn drop_anchor(&mut self) {
        self.anchor = match self.anchor {
            Some(anchor) if anchor.tick == self.cursor.tick => None,
            _ => Some(self.cursor),
        };
    }

    pub(super) fn selected_row(&self) -> Option<RowKind> {
        self.rows.get(self.selected).copied()
    }

    pub(super) fn select(&mut self, down: bool) {
        self.selected = if down { self.selected.saturating_add(1) } else { self.selected.saturating_sub(1) };
        self.clamp();
    }

    pub(super) fn select_row(&mut self, row: usize) {
        self.selected = row;
        self.clamp();
    }

    /// Takes the selected row away.
    pub(super) fn hide(&mut self) {
        if self.selected < self.rows.len() && self.rows.len() > 1 {
            self.rows.remove(self.selected);
        }
        self.clamp();
    }

    /// All rows, in their order.
    pub(super) fn show_all(&mut self) {
        self.rows = all(&self.job);
        self.opened.clear();
        self.clamp();
    }

    /// Exchanges the selected row with the one beside it.
    pub(super) fn move_row(&mut self, down: bool) {
        let other = if down { self.selected + 1 } else { self.selected.wrapping_sub(1) };
        if other < self.rows.len() && self.selected < self.rows.len() {
            self.rows.swap(self.selected, other);
            self.selected = other;
        }
    }

    /// Shows the lines of the selected bus below it, or takes them away.
    pub(super) fn open_bus(&mut self) {
        let Some(RowKind::Bus(bus) | RowKind::Curve(bus)) = self.selected_row() else {
            self.message = Some("select a group of lines to open it".to_string());
            return;
        };
        let lines: Vec<RowKind> =
            self.capture().buses()[bus.0].lines.iter().map(|l| RowKind::Line(*l)).collect();
        match self.opened.iter().position(|opened| *opened == bus) {
            Some(place) => {
                self.opened.remove(place);
                let at = self.selected + 1;
                while self.rows.get(at).is_some_and(|row| lines.contains(row)) {
                    self.rows.remove(at);
                }
            }
            None => {
                self.opened.push(bus);
                let at = self.selected + 1;
                self.rows.splice(at..at, lines);
            }
        }
    }

    /// Draws the selected bus as a curve, or as its values again.
    pub(super) fn turn_curve(&mut self) {
        match self.selected_row() {
            Some(RowKind::Bus(bus)) => self.rows[self.selected] = RowKind::Curve(bus),
            Some(RowKind::Curve(bus)) => self.rows[self.selected] = RowKind::Bus(bus),
            _ => self.message = Some("select a group of lines to draw it as a curve".to_string()),
        }
    }

    /// The groups of lines that are drawn as curves.
    pub(super) fn curves(&self) -> Vec<String> {
        let curves = self.rows.iter().filter(|row| matches!(row, RowKind::Curve(_)));
        curves.map(|row| self.name_of(*row)).collect()
    }

    /// Puts the cursors at the next violation of a limit, or the one before, and says what it is.
    pub(super) fn next_wrong(&mut self, later: bool) {
        if self.wrong.is_none() {
            match self.all_wrong() {
                Ok(all) => self.wrong = Some(all),
                Err(error) => {
                    self.message = Some(error.message().to_string());
                    return;
                }
            }
        }
        let all = self.wrong.as_deref().unwrap_or_default();
        let at = self.cursor.tick;
        let found = match later {
            true => all.iter().find(|(from, ..)| *from > at),
            false => all.iter().rev().find(|(from, ..)| *from < at),
        };
        match found.cloned() {
            Some((from, to, what)) => {
                self.put_between(from, to);
                self.message = Some(what);
            }
            None if all.is_empty() => self.message = Some("no limit is violated".to_string()),
            None => {
                let side = if later { "after" } else { "before" };
                self.message = Some(format!("no violation {side} the cursor"));
            }
        }
    }

    /// All violations, in order of time.
    fn all_wrong(&self) -> Result<Vec<(Tick, Tick, String)>, Error> {
        self.must_be_recorded()?;
        let capture = self.capture();
        let mut all = Vec::new();
        for bound in self.job.limits(&[] as &[&str])? {
            if bound.check_at(capture.base()).is_err() {
                continue;
            }
            let span = bound.span(capture, Rule::Proven);
            let found = limit::violations(capture, bound, Rule::Proven, MOST_WRONG)?.found;
            all.extend(found.iter().map(|of| {
                let known = of.value(capture.base()).zip(of.bounds(&span));
                let tick = capture.base().tick();
                let value = known.map_or(String::new(), |(value, bounds)| uncertain(value, bounds, tick));
                let what = format!("{}: {value}, required {}", bound.name(), bound.limit.required);
                (of.start, of.end, what)
            }));
        }
        all.sort_by_key(|(from, ..)| *from);
        Ok(all)
    }

    /// Selects the next row whose name has this in it, and shows it where it was hidden.
    pub(super) fn find_row(&mut self, part: &str) -> Result<(), Error> {
        let wanted = part.trim().to_lowercase();
        let has = |viewer: &Viewer, row: &RowKind| viewer.name_of(*row).to_lowercase().contains(&wanted);
        let count = self.rows.len();
        let shown = (1..=count).map(|by| (self.selected + by) % count);
        let found = shown.into_iter().find(|place| has(self, &self.rows[*place]));
        if let Some(place) = found.filter(|_| !wanted.is_empty()) {
            self.selected = place;
            return Ok(());
        }
        let hidden = every(&self.job).into_iter().find(|row| !wanted.is_empty() && has(self, row));
        let Some(row) = hidden else {
            let message = format!("no row is called '{part}'");
            let names: Vec<String> = every(&self.job).iter().map(|row| self.name_of(*row)).collect();
            let help = deep_tap::suggest(part, names.iter().map(String::as_str), "row");
            return Err(Error::new(ErrorKind::Unknown, message).with_help(help));
        };
        let at = (self.selected + 1).min(self.rows.len());
        self.rows.insert(at, row);
        self.selected = at;
        Ok(())
    }

    /// Shows the values of the selected bus in the next way to write them.
    pub(super) fn next_radix(&mut self) {
        let Some(RowKind::Bus(id) | RowKind::Curve(id)) = self.selected_row() else {
            self.message = Some("select a group of lines to write its values in another way".to_string());
            return;
        };
        const ALL: [Radix; 5] = [Radix::Hex, Radix::Binary, Radix::Decimal, Radix::Signed, Radix::Ascii];
        let radix = self.capture().buses()[id.0].radix;
        let now = ALL.iter().position(|known| *known == radix).unwrap_or(0);
        self.job.capture.write_bus_in(id, ALL[(now + 1) % ALL.len()]);
    }

    /// The edge of the selected row after the cursor, or before it; of frames, where one begins.
    pub(super) fn next_edge(&mut self, later: bool) {
        let at = self.cursor.tick;
        let found = match self.selected_row() {
            Some(RowKind::Line(line)) => {
                self.edge_of(&[line], later).map(|tick| (tick, Some(Signal::Line(line))))
            }
            Some(RowKind::Bus(bus) | RowKind::Curve(bus)) => {
                let lines = self.capture().buses()[bus.0].lines.clone();
                self.edge_of(&lines, later).map(|tick| (tick, None))
            }
            Some(RowKind::Frames(place)) => self.frame_begin(place, later).map(|tick| (tick, None)),
            Some(RowKind::Analog(_)) | None => None,
        };
        match found {
            Some((tick, signal)) => self.put(tick, signal),
            None => {
                let (before, at) =
                    (if later { "after" } else { "before" }, self.capture().base().text_of(at));
                self.message = Some(format!("nothing more on this row {before} {at}"));
            }
        }
    }

    fn edge_of(&self, lines: &[LineId], later: bool) -> Option<Tick> {
        let at = self.cursor.tick;
        let edge = |line: &LineId| -> Option<Edge> {
            let trace = self.capture().trace(*line);
            if later { trace.next_edge(at) } else { trace.prev_edge(at) }
        };
        let ticks = lines.iter().filter_map(edge).map(|edge| edge.tick);
        if later { ticks.min() } else { ticks.max() }
    }

    /// Where the next frame of a bus begins, or the one before.
    fn frame_begin(&self, place: usize, later: bool) -> Option<Tick> {
        let bus = frame_buses(&self.job).nth(place)?;
        let (at, len) = (self.cursor.tick, self.capture().len());
        // As far as it takes, in steps that grow.
        let mut reach = self.span.max(NEAREST);
        loop {
            let window = match later {
                true => at..Tick(at.0.saturating_add(reach).min(len)),
                false => Tick(at.0.saturating_sub(reach))..at,
            };
            let begins = bus.frames(self.capture(), window.clone()).ok()?.map(|frame| frame.start);
            let found = match later {
                true => begins.filter(|begin| *begin > at).min(),
                false => begins.filter(|begin| *begin < at).max(),
            };
            let whole = if later { window.end.0 >= len } else { window.start.0 == 0 };
            if found.is_some() || whole {
                return found;
            }
            reach = reach.saturating_mul(4);
        }
    }

    /// Looks for an event from now on.
    pub(super) fn look_for(&mut self, text: &str) -> Result<(), Error> {
        if text.trim().is_empty() {
            self.search = None;
            return Ok(());
        }
        self.must_be_recorded()?;
        let program = Program::compile(text, &self.job.scope())?.at(self.capture().base())?;
        self.search = Some(Search { text: text.to_string(), program });
        Ok(())
    }

    /// Puts the cursor at the next hit of the search, or the one before.
    pub(super) fn next_hit(&mut self, later: bool) {
        let Some(search) = &self.search else {
            self.message = Some("look for an event first: /".to_string());
            return;
        };
        let (at, len) = (self.cursor.tick, self.capture().len());
        let found = match later {
            true => search.program.hits(self.capture(), Tick(at.0.saturating_add(1))..Tick(len)).next(),
            false => {
                let mut reach = self.span.max(1 << 16);
                loop {
                    let from = Tick(at.0.saturating_sub(reach));
                    let last = search.program.hits(self.capture(), from..at).last();
                    if last.is_some() || from.0 == 0 {
                        break last;
                    }
                    reach = reach.saturating_mul(4);
                }
            }
        };
        match found {
            Some(hit) => self.put(hit.tick, None),
            None => {
                let side = if later { "after" } else { "before" };
                self.message = Some(format!("'{}' does not happen {side} the cursor", search.text));
            }
        }
    }

    /// The hits that lie in what is shown; `None` where there is too much of it to look.
    pub(super) fn hits_shown(&self) -> Option<Vec<Tick>> {
        let search = self.search.as_ref()?;
        let view = self.view();
        if view.end.0 - view.start.0 > MOST_SEARCHED {
            return None;
        }
        let hits = search.program.hits(self.capture(), view.start..view.end);
        Some(hits.take(MOST_HITS).map(|hit| hit.tick).collect())
    }

    /// Whether the frames of a bus can be decoded at once in what is shown.
    pub(super) fn decodes(&self, place: usize) -> bool {
        let view = self.view();
        let Some(bus) = frame_buses(&self.job).nth(place) else { return false };
        let edges = |line: &LineId| self.capture().trace(*line).count(view.start..view.end);
        bus.lines().iter().map(edges).fold(0, u64::saturating_add) <= MOST_DECODED
    }

    /// The level or the value of a row at the cursor.
    pub(super) fn value_at_cursor(&self, row: RowKind) -> String {
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
    pub(super) fn frame_at_cursor(&self, place: usize) -> Option<Frame> {
        let bus = frame_buses(&self.job).nth(place).filter(|_| self.decodes(place))?;
        let at = self.cursor.tick;
        let window = at..Tick(at.0.saturating_add(1).min(self.capture().len()));
        bus.frames(self.capture(), window).ok()?.find(|frame| frame.start <= at && at <= frame.end)
    }

    /// The time from the anchor to the cursor, with its bounds where both are edges.
    pub(super) fn difference(&self) -> Option<String> {
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
    pub(super) fn name_of(&self, row: RowKind) -> String {
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
    pub(super) fn listed_bus(&self) -> Option<usize> {
        match self.selected_row() {
            Some(RowKind::Frames(place)) => Some(place),
            _ => frame_buses(&self.job).next().map(|_| 0),
        }
    }

    /// What is seen, as options of `show`.
    pub(super) fn options(&self) -> Result<(String, String, Vec<String>), Error> {
        let view = self.view();
        let text = |tick: Tick| self.capture().base().text_of(tick).replace(' ', "");
        let names: Vec<String> = self.rows.iter().map(|row| self.name_of(*row)).collect();
        if names.is_empty() {
            return Err(Error::new(ErrorKind::Unknown, "there is nothing to draw"));
        }
        Ok((text(view.start), text(view.end), names))
    }
}

/// All there is: the lines of buses, too.
fn every(job: &Job) -> Vec<RowKind> {
    let mut rows = all(job);
    let lines = (0..job.capture.lines().len()).map(|line| RowKind::Line(LineId(line)));
    let more: Vec<RowKind> = lines.filter(|line| !rows.contains(line)).collect();
    rows.extend(more);
    rows
}

/// How often a line repeats that has so many edges in a time.
fn frequency(length: Time, edges: u64) -> Option<String> {
    let periods = Rational::new((edges / 2).into(), 1)?.to_f64();
    (edges >= 4 && length > Time::ZERO)
        .then(|| format!("about {}", rough(periods / length.to_f64(), 3, "Hz")))
}
