//! What a file says of a record as a whole, of its lines and of its voltages, shared by captures and dumps.

use serde::{Deserialize, Serialize};

use super::stated::{StatedBus, StatedPull, StatedPulses, StatedResolution};
use crate::capture::{AnalogTrace, Capture, CaptureBuilder, Origin};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{AnalogLine, AnalogScale, Line};
use crate::quantity::{Rate, Rational, Time, Voltage};
use crate::time::TimeBase;

/// The record.
#[derive(Serialize, Deserialize)]
pub(super) struct StatedRecord {
    /// Length of a tick in seconds, as a fraction.
    tick: String,
    /// The tick that is time zero.
    zero: i64,
    pub(super) resolution: StatedResolution,
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
    buses: Vec<StatedBus>,
}

impl StatedRecord {
    pub(super) fn of(capture: &Capture) -> Self {
        let (base, origin) = (capture.base(), capture.origin());
        StatedRecord {
            tick: base.tick().to_rational().to_string(),
            zero: base.zero_at(),
            resolution: StatedResolution::of(capture.resolution()),
            source: origin.source.clone(),
            rates: origin.rates.iter().map(|rate| rate.to_rational().to_string()).collect(),
            trigger: origin.trigger.clone(),
            made: origin.made.map(|made| made.to_string()),
            history: capture.history().to_vec(),
            remarks: capture.remarks().to_vec(),
            buses: capture.buses().iter().map(StatedBus::of).collect(),
        }
    }

    pub(super) fn base(&self) -> Result<TimeBase> {
        let tick = Time::from_rational(self.tick.parse()?);
        Ok(TimeBase::from_tick(tick)?.with_zero_at(self.zero))
    }

    /// Says the same of a record, all but its time base and how well instants are known. Its buses are of the lines
    /// that it has then.
    pub(super) fn describe(&self, builder: CaptureBuilder) -> Result<CaptureBuilder> {
        let rates = self.rates.iter().map(|rate| rate.parse().map(Rate::from_rational));
        let origin = Origin {
            source: self.source.clone(),
            rates: rates.collect::<Result<_>>()?,
            trigger: self.trigger.clone(),
            made: self.made.as_deref().map(str::parse).transpose()?,
        };
        let buses = self.buses.iter().map(StatedBus::read).collect::<Result<_>>()?;
        let builder = builder.buses(buses).origin(origin).history(self.history.clone());
        Ok(self.remarks.iter().fold(builder, |builder, remark| builder.remark(remark.clone())))
    }
}

/// A line.
#[derive(Serialize, Deserialize)]
pub(super) struct StatedLine {
    pub(super) name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    threshold: Option<String>,
    /// What it is pulled to while it floats: up or down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pull: Option<StatedPull>,
    /// Seconds by which its edges are known less well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    extra: Option<String>,
    /// Ticks from one of its samples to the next, where that is not 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    step: Option<u64>,
    #[serde(flatten)]
    pulses: StatedPulses,
}

impl StatedLine {
    pub(super) fn of(line: &Line) -> Self {
        StatedLine {
            name: line.name.clone(),
            threshold: line.threshold.map(|threshold| threshold.to_string()),
            pull: StatedPull::of(line.pull),
            extra: (line.extra != Time::ZERO).then(|| line.extra.to_rational().to_string()),
            step: (line.step > 1).then_some(line.step),
            pulses: StatedPulses::of(&line.pulses),
        }
    }

    /// The line, without where it comes from.
    pub(super) fn read(&self) -> Result<Line> {
        let extra = self.extra.as_ref().map(|text| text.parse().map(Time::from_rational)).transpose()?;
        Ok(Line {
            threshold: self.threshold.as_ref().map(|text| text.parse()).transpose()?,
            extra: extra.unwrap_or(Time::ZERO).max(Time::ZERO),
            step: self.step.unwrap_or(1).max(1),
            pulses: self.pulses.read()?,
            pull: self.pull.map(StatedPull::level),
            ..Line::named(self.name.as_str())
        })
    }
}

/// An analog line: what the codes of its voltages do not say.
#[derive(Serialize, Deserialize)]
pub(super) struct StatedAnalog {
    pub(super) name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    input: Option<u32>,
    /// Volts.
    hysteresis: String,
    /// Volts: of code 0, from one code to the next, and the largest error.
    zero: String,
    step: String,
    error: String,
    /// Ticks from one code to the next.
    pub(super) every: u64,
    /// Whether each holds until the next, at its own time.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub(super) holds: bool,
    #[serde(flatten)]
    pulses: StatedPulses,
}

impl StatedAnalog {
    pub(super) fn of(line: &AnalogLine, trace: &AnalogTrace) -> Self {
        let (scale, volts) = (trace.scale(), |volts: Voltage| volts.to_rational().to_string());
        StatedAnalog {
            name: line.name.clone(),
            input: line.input,
            hysteresis: volts(line.hysteresis),
            zero: volts(scale.zero()),
            step: volts(scale.step()),
            error: volts(scale.error()),
            every: trace.every(),
            holds: trace.holds(),
            pulses: StatedPulses::of(&line.pulses),
        }
    }

    /// The line and its scale.
    ///
    /// # Errors
    /// When the scale cannot be one, or there is no time between two codes.
    pub(super) fn read(&self) -> Result<(AnalogLine, AnalogScale)> {
        let volts = |text: &String| text.parse::<Rational>().map(Voltage::from_rational);
        let scale = AnalogScale::new(volts(&self.zero)?, volts(&self.step)?, volts(&self.error)?);
        let scale = scale.filter(|_| self.every > 0).ok_or_else(|| {
            Error::new(ErrorKind::Capture, format!("the scale of analog line '{}' is not one", self.name))
        })?;
        let (name, hysteresis) = (self.name.clone(), volts(&self.hysteresis)?);
        Ok((AnalogLine { name, input: self.input, hysteresis, pulses: self.pulses.read()? }, scale))
    }
}
