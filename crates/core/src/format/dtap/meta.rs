//! Everything in a capture but the edges, as JSON. Exact numbers are written as fractions.

use serde::{Deserialize, Serialize};

use crate::capture::{Attachment, Capture, CaptureBuilder, Note};
use crate::error::{Error, ErrorKind, Result};
use crate::format::stated_record::{StatedAnalog, StatedLine, StatedRecord};
use crate::line::{AnalogId, AnalogLine, AnalogScale, Input, Line, LineId};
use crate::time::{Tick, TimeBase};

#[derive(Serialize, Deserialize)]
pub(super) struct Meta {
    #[serde(flatten)]
    record: StatedRecord,
    lines: Vec<MetaLine>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    analog: Vec<StatedAnalog>,
    #[serde(default)]
    texts: Vec<MetaText>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    notes: Vec<MetaNote>,
}

/// What was noted at a tick.
#[derive(Serialize, Deserialize)]
struct MetaNote {
    name: String,
    at: u64,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    text: String,
}

#[derive(Serialize, Deserialize)]
struct MetaLine {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    input: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    signal: Option<String>,
    #[serde(flatten)]
    stated: StatedLine,
}

#[derive(Serialize, Deserialize)]
struct MetaText {
    name: String,
    text: String,
}

impl MetaNote {
    fn of(note: &Note) -> MetaNote {
        MetaNote { name: note.name.clone(), at: note.at.0, text: note.text.clone() }
    }

    fn read(&self) -> Note {
        Note { name: self.name.clone(), at: Tick(self.at), text: self.text.clone() }
    }
}

impl Meta {
    pub(super) fn of(capture: &Capture) -> Meta {
        let line = |line: &Line| {
            let (input, signal) = match &line.input {
                Some(Input::Number(number)) => (Some(*number), None),
                Some(Input::Signal(signal)) => (None, Some(signal.clone())),
                None => (None, None),
            };
            MetaLine { input, signal, stated: StatedLine::of(line) }
        };
        let analog = capture.analog_lines().iter().enumerate();
        let text = |a: &Attachment| MetaText { name: a.name.clone(), text: a.text.clone() };
        Meta {
            record: StatedRecord::of(capture),
            lines: capture.lines().iter().map(line).collect(),
            analog: analog.map(|(id, line)| StatedAnalog::of(line, capture.analog(AnalogId(id)))).collect(),
            texts: capture.attachments().iter().map(text).collect(),
            notes: capture.notes().iter().map(MetaNote::of).collect(),
        }
    }

    pub(super) fn line_count(&self) -> usize {
        self.lines.len()
    }

    /// How many traces there are: of the lines, and behind these, of the changes of analog lines that hold.
    pub(super) fn trace_count(&self) -> usize {
        self.lines.len() + self.analog.iter().filter(|line| line.holds).count()
    }

    /// Whether another description is of the same lines.
    pub(super) fn is_of_the_same_lines(&self, other: &Meta) -> bool {
        let holds = |meta: &Meta| meta.analog.iter().map(|line| line.holds).collect::<Vec<_>>();
        self.lines.len() == other.lines.len() && holds(self) == holds(other)
    }

    /// For an analog line that holds its voltages, the number of the trace that says where they change.
    pub(super) fn changes_of(&self, analog: usize) -> Option<LineId> {
        let held = self.analog.get(..=analog)?.iter().filter(|line| line.holds).count();
        self.analog[analog].holds.then(|| LineId(self.lines.len() + held - 1))
    }

    /// Whether analog lines hold their voltages.
    pub(super) fn holds(&self) -> bool {
        self.analog.iter().any(|line| line.holds)
    }

    pub(super) fn analog_count(&self) -> usize {
        self.analog.len()
    }

    /// One analog line's description: its scale, and ticks from one code to the next.
    pub(super) fn analog(&self, index: usize) -> Result<(AnalogLine, AnalogScale, u64)> {
        let Some(line) = self.analog.get(index) else {
            return Err(Error::new(ErrorKind::Capture, format!("there is no analog line number {index}")));
        };
        let (described, scale) = line.read()?;
        Ok((described, scale, line.every))
    }

    pub(super) fn line_name(&self, line: LineId) -> &str {
        let held = || self.analog.iter().filter(|line| line.holds).nth(line.0 - self.lines.len());
        match self.lines.get(line.0) {
            Some(line) => &line.stated.name,
            None => held().map_or("?", |line| &line.name),
        }
    }

    pub(super) fn base(&self) -> Result<TimeBase> {
        self.record.base()
    }

    /// A capture of this description, with its lines given one by one later.
    pub(super) fn builder(&self, len: u64) -> Result<CaptureBuilder> {
        let text = |t: &MetaText| Attachment { name: t.name.clone(), text: t.text.clone() };
        let builder = Capture::builder(self.base()?, len).resolution(self.record.resolution.read()?);
        let builder = builder.attachments(self.texts.iter().map(text).collect());
        // A file that was cut short ends before some of them.
        let notes = self.notes.iter().filter(|note| note.at <= len).map(MetaNote::read).collect();
        let builder = builder.notes(notes);
        self.record.describe(builder)
    }

    /// One line's description.
    pub(super) fn line(&self, index: usize) -> Result<Line> {
        let Some(line) = self.lines.get(index) else {
            return Err(Error::new(ErrorKind::Capture, format!("there is no line number {index}")));
        };
        let input = match (&line.input, &line.signal) {
            (Some(number), _) => Some(Input::Number(*number)),
            (None, Some(signal)) => Some(Input::Signal(signal.clone())),
            (None, None) => None,
        };
        Ok(Line { input, ..line.stated.read()? })
    }
}
