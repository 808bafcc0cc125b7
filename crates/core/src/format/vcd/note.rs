//! What a dump of ours says in a comment of its header: that its times are those of samples, and what else
//! the format has no place for.

use serde::{Deserialize, Serialize};

use crate::capture::{Capture, Origin};
use crate::error::{Error, ErrorKind, Result};
use crate::format::stated::{StatedBus, StatedPull, StatedPulses, StatedResolution};
use crate::line::Line;
use crate::quantity::{Rate, Rational, Time};
use crate::time::TimeBase;

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
    /// What is said of lines, in the order of the file.
    #[serde(default)]
    lines: Vec<NotedLine>,
    #[serde(default)]
    buses: Vec<StatedBus>,
}

#[derive(Serialize, Deserialize)]
struct NotedLine {
    name: String,
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

impl Note {
    pub(super) fn of(capture: &Capture) -> Self {
        let (base, origin) = (capture.base(), capture.origin());
        let line = |line: &Line| NotedLine {
            name: line.name.clone(),
            pull: StatedPull::of(line.pull),
            extra: (line.extra != Time::ZERO).then(|| line.extra.to_rational().to_string()),
            threshold: line.threshold.map(|threshold| threshold.to_string()),
            pulses: StatedPulses::of(&line.pulses),
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
            lines: capture.lines().iter().map(line).collect(),
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
    pub(super) fn apply(&self, dump: Capture) -> Result<Capture> {
        let exact = |text: &String| text.parse::<Rational>();
        let tick = Time::from_rational(exact(&self.tick)?);
        let base = TimeBase::from_tick(tick)?.with_zero_at(self.zero);
        let rates = self.rates.iter().map(|rate| exact(rate).map(Rate::from_rational));
        let made = self.made.as_deref().map(str::parse).transpose()?;
        let origin =
            Origin { source: self.source.clone(), rates: rates.collect::<Result<_>>()?, trigger: self.trigger.clone(), made };
        let described = self.lines.iter().map(|noted| {
            let extra = noted.extra.as_ref().map_or(Ok(Rational::ZERO), exact)?;
            let line = Line {
                extra: Time::from_rational(extra),
                pull: noted.pull.map(StatedPull::level),
                threshold: noted.threshold.as_ref().map(|text| text.parse()).transpose()?,
                pulses: noted.pulses.read()?,
                ..Line::named(noted.name.as_str())
            };
            Ok((format!("{SCOPE}.{}", reference(&noted.name)), line))
        });
        let described = described.collect::<Result<Vec<_>>>()?;
        let buses = self.buses.iter().map(StatedBus::read).collect::<Result<Vec<_>>>()?;
        let on_grid = dump.on_grid(tick, self.resolution.read()?)?;
        let mut builder = on_grid.into_builder().base(base).origin(origin).history(self.history.clone());
        builder = builder.select(described)?.buses(buses);
        for remark in &self.remarks {
            builder = builder.remark(remark.clone());
        }
        builder.build()
    }
}
