//! What a dump of ours says in a comment of its header: that its times are those of samples, and what else
//! the format has no place for.

use serde::{Deserialize, Serialize};

use crate::capture::{ANALOG_BLOCK, AnalogBuilder, AnalogTrace, Capture, HeldBuilder};
use crate::error::{Error, ErrorKind, Result};
use crate::format::stated_record::{StatedAnalog, StatedLine, StatedRecord};
use crate::line::{AnalogId, AnalogLine, Line};
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
    #[serde(flatten)]
    record: StatedRecord,
    /// What is said of lines, in their order in the capture.
    #[serde(default)]
    lines: Vec<NotedLine>,
    /// What is said of analog lines, in the order of the file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    analog: Vec<NotedAnalog>,
}

#[derive(Serialize, Deserialize)]
struct NotedLine {
    /// Which of the bits that are declared it is, from 0; without it, the one with its own number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    at: Option<usize>,
    #[serde(flatten)]
    stated: StatedLine,
}

/// An analog line: what the volts of its samples do not say.
#[derive(Serialize, Deserialize)]
struct NotedAnalog {
    /// The tick of the first sample.
    first: u64,
    samples: u64,
    #[serde(flatten)]
    stated: StatedAnalog,
}

impl Note {
    /// What is to be said of a capture, of whose lines each is the declared bit with this number.
    pub(super) fn of(capture: &Capture, places: &[usize]) -> Self {
        let line = |(number, line): (usize, &Line)| NotedLine {
            at: places.get(number).copied(),
            stated: StatedLine::of(line),
        };
        let analog = |(number, line): (usize, &AnalogLine)| {
            let trace = capture.analog(AnalogId(number));
            let stated = StatedAnalog::of(line, trace);
            NotedAnalog { first: trace.first().0, samples: trace.len(), stated }
        };
        Note {
            record: StatedRecord::of(capture),
            lines: capture.lines().iter().enumerate().map(line).collect(),
            analog: capture.analog_lines().iter().enumerate().map(analog).collect(),
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
        let base = self.record.base()?;
        let missing = || Error::new(ErrorKind::Capture, "the dump has not the lines that it says of itself");
        let described = self.lines.iter().enumerate().map(|(number, noted)| {
            let bit = dump.lines().get(noted.at.unwrap_or(number)).ok_or_else(missing)?;
            Ok((bit.name.clone(), noted.stated.read()?))
        });
        let described = described.collect::<Result<Vec<_>>>()?;
        let from = dump.base();
        let on_grid = dump.on_grid(base.tick(), self.record.resolution.read()?)?;
        let len = on_grid.len();
        let analog = self.analog.iter().zip(reals);
        let analog = analog.map(|(noted, changes)| noted.read((from, base), len, changes));
        let analog = analog.collect::<Result<Vec<_>>>()?;
        let builder = on_grid.into_builder().base(base).select(described)?;
        let builder = self.record.describe(builder)?;
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
        let (line, scale) = self.stated.read()?;
        let (name, every) = (&line.name, self.stated.every);
        let wrong = || Error::new(ErrorKind::Capture, format!("what the dump says of '{name}' cannot be"));
        let (zero, step) = (scale.zero().to_f64(), scale.step().to_f64());
        // From ticks of the dump to samples, whose number the ticks of the dump bound.
        let ratio =
            dump.tick().to_rational().checked_div(base.tick().to_rational()).ok_or_else(wrong)?.to_f64();
        let code = |value: f64| {
            ((value - zero) / step).round().clamp(f64::from(i16::MIN), f64::from(i16::MAX)) as i16
        };
        let moved = |tick: u64| (tick as f64 * ratio).round() as u64;
        if self.stated.holds {
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
            tick.saturating_sub(self.first).div_ceil(every)
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
        Ok((line, builder.finish(scale, self.first, every)))
    }
}

/// Samples that an analog line may have after its last change: what a dump says of itself is not believed.
const MOST_HELD: u64 = 1 << 28;
