//! A capture as a whole.

use std::ops::Range;
use std::sync::{Arc, Mutex};

use super::analog::AnalogTrace;
use super::builder::TraceBuilder;
use super::crossing::{MadeSignals, spread};
use super::trace::Trace;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::line::{
    AnalogId, AnalogLine, Bus, BusId, Crossing, Level, Line, LineId, NameIndex, NameMeant, Narrowest, Radix,
    Signal, Value, meant, several,
};
use crate::quantity::{Rate, Time, Voltage};
use crate::time::{Moment, Resolution, Tick, TimeBase};

/// Where a capture comes from.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Origin {
    /// The instrument's identity, or what made the record.
    pub source: String,
    /// The sample rates that the instrument offers for this many inputs, rising; empty when unknown.
    pub rates: Vec<Rate>,
    /// The trigger, in the event language.
    pub trigger: Option<String>,
    /// When it was recorded.
    pub made: Option<Moment>,
}

/// What somebody noted at an instant of a record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    /// A short name, by which the instant can be asked for.
    pub name: String,
    /// The instant.
    pub at: Tick,
    /// What is to be said of it; may be empty.
    pub text: String,
}

/// A text that a capture carries so that it explains itself: the setup, a limits file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attachment {
    /// The name by which other texts refer to it.
    pub name: String,
    /// The text.
    pub text: String,
}

/// A stretch of a capture file that could not be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// The ticks that are lost.
    pub ticks: Range<Tick>,
    /// The lines that are lost there; empty when all are.
    pub lines: Vec<LineId>,
    /// What was found.
    pub what: String,
}

/// Damage found so far; shared between a capture and what its traces are fetched from.
#[derive(Clone, Debug, Default)]
pub struct DamageLog(Arc<Mutex<Vec<Damage>>>);

impl DamageLog {
    /// Adds what was found, once.
    pub fn note(&self, damage: Damage) {
        let mut log = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if !log.contains(&damage) {
            log.push(damage);
        }
    }

    /// What was found so far.
    pub fn found(&self) -> Vec<Damage> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}

/// Recorded traces, with everything needed to understand them.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::line::{Level, Line};
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let mut strobe = TraceBuilder::new(Level::High);
/// strobe.push_edge(Tick(40), Level::Low)?;
/// strobe.push_edge(Tick(44), Level::High)?;
/// let capture = Capture::builder(TimeBase::from_rate("100 MS/s".parse()?)?, 100)
///     .line(Line::named("WE_N"), strobe.finish(100))
///     .build()?;
/// let strobe = capture.line_named("WE_N")?;
/// assert_eq!(capture.trace(strobe).edge_count(), 2);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Debug)]
pub struct Capture {
    pub(super) base: TimeBase,
    pub(super) len: u64,
    pub(super) resolution: Resolution,
    pub(super) lines: Vec<Line>,
    pub(super) traces: Vec<Arc<Trace>>,
    pub(super) buses: Vec<Bus>,
    pub(super) analog_lines: Vec<AnalogLine>,
    pub(super) analog_traces: Vec<Arc<AnalogTrace>>,
    pub(super) made: MadeSignals,
    pub(super) origin: Origin,
    pub(super) history: Vec<String>,
    pub(super) attachments: Vec<Attachment>,
    pub(super) notes: Vec<Note>,
    pub(super) remarks: Vec<String>,
    pub(super) damage: DamageLog,
}

impl Capture {
    /// The clock.
    pub fn base(&self) -> TimeBase {
        self.base
    }

    /// Length in ticks.
    pub fn len(&self) -> u64 {
        self.len
    }

    /// Whether there is not a single tick.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// All ticks.
    pub fn range(&self) -> Range<Tick> {
        Tick(0)..Tick(self.len)
    }

    /// Where the record ends: after the last sample, or at the last instant of an exact record, of which
    /// nothing later is known.
    pub fn end(&self) -> Tick {
        Tick(if self.resolution.sampled { self.len } else { self.len.saturating_sub(1) })
    }

    /// Length in seconds, up to its [`end`](Capture::end).
    pub fn duration(&self) -> Time {
        self.base.length_of(i64::try_from(self.end().0).unwrap_or(i64::MAX))
    }

    /// How well instants are known.
    pub fn resolution(&self) -> &Resolution {
        &self.resolution
    }

    /// All lines, in the order of their ids.
    pub fn lines(&self) -> &[Line] {
        &self.lines
    }

    /// One line.
    ///
    /// # Panics
    /// When the id is of another capture and too large, as indexing does.
    pub fn line(&self, line: LineId) -> &Line {
        &self.lines[line.0]
    }

    /// One line over time, or an analog line as the levels that a [`Crossing`] makes of it: unknown
    /// throughout where there is no such analog line. A line that has a [pull](Line::pull) reads as that
    /// while it floats. Whether a line is driven is unknown throughout in a sampled record.
    ///
    /// # Panics
    /// When the id of a line is of another capture and too large, as indexing does.
    pub fn trace(&self, of: impl Into<Signal>) -> &Trace {
        match of.into() {
            Signal::Line(line) => match self.pulled(line) {
                Some(pull) => self.made.trace(Signal::Line(line), || {
                    mapped(&self.traces[line.0], |level| if level == Level::Floating { pull } else { level })
                }),
                None => &self.traces[line.0],
            },
            Signal::Crossing(crossing) => {
                self.made.trace(Signal::Crossing(crossing), || self.levels(crossing))
            }
            Signal::Drive(line) => self.made.trace(Signal::Drive(line), || self.drive(line)),
        }
    }

    /// The level to which a line is pulled where it floats, if it ever does: an instrument sees no difference.
    fn pulled(&self, line: LineId) -> Option<Level> {
        if self.resolution.sampled {
            return None;
        }
        let pull = self.lines.get(line.0)?.pull.filter(|pull| pull.bit().is_some())?;
        self.traces[line.0].is_ever_floating().then_some(pull)
    }

    /// One line over time as it was recorded, whatever pulls it while it floats.
    ///
    /// # Panics
    /// When the id is of another capture and too large, as indexing does.
    pub fn recorded(&self, line: LineId) -> &Trace {
        &self.traces[line.0]
    }

    fn drive(&self, line: LineId) -> Trace {
        match self.traces.get(line.0).filter(|_| !self.resolution.sampled) {
            Some(trace) => mapped(trace, |level| match level {
                Level::Low | Level::High => Level::High,
                Level::Floating => Level::Low,
                Level::Unknown => Level::Unknown,
            }),
            None => Trace::constant(Level::Unknown, self.len),
        }
    }

    fn levels(&self, crossing: Crossing) -> Trace {
        let id = crossing.analog().0;
        match self.analog_lines.get(id).zip(self.analog_traces.get(id)) {
            Some((line, analog)) => analog.levels(crossing.gate(analog.scale(), line.hysteresis), self.len),
            None => Trace::constant(Level::Unknown, self.len),
        }
    }

    /// The narrowest pulse of a line, as the record shows it or did before it was worked on; or the
    /// narrowest stretch beyond a crossing.
    pub fn narrowest(&self, of: impl Into<Signal>) -> Option<Narrowest> {
        let of = of.into();
        let seen = match of {
            Signal::Line(line) => self.lines.get(line.0).and_then(|line| line.pulses.seen),
            Signal::Crossing(_) | Signal::Drive(_) => None,
        };
        Narrowest::of(seen, self.trace(of).narrowest())
    }

    /// Where a pulse of a single tick begins on a line, as the record shows it or did before it was worked
    /// on; or a stretch of a single tick beyond a crossing.
    pub fn first_single(&self, of: impl Into<Signal>) -> Option<Tick> {
        let of = of.into();
        let line = of.line().and_then(|line| self.lines.get(line.0));
        let seen = line.and_then(|line| line.pulses.seen).filter(|narrow| narrow.ticks <= 1);
        seen.map(|narrow| narrow.at).or_else(|| self.trace(of).first_single())
    }

    /// The traces of all lines, in the order of their ids.
    pub fn traces(&self) -> Vec<&Trace> {
        self.traces.iter().map(Arc::as_ref).collect()
    }

    /// The traces of all lines, and of each analog line that holds its voltages where these change.
    pub(crate) fn traces_with_changes(&self) -> Vec<&Trace> {
        let changes = self.analog_traces.iter().filter_map(|trace| trace.changes());
        self.traces.iter().map(Arc::as_ref).chain(changes).collect()
    }

    /// For each line, which line of another capture has its very trace.
    pub(crate) fn traces_in(&self, other: &Capture) -> Vec<Option<usize>> {
        let of = |trace: &Arc<Trace>| other.traces.iter().position(|known| Arc::ptr_eq(known, trace));
        self.traces.iter().map(of).collect()
    }

    /// The same with the names that the values of these buses have.
    #[must_use]
    pub(crate) fn with_value_names(mut self, buses: &[Bus]) -> Capture {
        for own in &mut self.buses {
            if let Some(bus) =
                buses.iter().find(|bus| bus.name == own.name && bus.lines.len() == own.lines.len())
            {
                own.names = bus.names.clone();
            }
        }
        self
    }

    /// Writes the values of a bus in another way; of a bus that is not there, nothing changes.
    pub fn write_bus_in(&mut self, bus: BusId, radix: Radix) {
        if let Some(bus) = self.buses.get_mut(bus.0) {
            bus.radix = radix;
        }
    }

    /// All buses, in the order of their ids.
    pub fn buses(&self) -> &[Bus] {
        &self.buses
    }

    /// The line with this name, or the only one whose full name ends with it behind a dot: `clk` means
    /// `tb.u1.clk` where nothing else does.
    ///
    /// # Errors
    /// When there is none, or several; the help suggests the nearest, or names them.
    ///
    /// ```
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::line::{Level, LineId};
    /// use deep_tap_core::time::TimeBase;
    ///
    /// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
    /// let strobe = Trace::toggling(Level::High, [40, 44], 100)?;
    /// let capture = Capture::builder(base, 100).line("top.WE_N", strobe).build()?;
    /// assert_eq!(capture.line_named("WE_N")?, LineId(0), "an end of the full name will do");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn line_named(&self, name: &str) -> Result<LineId> {
        let names = self.lines.iter().map(|l| l.name.as_str());
        the_line(meant(names.clone(), name), name, names)
    }

    /// Finds many lines by their names.
    pub(crate) fn line_names(&self) -> LineNames<'_> {
        LineNames(NameIndex::new(self.lines.iter().map(|line| line.name.as_str())))
    }

    /// The bus with this name, or the only one whose full name ends with it behind a dot.
    pub fn bus_named(&self, name: &str) -> Option<BusId> {
        match meant(self.buses.iter().map(|bus| bus.name.as_str()), name) {
            NameMeant::One(number) => Some(BusId(number)),
            NameMeant::Nothing | NameMeant::Several(_) => None,
        }
    }

    /// The value of a bus at a tick.
    pub fn bus_value(&self, bus: &Bus, tick: Tick) -> Value {
        bus.value(|line| self.trace(line).level_at(tick))
    }

    /// All analog lines, in the order of their ids.
    pub fn analog_lines(&self) -> &[AnalogLine] {
        &self.analog_lines
    }

    /// One analog line over time.
    ///
    /// # Panics
    /// When the id is of another capture and too large, as indexing does.
    pub fn analog(&self, line: AnalogId) -> &AnalogTrace {
        &self.analog_traces[line.0]
    }

    /// The analog line with this name, if there is one.
    pub fn analog_named(&self, name: &str) -> Option<AnalogId> {
        self.analog_lines.iter().position(|line| line.name == name).map(AnalogId)
    }

    /// How far the true instants at which an analog line crosses a voltage may lie from the ticks
    /// that show it, at the most; by `off` the voltage itself may be off. The whole record where that
    /// cannot be said.
    pub fn crossing_spread(&self, crossing: Crossing, off: Voltage) -> Time {
        let analog = self.analog_traces.get(crossing.analog().0);
        let ticks = analog.and_then(|analog| spread(analog, crossing, off, self.trace(crossing)));
        self.base.length_of(i64::try_from(ticks.unwrap_or(self.len)).unwrap_or(i64::MAX))
    }

    /// Where the record comes from.
    pub fn origin(&self) -> &Origin {
        &self.origin
    }

    /// What was done to the record since it was made (filters, thresholds), oldest first.
    pub fn history(&self) -> &[String] {
        &self.history
    }

    /// The texts it carries; the first one is the setup, if any.
    pub fn attachments(&self) -> &[Attachment] {
        &self.attachments
    }

    /// What was noted at instants of the record, in their order.
    pub fn notes(&self) -> &[Note] {
        &self.notes
    }

    /// What the user should know about the record, such as signals that were set aside.
    pub fn remarks(&self) -> &[String] {
        &self.remarks
    }

    /// Damage found so far. Stored blocks are read on first touch, so ask after the work is done.
    pub fn damage(&self) -> Vec<Damage> {
        self.damage.found()
    }

    /// Whether the level of a line or crossing is unknown at any tick in `range`.
    pub fn is_unknown_within(&self, of: impl Into<Signal>, range: Range<Tick>) -> bool {
        self.trace(of).is_unknown_within(range)
    }

    /// Total number of edges on all lines.
    pub fn edge_count(&self) -> u64 {
        self.traces.iter().map(|t| t.edge_count()).fold(0, u64::saturating_add)
    }
}

/// The names of a capture's lines, for many questions.
pub(crate) struct LineNames<'a>(NameIndex<'a>);

impl LineNames<'_> {
    /// As [`Capture::line_named`].
    pub(crate) fn line(&self, name: &str) -> Result<LineId> {
        the_line(self.0.meant(name), name, self.0.names())
    }
}

fn the_line<'a>(
    meant: NameMeant,
    name: &str,
    names: impl Iterator<Item = &'a str> + Clone,
) -> Result<LineId> {
    let error = |message: String, help: String| Err(Error::new(ErrorKind::Unknown, message).with_help(help));
    match meant {
        NameMeant::One(number) => Ok(LineId(number)),
        NameMeant::Nothing => {
            error(format!("the capture has no line '{name}'"), suggest(name, names, "line"))
        }
        NameMeant::Several(found) => {
            error(format!("the capture has more than one line '{name}'"), several(&found))
        }
    }
}

/// A trace with another level for each.
fn mapped(trace: &Trace, to: impl Fn(Level) -> Level) -> Trace {
    let mut builder = TraceBuilder::new(to(trace.level_at(Tick(0))));
    for edge in trace.edges(Tick(0)..Tick(trace.len())) {
        // Edges come in order; one that leads to the same level again is none.
        let _ = builder.push_edge(edge.tick, to(edge.to));
    }
    builder.finish(trace.len())
}
