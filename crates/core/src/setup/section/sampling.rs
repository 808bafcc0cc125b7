//! The section of rate and length.

use crate::error::{Error, ErrorKind};
use crate::plan::{Before, Length, Speed};
use crate::quantity::{Percent, Rate, SampleCount, Time};
use crate::reader::{Placed, Section};
use crate::setup::Sampling;
use crate::setup::files::wrong;

/// What is to be recorded, as written.
#[derive(Clone, Debug, Default)]
pub(in crate::setup) struct DraftSampling {
    speed: Option<Placed<Speed>>,
    length: Option<Length>,
    /// Whether a length is stated that cannot be understood, which is told by itself.
    unclear: bool,
    before: Option<Before>,
    analog_rate: Option<Rate>,
    pub(in crate::setup) time_out: Option<Time>,
}

impl DraftSampling {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Self {
        let speed = section.parsed::<SpeedText>("rate");
        let length = section.parsed::<LengthText>("length");
        let samples = section.parsed::<SampleCount>("samples");
        if let (Some(_), Some(samples)) = (&length, &samples) {
            let message = "both 'length' and 'samples' say how long the record is";
            section.refuse(&samples.place, message, "keep one of them");
        }
        let stated = section.has("length") || section.has("samples");
        DraftSampling {
            unclear: stated && length.is_none() && samples.is_none(),
            speed: speed.map(|s| Placed { value: s.value.0, place: s.place }),
            length: length.map(|l| l.value.0).or_else(|| samples.map(|s| Length::Samples(s.value.0))),
            before: section.parsed::<BeforeText>("before-trigger").map(|b| b.value.0),
            analog_rate: section.parsed::<Rate>("analog-rate").map(|r| r.value),
            time_out: section.parsed::<Time>("time-out").map(|t| t.value),
        }
    }

    /// Lays another one over this one: what it states replaces.
    pub(in crate::setup) fn overlay(&mut self, over: DraftSampling) {
        self.speed = over.speed.or(self.speed.take());
        self.length = over.length.or(self.length);
        self.unclear |= over.unclear;
        self.before = over.before.or(self.before);
        self.analog_rate = over.analog_rate.or(self.analog_rate);
        self.time_out = over.time_out.or(self.time_out);
    }

    pub(in crate::setup) fn resolve(&self, problems: &mut Vec<Error>) -> Option<Sampling> {
        let speed = self.speed.as_ref()?;
        let Some(length) = self.length else {
            let help = "add 'length = \"20 ms\"' or 'samples = \"2 M\"'";
            if !self.unclear {
                problems.push(wrong(&speed.place, "[sampling] has a rate but no length", help));
            }
            return None;
        };
        let before = self.before.unwrap_or(Before::Beginning);
        Some(Sampling { speed: speed.value, length, before, analog_rate: self.analog_rate })
    }
}

/// A sample rate as it stands in a setup.
pub(in crate::setup) fn speed_of(text: &str) -> Result<Speed, Error> {
    text.parse::<SpeedText>().map(|speed| speed.0)
}

/// A length as it stands in a setup.
pub(in crate::setup) fn length_of(text: &str) -> Result<Length, Error> {
    text.parse::<LengthText>().map(|length| length.0)
}

/// A part before the trigger as it stands in a setup.
pub(in crate::setup) fn before_of(text: &str) -> Result<Before, Error> {
    text.parse::<BeforeText>().map(|before| before.0)
}

/// A rate, or 'max'.
struct SpeedText(Speed);

impl std::str::FromStr for SpeedText {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if text.trim() == "max" {
            return Ok(SpeedText(Speed::Fastest));
        }
        text.parse::<Rate>().map(|rate| SpeedText(Speed::Rate(rate))).map_err(|error| {
            Error::new(ErrorKind::Quantity, error.message())
                .with_help("write a rate like '100 MS/s', or 'max' for the fastest that fits")
        })
    }
}

/// A length of time, or 'max'.
struct LengthText(Length);

impl std::str::FromStr for LengthText {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if text.trim() == "max" {
            return Ok(LengthText(Length::Longest));
        }
        text.parse::<Time>().map(|time| LengthText(Length::Time(time))).map_err(|error| {
            Error::new(ErrorKind::Quantity, error.message())
                .with_help("write a time like '20 ms', or 'max' for as long as the memory lasts")
        })
    }
}

/// A share or a time.
struct BeforeText(Before);

impl std::str::FromStr for BeforeText {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if text.trim_end().ends_with('%') {
            return text.parse::<Percent>().map(|share| BeforeText(Before::Share(share)));
        }
        text.parse::<Time>().map(|time| BeforeText(Before::Time(time))).map_err(|error| {
            Error::new(ErrorKind::Quantity, error.message())
                .with_help("write a share like '25 %' or a time like '5 ms'")
        })
    }
}
