//! Everything in a capture but the edges, as JSON. Exact numbers are written as fractions.

use serde::{Deserialize, Serialize};

use crate::capture::{Attachment, Capture, CaptureBuilder, Origin};
use crate::error::{Error, ErrorKind, Result};
use crate::format::stated::{StatedBus, StatedPull, StatedPulses, StatedResolution};
use crate::line::{AnalogId, AnalogLine, AnalogScale, Input, Line, LineId};
use crate::quantity::{Rate, Rational, Time, Voltage};
use crate::time::TimeBase;

#[derive(Serialize, Deserialize)]
pub(super) struct Meta {
    /// Length of a tick in seconds, as a fraction.
    tick: String,
    /// The tick that is time zero.
    zero: i64,
    resolution: StatedResolution,
    lines: Vec<MetaLine>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    analog: Vec<MetaAnalog>,
    #[serde(default)]
    buses: Vec<StatedBus>,
    #[serde(default)]
    source: String,
    /// Rates in samples per second, as fractions.
    #[serde(default)]
    rates: Vec<String>,
    #[serde(default)]
    trigger: Option<String>,
    /// RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    made: Option<String>,
    #[serde(default)]
    history: Vec<String>,
    #[serde(default)]
    remarks: Vec<String>,
    #[serde(default)]
    texts: Vec<MetaText>,
}

#[derive(Serialize, Deserialize)]
struct MetaLine {
    name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    input: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    signal: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    threshold: Option<String>,
    /// What it is pulled to while it floats: up or down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pull: Option<StatedPull>,
    /// Seconds by which its edges are known less well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    extra: Option<String>,
    #[serde(flatten)]
    pulses: StatedPulses,
}

#[derive(Serialize, Deserialize)]
struct MetaAnalog {
    name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    input: Option<u32>,
    /// Volts.
    hysteresis: String,
    /// Volts: of code 0, from one code to the next, and the largest error.
    zero: String,
    step: String,
    error: String,
    /// Ticks from one code to the next.
    every: u64,
    /// Whether each code holds until the next, at instants that a trace behind those of the lines has.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    holds: bool,
    #[serde(flatten)]
    pulses: StatedPulses,
}

#[derive(Serialize, Deserialize)]
struct MetaText {
    name: String,
    text: String,
}

impl Meta {
    pub(super) fn of(capture: &Capture) -> Meta {
        let line = |line: &Line| MetaLine {
            name: line.name.clone(),
            input: match line.input {
                Some(Input::Number(number)) => Some(number),
                _ => None,
            },
            signal: match &line.input {
                Some(Input::Signal(signal)) => Some(signal.clone()),
                _ => None,
            },
            threshold: line.threshold.map(|t| t.to_string()),
            pull: StatedPull::of(line.pull),
            extra: (line.extra != Time::ZERO).then(|| line.extra.to_rational().to_string()),
            pulses: StatedPulses::of(&line.pulses),
        };
        let analog = |(id, line): (usize, &AnalogLine)| {
            let trace = capture.analog(AnalogId(id));
            let scale = trace.scale();
            MetaAnalog {
                name: line.name.clone(),
                input: line.input,
                hysteresis: line.hysteresis.to_rational().to_string(),
                zero: scale.zero().to_rational().to_string(),
                step: scale.step().to_rational().to_string(),
                error: scale.error().to_rational().to_string(),
                every: trace.every(),
                holds: trace.holds(),
                pulses: StatedPulses::of(&line.pulses),
            }
        };
        let text = |a: &Attachment| MetaText { name: a.name.clone(), text: a.text.clone() };
        Meta {
            tick: capture.base().tick().to_rational().to_string(),
            zero: capture.base().zero_at(),
            resolution: StatedResolution::of(capture.resolution()),
            lines: capture.lines().iter().map(line).collect(),
            analog: capture.analog_lines().iter().enumerate().map(analog).collect(),
            buses: capture.buses().iter().map(StatedBus::of).collect(),
            source: capture.origin().source.clone(),
            rates: capture.origin().rates.iter().map(|r| r.to_rational().to_string()).collect(),
            trigger: capture.origin().trigger.clone(),
            made: capture.origin().made.map(|made| made.to_string()),
            history: capture.history().to_vec(),
            remarks: capture.remarks().to_vec(),
            texts: capture.attachments().iter().map(text).collect(),
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
        let volts = |text: &String| text.parse::<Rational>().map(Voltage::from_rational);
        let scale = AnalogScale::new(volts(&line.zero)?, volts(&line.step)?, volts(&line.error)?);
        let scale = scale.filter(|_| line.every > 0).ok_or_else(|| {
            Error::new(ErrorKind::Capture, format!("the scale of analog line '{}' is not one", line.name))
        })?;
        let hysteresis = volts(&line.hysteresis)?;
        let pulses = line.pulses.read()?;
        Ok((AnalogLine { name: line.name.clone(), input: line.input, hysteresis, pulses }, scale, line.every))
    }

    pub(super) fn line_name(&self, line: LineId) -> &str {
        let held = || self.analog.iter().filter(|line| line.holds).nth(line.0 - self.lines.len());
        match self.lines.get(line.0) {
            Some(line) => &line.name,
            None => held().map_or("?", |line| &line.name),
        }
    }

    pub(super) fn base(&self) -> Result<TimeBase> {
        let tick = Time::from_rational(self.tick.parse()?);
        Ok(TimeBase::from_tick(tick)?.with_zero_at(self.zero))
    }

    /// A capture of this description, with its lines given one by one later.
    pub(super) fn builder(&self, len: u64) -> Result<CaptureBuilder> {
        let exact = |text: &String| text.parse::<Rational>();
        let resolution = self.resolution.read()?;
        let rates = self.rates.iter().map(|r| exact(r).map(Rate::from_rational));
        let text = |t: &MetaText| Attachment { name: t.name.clone(), text: t.text.clone() };
        let origin = Origin {
            source: self.source.clone(),
            rates: rates.collect::<Result<_>>()?,
            trigger: self.trigger.clone(),
            made: self.made.as_deref().map(str::parse).transpose()?,
        };
        let mut builder = Capture::builder(self.base()?, len)
            .resolution(resolution)
            .buses(self.buses.iter().map(StatedBus::read).collect::<Result<_>>()?)
            .origin(origin)
            .history(self.history.clone())
            .attachments(self.texts.iter().map(text).collect());
        for remark in &self.remarks {
            builder = builder.remark(remark.clone());
        }
        Ok(builder)
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
        let threshold = line.threshold.as_ref().map(|t| t.parse()).transpose()?;
        let extra = line.extra.as_ref().map(|text| text.parse().map(Time::from_rational)).transpose()?;
        let extra = extra.unwrap_or(Time::ZERO).max(Time::ZERO);
        let (pulses, pull) = (line.pulses.read()?, line.pull.map(StatedPull::level));
        Ok(Line { name: line.name.clone(), input, threshold, extra, pulses, pull })
    }
}
