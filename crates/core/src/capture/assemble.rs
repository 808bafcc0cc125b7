//! Putting a capture together.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::analog::{AnalogBuilder, AnalogTrace};
use super::crossing::{MadeSignals, spread};
use super::record::{Attachment, Capture, DamageLog, Note, Origin};
use super::trace::Trace;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::line::{
    AnalogLine, AnalogScale, Bus, Crossing, Input, Level, Line, LineId, Narrowest, PulseWidths, Side,
    Threshold,
};
use crate::printable::printable;
use crate::quantity::Voltage;
use crate::time::{Resolution, TimeBase};

/// Puts a [`Capture`] together.
#[derive(Debug)]
#[must_use]
pub struct CaptureBuilder {
    pub(super) capture: Capture,
}

impl Capture {
    /// The same capture without ticks, each line with a trace of its own.
    pub(crate) fn with_own_traces(mut self) -> Capture {
        self.len = 0;
        let own = self.traces.iter().map(|_| Arc::new(Trace::constant(Level::Unknown, 0)));
        self.traces = own.collect();
        self
    }

    /// A copy that has the very same traces, without damage found so far.
    pub(crate) fn with_same_traces(&self) -> Capture {
        Capture {
            base: self.base,
            len: self.len,
            resolution: self.resolution,
            lines: self.lines.clone(),
            traces: self.traces.clone(),
            buses: self.buses.clone(),
            analog_lines: self.analog_lines.clone(),
            analog_traces: self.analog_traces.clone(),
            made: MadeSignals::default(),
            origin: self.origin.clone(),
            history: self.history.clone(),
            attachments: self.attachments.clone(),
            notes: self.notes.clone(),
            remarks: self.remarks.clone(),
            damage: DamageLog::default(),
        }
    }

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
            made: MadeSignals::default(),
            origin: Origin::default(),
            history: Vec::new(),
            attachments: Vec::new(),
            notes: Vec::new(),
            remarks: Vec::new(),
            damage: DamageLog::default(),
        };
        CaptureBuilder::of(capture)
    }

    /// Takes the capture apart to change or add something before building it anew.
    pub fn into_builder(self) -> CaptureBuilder {
        CaptureBuilder::of(self)
    }
}

impl CaptureBuilder {
    pub(super) fn of(capture: Capture) -> Self {
        CaptureBuilder { capture }
    }

    /// Sets the clock.
    pub fn base(mut self, base: TimeBase) -> Self {
        self.capture.base = base;
        self
    }

    /// Sets the length in ticks.
    pub fn length(mut self, len: u64) -> Self {
        self.capture.len = len;
        self
    }

    /// Adds a line with its trace.
    pub fn line(mut self, line: impl Into<Line>, trace: impl Into<Arc<Trace>>) -> Self {
        self.capture.lines.push(line.into());
        self.capture.traces.push(trace.into());
        self
    }

    /// Adds an analog line with its trace. All analog lines of a capture are sampled at the same
    /// ticks, or all of them hold their voltages.
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
    /// hysteresis around it, or where it has none, the narrowest that the error of its samples allows; and notes
    /// that in the history. Until a voltage lies on one side for certain, the level is unknown.
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
        let hysteresis = Some(line.hysteresis).filter(|hysteresis| *hysteresis > Voltage::ZERO);
        let levels = trace.levels(crossing.line_gate(trace.scale(), hysteresis), capture.len);
        let ticks = spread(trace, crossing, Voltage::ZERO, &levels).unwrap_or(capture.len);
        let extra = capture.base.length_of(i64::try_from(ticks).unwrap_or(i64::MAX));
        capture.history.push(format!(
            "line {name} made from analog line {analog} at {threshold} with a hysteresis of {}; its edges \
             are known {extra} less well",
            hysteresis.unwrap_or_else(|| trace.scale().quiet_hysteresis())
        ));
        let threshold = Some(Threshold::Volts(threshold));
        let step = if trace.holds() { 1 } else { trace.every() };
        let line = Line { threshold, extra, step, ..Line::named(name) };
        Ok(self.line(line, levels))
    }

    /// Adds a bus of lines added before.
    pub fn bus(mut self, bus: Bus) -> Self {
        self.capture.buses.push(bus);
        self
    }

    /// Groups lines added before into a bus, by their names, most significant first.
    ///
    /// # Errors
    /// When there is no such line, one twice, or more than 64.
    pub fn group(self, name: &str, lines: &[&str]) -> Result<Self> {
        let ids = lines.iter().map(|line| self.capture.line_named(line)).collect::<Result<Vec<_>>>();
        let bus = ids.and_then(|ids| Ok(Bus::new(name, ids)?)).map_err(|error| error.about(name))?;
        Ok(self.bus(bus))
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

    /// Sets what was noted at instants of the record.
    pub fn notes(mut self, mut notes: Vec<Note>) -> Self {
        notes.sort_by_key(|note| note.at);
        self.capture.notes = notes;
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
        let names = capture.line_names();
        let ids = wanted.iter().map(|(name, _)| names.line(name)).collect::<Result<Vec<_>>>()?;
        capture.traces = ids.iter().map(|id| Arc::clone(&capture.traces[id.0])).collect();
        // What was seen of a line stays true of it under any description.
        let seen = |id: &LineId| capture.lines[id.0].pulses.seen;
        let described = |(id, (_, line)): (&LineId, (String, Line))| {
            let known = &capture.lines[id.0];
            let pulses = PulseWidths { seen: Narrowest::of(seen(id), line.pulses.seen), ..line.pulses };
            Line { pulses, extra: line.extra.max(known.extra), step: line.step.max(known.step), ..line }
        };
        capture.lines = ids.iter().zip(wanted).map(described).collect();
        capture.buses.clear();
        Ok(self)
    }

    /// How many lines it has so far.
    pub(crate) fn line_count(&self) -> usize {
        self.capture.lines.len()
    }

    /// Gives lines, analog lines and buses that share a name a number behind it, the first of them left out.
    pub(crate) fn distinct_names(mut self) -> Self {
        let capture = &mut self.capture;
        let analog = capture.analog_lines.iter_mut().map(|line| &mut line.name);
        number_repeated(capture.lines.iter_mut().map(|line| &mut line.name).chain(analog));
        number_repeated(capture.buses.iter_mut().map(|bus| &mut bus.name));
        self
    }

    /// Keeps and describes analog lines, by their present numbers.
    pub(crate) fn select_analog(mut self, wanted: Vec<(usize, AnalogLine)>) -> Self {
        let capture = &mut self.capture;
        capture.analog_traces =
            wanted.iter().map(|(number, _)| Arc::clone(&capture.analog_traces[*number])).collect();
        capture.analog_lines = wanted.into_iter().map(|(_, line)| line).collect();
        self
    }

    /// What it is so far, of which nothing was changed that could contradict anything.
    pub(crate) fn unchecked(self) -> Capture {
        self.capture
    }

    /// Changes what is said of each analog line.
    pub(crate) fn renamed_analog(mut self, change: impl FnMut(&mut AnalogLine)) -> Self {
        self.capture.analog_lines.iter_mut().for_each(change);
        self
    }

    /// Gives all lines their traces, in the order of their ids.
    pub(crate) fn shared_traces(mut self, traces: Vec<Arc<Trace>>) -> Self {
        self.capture.traces = traces;
        self
    }

    /// Gives lines other traces: one entry per line, `None` keeps what it has. How narrow the pulses of
    /// the old ones were is kept with the lines.
    pub fn replace_traces(mut self, traces: Vec<Option<Trace>>) -> Self {
        let lines = self.capture.lines.iter_mut().zip(&mut self.capture.traces);
        for ((line, old), new) in lines.zip(traces) {
            if let Some(new) = new {
                line.pulses.seen = Narrowest::of(line.pulses.seen, old.narrowest());
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
        capture.show_texts();
        capture.base = capture.base.exactly(!capture.resolution.sampled);
        // Their ids come after those of the lines, which may be others now.
        capture.made = MadeSignals::default();
        let wrong = |message: String| Err(Error::new(ErrorKind::Capture, message));
        if capture.len > crate::time::MAX_TICKS
            || capture.base.zero_at().unsigned_abs() > crate::time::MAX_TICKS
        {
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
        let grid =
            |trace: &Arc<AnalogTrace>| (!trace.holds()).then(|| (trace.first(), trace.every(), trace.len()));
        let grids = capture.analog_traces.windows(2).zip(&capture.analog_lines);
        if let Some((_, line)) = grids.into_iter().find(|(pair, _)| grid(&pair[0]) != grid(&pair[1])) {
            let message =
                format!("analog line '{}' was not sampled at the same ticks as the next", line.name);
            return wrong(message);
        }
        let changes = capture.analog_traces.iter().map(|trace| trace.changes());
        for (line, changes) in capture.analog_lines.iter().zip(changes) {
            if let Some(changes) = changes.filter(|changes| changes.len() != capture.len) {
                let (name, len) = (&line.name, changes.len());
                return wrong(format!("analog line '{name}' has {len} ticks, the capture {}", capture.len));
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

impl Capture {
    /// Writes what would act in a name or another text as what can be seen.
    fn show_texts(&mut self) {
        fn show(text: &mut String) {
            if let Cow::Owned(shown) = printable(text) {
                *text = shown;
            }
        }
        for line in &mut self.lines {
            show(&mut line.name);
            if let Some(Input::Signal(signal)) = &mut line.input {
                show(signal);
            }
        }
        self.analog_lines.iter_mut().for_each(|line| show(&mut line.name));
        self.buses.iter_mut().for_each(|bus| show(&mut bus.name));
        self.notes.iter_mut().for_each(|note| {
            show(&mut note.name);
            show(&mut note.text);
        });
        show(&mut self.origin.source);
        self.origin.trigger.iter_mut().for_each(show);
        self.history.iter_mut().chain(&mut self.remarks).for_each(show);
        self.attachments.iter_mut().for_each(|text| show(&mut text.name));
    }
}

/// Puts a number behind names that were there before.
pub(crate) fn number_repeated<'a>(names: impl Iterator<Item = &'a mut String>) {
    let mut times: HashMap<String, u32> = HashMap::new();
    let mut taken: HashSet<String> = HashSet::new();
    for name in names {
        let times = times.entry(name.clone()).or_insert(0);
        let numbered = |times: u32| if times == 0 { name.clone() } else { format!("{name}#{}", times + 1) };
        while !taken.insert(numbered(*times)) {
            *times += 1;
        }
        *name = numbered(*times);
    }
}
