//! A capture as a whole.

use std::ops::Range;
use std::sync::{Arc, Mutex};

use super::merged::BusValues;
use super::trace::Trace;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::line::{Bus, BusId, Level, Line, LineId, Value};
use crate::time::{Rate, Resolution, Tick, Time, TimeBase};

/// Where a capture comes from.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Origin {
    /// The instrument's identity, or what made the record.
    pub source: String,
    /// The sample rates that the instrument offers for this many inputs, rising; empty when unknown.
    pub rates: Vec<Rate>,
    /// The trigger, in the event language.
    pub trigger: Option<String>,
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
    base: TimeBase,
    len: u64,
    resolution: Resolution,
    lines: Vec<Line>,
    traces: Vec<Arc<Trace>>,
    buses: Vec<Bus>,
    origin: Origin,
    history: Vec<String>,
    attachments: Vec<Attachment>,
    remarks: Vec<String>,
    damage: DamageLog,
}

impl Capture {
    /// Starts a capture of `len` ticks.
    pub fn builder(base: TimeBase, len: u64) -> CaptureBuilder {
        let capture = Capture {
            base,
            len,
            resolution: Resolution::SAMPLED,
            lines: Vec::new(),
            traces: Vec::new(),
            buses: Vec::new(),
            origin: Origin::default(),
            history: Vec::new(),
            attachments: Vec::new(),
            remarks: Vec::new(),
            damage: DamageLog::default(),
        };
        CaptureBuilder { capture }
    }

    /// Takes the capture apart to change or add something before building it anew.
    pub fn into_builder(self) -> CaptureBuilder {
        CaptureBuilder { capture: self }
    }

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

    /// Length in seconds.
    pub fn duration(&self) -> Time {
        self.base.length_of(i64::try_from(self.len).unwrap_or(i64::MAX))
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

    /// One line over time.
    ///
    /// # Panics
    /// When the id is of another capture and too large, as indexing does.
    pub fn trace(&self, line: LineId) -> &Trace {
        &self.traces[line.0]
    }

    /// The traces of all lines, in the order of their ids.
    pub fn traces(&self) -> Vec<&Trace> {
        self.traces.iter().map(Arc::as_ref).collect()
    }

    /// All buses, in the order of their ids.
    pub fn buses(&self) -> &[Bus] {
        &self.buses
    }

    /// The line with this name.
    ///
    /// # Errors
    /// When there is none; the help suggests the nearest.
    pub fn line_named(&self, name: &str) -> Result<LineId> {
        self.lines.iter().position(|l| l.name == name).map(LineId).ok_or_else(|| {
            Error::new(ErrorKind::Unknown, format!("the capture has no line '{name}'")).with_help(suggest(
                name,
                self.lines.iter().map(|l| l.name.as_str()),
                "line",
            ))
        })
    }

    /// The bus with this name, if there is one.
    pub fn bus_named(&self, name: &str) -> Option<BusId> {
        self.buses.iter().position(|b| b.name == name).map(BusId)
    }

    /// The value of a bus at a tick.
    pub fn bus_value(&self, bus: &Bus, tick: Tick) -> Value {
        bus.value(|line| self.trace(line).level_at(tick))
    }

    /// The values of a bus in a range of ticks: the one in force at its start, then each new one
    /// with the tick it appears at. A clocked bus gives the value that stood just before each
    /// clock edge, repeated values included.
    pub fn bus_values<'a>(&'a self, bus: &'a Bus, range: Range<Tick>) -> BusValues<'a> {
        BusValues::new(self, bus, range)
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

    /// What the user should know about the record, such as signals that were set aside.
    pub fn remarks(&self) -> &[String] {
        &self.remarks
    }

    /// Damage found so far. Stored blocks are read on first touch, so ask after the work is done.
    pub fn damage(&self) -> Vec<Damage> {
        self.damage.found()
    }

    /// Whether the level of a line is unknown at any tick in `range`.
    pub fn is_unknown_within(&self, line: LineId, range: Range<Tick>) -> bool {
        let trace = self.trace(line);
        trace.level_at(range.start) == Level::Unknown || trace.edges(range).any(|e| e.to == Level::Unknown)
    }

    /// Total number of edges on all lines.
    pub fn edge_count(&self) -> u64 {
        self.traces.iter().map(|t| t.edge_count()).sum()
    }
}

/// Puts a [`Capture`] together.
#[derive(Debug)]
#[must_use]
pub struct CaptureBuilder {
    capture: Capture,
}

impl CaptureBuilder {
    /// Sets the length in ticks.
    pub fn length(mut self, len: u64) -> Self {
        self.capture.len = len;
        self
    }

    /// Adds a line with its trace.
    pub fn line(mut self, line: Line, trace: impl Into<Arc<Trace>>) -> Self {
        self.capture.lines.push(line);
        self.capture.traces.push(trace.into());
        self
    }

    /// Adds a bus of lines added before.
    pub fn bus(mut self, bus: Bus) -> Self {
        self.capture.buses.push(bus);
        self
    }

    /// Replaces all buses.
    pub fn buses(mut self, buses: Vec<Bus>) -> Self {
        self.capture.buses = buses;
        self
    }

    /// Sets how well instants are known; a sampled record without skew otherwise.
    pub fn resolution(mut self, resolution: Resolution) -> Self {
        self.capture.resolution = resolution;
        self
    }

    /// Sets where the record comes from.
    pub fn origin(mut self, origin: Origin) -> Self {
        self.capture.origin = origin;
        self
    }

    /// Sets what was done to the record.
    pub fn history(mut self, history: Vec<String>) -> Self {
        self.capture.history = history;
        self
    }

    /// Sets the texts it carries.
    pub fn attachments(mut self, attachments: Vec<Attachment>) -> Self {
        self.capture.attachments = attachments;
        self
    }

    /// Adds a remark for the user.
    pub fn remark(mut self, remark: impl Into<String>) -> Self {
        self.capture.remarks.push(remark.into());
        self
    }

    /// Sets the log that the traces' source notes damage in.
    pub fn damage(mut self, damage: DamageLog) -> Self {
        self.capture.damage = damage;
        self
    }

    /// Keeps and renames lines: the new record has, for each of `wanted`, the line with that
    /// present name under its new description. Buses are dropped, since their lines may be gone.
    ///
    /// # Errors
    /// When a name is unknown.
    pub fn select(mut self, wanted: Vec<(String, Line)>) -> Result<Self> {
        let capture = &mut self.capture;
        let ids = wanted.iter().map(|(name, _)| capture.line_named(name)).collect::<Result<Vec<_>>>()?;
        capture.traces = ids.iter().map(|id| Arc::clone(&capture.traces[id.0])).collect();
        capture.lines = wanted.into_iter().map(|(_, line)| line).collect();
        capture.buses.clear();
        Ok(self)
    }

    /// Gives lines other traces: one entry per line, `None` keeps what it has.
    pub fn replace_traces(mut self, traces: Vec<Option<Trace>>) -> Self {
        for (old, new) in self.capture.traces.iter_mut().zip(traces) {
            if let Some(new) = new {
                *old = Arc::new(new);
            }
        }
        self
    }

    /// The finished capture.
    ///
    /// # Errors
    /// When two lines have one name, a bus names a line that is not there, a trace has another
    /// length than the capture, or time zero or the length is out of range.
    pub fn build(self) -> Result<Capture> {
        let capture = self.capture;
        let wrong = |message: String| Err(Error::new(ErrorKind::Capture, message));
        if capture.len > crate::time::MAX_TICKS || capture.base.zero().0 > crate::time::MAX_TICKS {
            return wrong(format!("{} ticks are more than a capture can hold", capture.len));
        }
        let mut names: Vec<&str> = capture.lines.iter().map(|l| l.name.as_str()).collect();
        names.sort_unstable();
        if let Some(pair) = names.windows(2).find(|pair| pair[0] == pair[1]) {
            return wrong(format!("two lines are called '{}'", pair[0]));
        }
        for (line, trace) in capture.lines.iter().zip(&capture.traces) {
            if trace.len() != capture.len {
                let message =
                    format!("line '{}' has {} ticks, the capture {}", line.name, trace.len(), capture.len);
                return wrong(message);
            }
        }
        for bus in &capture.buses {
            let mut lines = bus.lines.iter().copied().chain(bus.clock.map(|(line, _)| line));
            if let Some(line) = lines.find(|l| l.0 >= capture.lines.len()) {
                return wrong(format!("bus '{}' names line number {}, which is not there", bus.name, line.0));
            }
        }
        Ok(capture)
    }
}
