//! A capture as a whole.

use std::ops::Range;
use std::sync::{Arc, Mutex};

use super::analog::{AnalogBuilder, AnalogTrace};
use super::crossing::{Crossings, spread};
use super::merged::BusValues;
use super::trace::Trace;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::line::{
    AnalogId, AnalogLine, AnalogScale, Bus, BusId, Crossing, Level, Line, LineId, Side, Threshold, Value,
};
use crate::time::{Rate, Resolution, Tick, Time, TimeBase, Voltage};

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
    analog_lines: Vec<AnalogLine>,
    analog_traces: Vec<Arc<AnalogTrace>>,
    crossings: Crossings,
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
            analog_lines: Vec::new(),
            analog_traces: Vec::new(),
            crossings: Crossings::default(),
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

    /// One line over time, or an analog line as the levels that a [`Crossing`] makes of it: unknown
    /// throughout where there is no such analog line.
    ///
    /// # Panics
    /// When the id of a line is of another capture and too large, as indexing does.
    pub fn trace(&self, line: LineId) -> &Trace {
        match Crossing::of_line(line) {
            None => &self.traces[line.0],
            Some(crossing) => self.crossings.trace(crossing, || self.levels(crossing)),
        }
    }

    fn levels(&self, crossing: Crossing) -> Trace {
        let id = crossing.analog().0;
        match self.analog_lines.get(id).zip(self.analog_traces.get(id)) {
            Some((line, analog)) => analog.levels(crossing.gate(analog.scale(), line.hysteresis), self.len),
            None => Trace::constant(Level::Unknown, self.len),
        }
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
    /// that show it, at the most. The whole record where that cannot be said.
    pub fn crossing_spread(&self, crossing: Crossing) -> Time {
        let analog = self.analog_traces.get(crossing.analog().0);
        let ticks = analog.and_then(|analog| spread(analog, crossing, self.trace(crossing.line())));
        self.base.length_of(i64::try_from(ticks.unwrap_or(self.len)).unwrap_or(i64::MAX))
    }

    /// The same capture, with instants known less well by `extra`.
    #[must_use]
    pub fn blurred(&self, extra: Time) -> Capture {
        let sum = self.resolution.extra.to_rational().checked_add(extra.to_rational());
        let extra = sum.map_or(self.duration(), Time::from_rational);
        Capture {
            base: self.base,
            len: self.len,
            resolution: Resolution { extra, ..self.resolution },
            lines: self.lines.clone(),
            traces: self.traces.clone(),
            buses: self.buses.clone(),
            analog_lines: self.analog_lines.clone(),
            analog_traces: self.analog_traces.clone(),
            crossings: Crossings::default(),
            origin: self.origin.clone(),
            history: self.history.clone(),
            attachments: self.attachments.clone(),
            remarks: self.remarks.clone(),
            damage: self.damage.clone(),
        }
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

    /// Adds an analog line with its trace. All analog lines of a capture are sampled at the same
    /// ticks.
    pub fn analog(mut self, line: AnalogLine, trace: impl Into<Arc<AnalogTrace>>) -> Self {
        self.capture.analog_lines.push(line);
        self.capture.analog_traces.push(trace.into());
        self
    }

    /// Adds an analog line whose samples are given later, or not at all: its scale, and ticks from
    /// one sample to the next.
    pub fn analog_to_come(self, line: AnalogLine, scale: AnalogScale, every: u64) -> Self {
        self.analog(line, AnalogBuilder::new().finish(scale, 0, every))
    }

    /// Gives the analog lines their traces, in the order of their ids.
    pub fn replace_analog(mut self, traces: Vec<AnalogTrace>) -> Self {
        for (old, new) in self.capture.analog_traces.iter_mut().zip(traces) {
            *old = Arc::new(new);
        }
        self
    }

    /// Adds a digital line that an analog one makes at a threshold, with the analog line's
    /// hysteresis around it, and notes that in the history.
    ///
    /// # Errors
    /// When there is no such analog line; the help suggests the nearest.
    pub fn derive_line(mut self, name: &str, analog: &str, threshold: Voltage) -> Result<Self> {
        let capture = &mut self.capture;
        let Some(id) = capture.analog_named(analog) else {
            let known = capture.analog_lines.iter().map(|line| line.name.as_str());
            let error = Error::new(ErrorKind::Unknown, format!("the capture has no analog line '{analog}'"));
            return Err(error.with_help(match capture.analog_lines.is_empty() {
                true => "it has no analog lines at all".to_string(),
                false => suggest(analog, known, "analog line"),
            }));
        };
        let Some(crossing) = Crossing::new(id, threshold, Side::Both) else {
            let error = Error::new(ErrorKind::Range, format!("{threshold} cannot be a threshold"));
            return Err(error.with_help("give whole microvolts, up to 2 kV"));
        };
        let line = &capture.analog_lines[id.0];
        let trace = &capture.analog_traces[id.0];
        let levels = trace.levels(crossing.gate(trace.scale(), line.hysteresis), capture.len);
        let ticks = spread(trace, crossing, &levels).unwrap_or(capture.len);
        let extra = capture.base.length_of(i64::try_from(ticks).unwrap_or(i64::MAX));
        capture.history.push(format!(
            "line {name} made from analog line {analog} at {threshold} with a hysteresis of {}; its edges \
             are known {extra} less well",
            line.hysteresis
        ));
        let threshold = Some(Threshold::Volts(threshold));
        let line = Line { threshold, extra, ..Line::named(name) };
        Ok(self.line(line, levels))
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
        let mut capture = self.capture;
        // Their ids come after those of the lines, which may be others now.
        capture.crossings = Crossings::default();
        let wrong = |message: String| Err(Error::new(ErrorKind::Capture, message));
        if capture.len > crate::time::MAX_TICKS || capture.base.zero().0 > crate::time::MAX_TICKS {
            return wrong(format!("{} ticks are more than a capture can hold", capture.len));
        }
        let analog = capture.analog_lines.iter().map(|line| line.name.as_str());
        let mut names: Vec<&str> = capture.lines.iter().map(|l| l.name.as_str()).chain(analog).collect();
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
        let grid = |trace: &Arc<AnalogTrace>| (trace.first(), trace.every(), trace.len());
        let grids = capture.analog_traces.windows(2).zip(&capture.analog_lines);
        if let Some((_, line)) = grids.into_iter().find(|(pair, _)| grid(&pair[0]) != grid(&pair[1])) {
            let message =
                format!("analog line '{}' was not sampled at the same ticks as the next", line.name);
            return wrong(message);
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
