//! What a file says of a record besides its edges, in the forms that files of several kinds share. Exact
//! numbers are written as fractions.

use serde::{Deserialize, Serialize};

use crate::error::{Error, ErrorKind, Result};
use crate::line::{Bus, Level, LineId, Narrowest, PulseWidths, Radix};
use crate::quantity::{Frequency, Percent, Rational, Time};
use crate::time::{Resolution, Tick};

/// How well instants are known.
#[derive(Serialize, Deserialize)]
pub(super) struct StatedResolution {
    pub(super) sampled: bool,
    /// Seconds.
    skew: String,
    /// Fraction of one.
    accuracy: String,
    /// Seconds.
    extra: String,
}

impl StatedResolution {
    pub(super) fn of(resolution: &Resolution) -> Self {
        StatedResolution {
            sampled: resolution.sampled,
            skew: resolution.skew.to_rational().to_string(),
            accuracy: resolution.accuracy.to_fraction().to_string(),
            extra: resolution.extra.to_rational().to_string(),
        }
    }

    pub(super) fn read(&self) -> Result<Resolution> {
        let exact = |text: &String| text.parse::<Rational>();
        let resolution = Resolution {
            sampled: self.sampled,
            skew: Time::from_rational(exact(&self.skew)?),
            accuracy: Percent::from_fraction(exact(&self.accuracy)?),
            extra: Time::from_rational(exact(&self.extra)?),
        };
        let negative = [resolution.skew, resolution.extra].iter().any(|t| *t < Time::ZERO);
        if negative || resolution.accuracy < Percent::ZERO {
            return Err(Error::new(ErrorKind::Capture, "the stated uncertainty is negative"));
        }
        Ok(resolution)
    }
}

/// What a line is pulled to while nobody drives it.
#[derive(Clone, Copy, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum StatedPull {
    Up,
    Down,
}

impl StatedPull {
    pub(super) fn of(pull: Option<Level>) -> Option<Self> {
        match pull? {
            Level::High => Some(StatedPull::Up),
            Level::Low => Some(StatedPull::Down),
            Level::Floating | Level::Unknown => None,
        }
    }

    pub(super) fn level(self) -> Level {
        match self {
            StatedPull::Up => Level::High,
            StatedPull::Down => Level::Low,
        }
    }
}

/// How short the pulses of a line can be.
#[derive(Serialize, Deserialize)]
pub(super) struct StatedPulses {
    /// Seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    shortest: Option<String>,
    /// Hertz.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    fastest: Option<String>,
    /// Ticks of the narrowest pulse, and the tick at which it began, where the record does not show it
    /// any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    seen: Option<(u64, u64)>,
}

impl StatedPulses {
    pub(super) fn of(pulses: &PulseWidths) -> Self {
        StatedPulses {
            shortest: pulses.shortest.map(|time| time.to_rational().to_string()),
            fastest: pulses.fastest.map(|frequency| frequency.to_rational().to_string()),
            seen: pulses.seen.map(|narrow| (narrow.ticks, narrow.at.0)),
        }
    }

    pub(super) fn read(&self) -> Result<PulseWidths> {
        let exact = |text: &Option<String>| text.as_ref().map(|text| text.parse::<Rational>()).transpose();
        Ok(PulseWidths {
            shortest: exact(&self.shortest)?.map(Time::from_rational),
            fastest: exact(&self.fastest)?.map(Frequency::from_rational),
            seen: self.seen.map(|(ticks, at)| Narrowest { ticks, at: Tick(at) }),
        })
    }
}

/// A group of lines.
#[derive(Serialize, Deserialize)]
pub(super) struct StatedBus {
    name: String,
    /// Numbers of lines, most significant first.
    lines: Vec<usize>,
    /// Line and whether its rising edge counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    clock: Option<(usize, bool)>,
    format: String,
}

impl StatedBus {
    pub(super) fn of(bus: &Bus) -> Self {
        StatedBus {
            name: bus.name.clone(),
            lines: bus.lines.iter().map(|line| line.0).collect(),
            clock: bus.clock.map(|(line, to)| (line.0, to == Level::High)),
            format: bus.radix.to_string(),
        }
    }

    pub(super) fn read(&self) -> Result<Bus> {
        let lines = self.lines.iter().map(|line| LineId(*line)).collect();
        let made = Bus::new(self.name.clone(), lines)
            .map_err(|_| Error::new(ErrorKind::Capture, format!("the bus '{}' is not one", self.name)))?;
        let clock = self.clock.map(|(line, rises)| (LineId(line), Level::from(rises)));
        Ok(Bus { clock, radix: self.format.parse::<Radix>()?, ..made })
    }
}
