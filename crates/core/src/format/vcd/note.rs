//! What a dump of ours says in a comment of its header: that its times are those of samples, and what else
//! the format has no place for.

use serde::{Deserialize, Serialize};

use crate::capture::{ANALOG_BLOCK, AnalogBuilder, AnalogTrace, Capture, HeldBuilder, Origin};
use crate::error::{Error, ErrorKind, Result};
use crate::format::stated::{StatedBus, StatedPull, StatedPulses, StatedResolution};
use crate::line::{AnalogId, AnalogLine, AnalogScale, Line};
use crate::quantity::{Rate, Rational, Time, Voltage};
use crate::time::{Tick, TimeBase};

/// The word by which the comment is known.
const WORD: &str = "deep-tap-record";

/// The scope of all that is written.
pub(super) const SCOPE: &str = "capture";

/// A name as one word.
pub(super) fn reference(name: &str) -> String {
    name.chars().map(|c| if c.is_whitespace() { '_' } else { c }).collect()
}

/// The comment, as JSON.
#[derive(Serialize, Deserialize)]
pub(super) struct Note {
    /// Length of a tick in seconds, as a fraction.
    tick: String,
    /// The tick that is time zero.
    zero: i64,
    resolution: StatedResolution,
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
    /// What is said of lines, in their order in the capture.
    #[serde(default)]
    lines: Vec<NotedLine>,
    /// What is said of analog lines, in the order of the file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    analog: Vec<NotedAnalog>,
    #[serde(default)]
    buses: Vec<StatedBus>,
}

#[derive(Serialize, Deserialize)]
struct NotedLine {
    name: String,
    /// Which of the bits that are declared it is, from 0; without it, the one with its own number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    at: Option<usize>,
    /// Seconds by which its edges are known less well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    extra: Option<String>,
    /// What it is pulled to while it floats: up or down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pull: Option<StatedPull>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    threshold: Option<String>,
    #[serde(flatten)]
    pulses: StatedPulses,
}

/// An analog line: what the volts of its samples do not say.
#[derive(Serialize, Deserialize)]
struct NotedAnalog {
    name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    input: Option<u32>,
    /// Volts.
    hysteresis: String,
    /// Volts: of code 0, from one code to the next, and the largest error.
    zero: String,
    step: String,
    error: String,
    /// Ticks: the first sample, and from one to the next.
    first: u64,
    every: u64,
    samples: u64,
    /// Whether its voltage holds until the next change.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    holds: bool,
    #[serde(flatten)]
    pulses: StatedPulses,
}

impl Note {
    /// What is to be said of a capture, of whose lines each is the declared bit with this number.
    pub(super) fn of(capture: &Capture, places: &[usize]) -> Self {
        let (base, origin) = (capture.base(), capture.origin());
        let line = |(number, line): (usize, &Line)| NotedLine {
            name: line.name.clone(),
            at: places.get(number).copied(),
            pull: StatedPull::of(line.pull),
            extra: (line.extra != Time::ZERO).then(|| line.extra.to_rational().to_string()),
            threshold: line.threshold.map(|threshold| threshold.to_string()),
            pulses: StatedPulses::of(&line.pulses),
        };
        let analog = |(number, line): (usize, &AnalogLine)| {
            let trace = capture.analog(AnalogId(number));
            let volts = |volts: Voltage| volts.to_rational().to_string();
            NotedAnalog {
                name: line.name.clone(),
                input: line.input,
                hysteresis: volts(line.hysteresis),
                zero: volts(trace.scale().zero()),
                step: volts(trace.scale().step()),
                error: volts(trace.scale().error()),
                first: trace.first().0,
                every: trace.every(),
                samples: trace.len(),
                holds: trace.holds(),
                pulses: StatedPulses::of(&line.pulses),
            }
        };
        Note {
            tick: base.tick().to_rational().to_string(),
            zero: base.zero_at(),
            resolution: StatedResolution::of(capture.resolution()),
            source: origin.source.clone(),
            rates: origin.rates.iter().map(|rate| rate.to_rational().to_string()).collect(),
            trigger: origin.trigger.clone(),
            made: origin.made.map(|made| made.to_string()),
            history: capture.history().to_vec(),
            remarks: capture.remarks().to_vec(),
            lines: capture.lines().iter().enumerate().map(line).collect(),
            analog: capture.analog_lines().iter().enumerate().map(analog).collect(),
            buses: capture.buses().iter().map(StatedBus::of).collect(),
        }
    }

    /// The text of the comment. No word in it ends one.
    pub(super) fn text(&self) -> String {
        let json = serde_json::to_string(self).unwrap_or_default();
        format!("{WORD} {}", json.replace('$', "\\u0024"))
    }

    /// What a comment says, if it is one of ours.
    ///
    /// # Errors
    /// When it cannot be understood.
    pub(super) fn read(comment: &str) -> Option<Result<Note>> {
        let json = comment.trim().strip_prefix(WORD)?;
        Some(serde_json::from_str(json).map_err(|error| {
            let message = format!("what the dump says of its record cannot be read: {error}");
            Error::new(ErrorKind::Capture, message).with_help(format!(
                "take the comment '{WORD}' out of the header, and state the rate in [import]"
            ))
        }))
    }

    /// The record of which this is said.
    ///
    /// # Errors
    /// When the times of the dump are not those of its ticks, or it has not the lines.
    pub(super) fn apply(&self, dump: Capture, reals: &[Vec<(u64, f64)>]) -> Result<Capture> {
        let exact = |text: &String| text.parse::<Rational>();
        let tick = Time::from_rational(exact(&self.tick)?);
        let base = TimeBase::from_tick(tick)?.with_zero_at(self.zero);
        let rates = self.rates.iter().map(|rate| exact(rate).map(Rate::from_rational));
        let made = self.made.as_deref().map(str::parse).transpose()?;
        let origin = Origin {
            source: self.source.clone(),
            rates: rates.collect::<Result<_>>()?,
            trigger: self.trigger.clone(),
            made,
        };
        let missing = || Error::new(ErrorKind::Capture, "the dump has not the lines that it says of itself");
        let described = self.lines.iter().enumerate().map(|(number, noted)| {
            let extra = noted.extra.as_ref().map_or(Ok(Rational::ZERO), exact)?;
            let line = Line {
                extra: Time::from_rational(extra),
                pull: noted.pull.map(StatedPull::level),
                threshold: noted.threshold.as_ref().map(|text| text.parse()).transpose()?,
                pulses: noted.pulses.read()?,
                ..Line::named(noted.name.as_str())
            };
            let place = noted.at.unwrap_or(number);
            let bit = dump.lines().get(place).ok_or_else(missing)?;
            Ok((bit.name.clone(), line))
        });
        let described = described.collect::<Result<Vec<_>>>()?;
        let buses = self.buses.iter().map(StatedBus::read).collect::<Result<Vec<_>>>()?;
        let from = dump.base();
        let on_grid = dump.on_grid(tick, self.resolution.read()?)?;
        let len = on_grid.len();
        let analog = self.analog.iter().zip(reals);
        let analog = analog.map(|(noted, changes)| noted.read((from, base), len, changes));
        let analog = analog.collect::<Result<Vec<_>>>()?;
        let mut builder = on_grid.into_builder().base(base).origin(origin).history(self.history.clone());
        builder = builder.select(described)?.buses(buses);
        for remark in &self.remarks {
            builder = builder.remark(remark.clone());
        }
        analog.into_iter().fold(builder, |builder, (line, trace)| builder.analog(line, trace)).build()
    }
}

impl NotedAnalog {
    /// The line of a record of `len` ticks with the codes that its volts stand for, given its changes in the
    /// ticks of the dump.
    fn read(
        &self,
        (dump, base): (TimeBase, TimeBase),
        len: u64,
        changes: &[(u64, f64)],
    ) -> Result<(AnalogLine, AnalogTrace)> {
        let volts = |text: &String| text.parse::<Rational>().map(Voltage::from_rational);
        let scale = AnalogScale::new(volts(&self.zero)?, volts(&self.step)?, volts(&self.error)?);
        let wrong =
            || Error::new(ErrorKind::Capture, format!("what the dump says of '{}' cannot be", self.name));
        let scale = scale.filter(|_| self.every > 0).ok_or_else(wrong)?;
        let (zero, step) = (scale.zero().to_f64(), scale.step().to_f64());
        // From ticks of the dump to samples, whose number the ticks of the dump bound.
        let ratio =
            dump.tick().to_rational().checked_div(base.tick().to_rational()).ok_or_else(wrong)?.to_f64();
        let code = |value: f64| {
            ((value - zero) / step).round().clamp(f64::from(i16::MIN), f64::from(i16::MAX)) as i16
        };
        let line = AnalogLine {
            name: self.name.clone(),
            input: self.input,
            hysteresis: volts(&self.hysteresis)?,
            pulses: self.pulses.read()?,
        };
        let moved = |tick: u64| (tick as f64 * ratio).round() as u64;
        if self.holds {
            let mut changes =
                changes.iter().map(|(tick, value)| (moved(*tick), value.is_finite().then(|| code(*value))));
            let mut changes = changes.by_ref().take_while(|(tick, _)| *tick < len);
            let mut first = changes.next();
            let start = first.take_if(|(tick, _)| *tick == 0).and_then(|(_, code)| code);
            let mut builder = HeldBuilder::new(start);
            first.into_iter().chain(changes).try_for_each(|(tick, code)| builder.push(Tick(tick), code))?;
            return Ok((line, builder.finish(scale, len)));
        }
        let sample = |tick: u64| {
            let tick = moved(tick);
            tick.saturating_sub(self.first).div_ceil(self.every)
        };
        let mut builder = AnalogBuilder::new();
        let mut codes = Vec::new();
        let last = changes.last().map_or(0, |(tick, _)| sample(*tick));
        let samples = self.samples.min(last.saturating_add(MOST_HELD));
        for (number, (tick, value)) in changes.iter().enumerate() {
            let next = changes.get(number + 1).map_or(samples, |(tick, _)| sample(*tick)).min(samples);
            let count = next.saturating_sub(sample(*tick));
            if !value.is_finite() {
                return Err(wrong());
            }
            let code = code(*value);
            for _ in 0..count {
                codes.push(code);
                if codes.len() == ANALOG_BLOCK {
                    builder.push(&codes);
                    codes.clear();
                }
            }
        }
        builder.push(&codes);
        Ok((line, builder.finish(scale, self.first, self.every)))
    }
}

/// Samples that an analog line may have after its last change: what a dump says of itself is not believed.
const MOST_HELD: u64 = 1 << 28;
