//! The sections of what is sent out.

use crate::instrument::{Begins, Stimulus, Waveform};
use crate::quantity::{Frequency, Percent, Rational, Time};
use crate::reader::{Placed, Section};

pub(in crate::setup) fn read_stimulus(section: &Section<'_>) -> Option<Stimulus> {
    let output = section.number_or_text("output");
    let at = section.parsed::<Time>("at");
    let after_trigger = section.parsed::<Time>("after-trigger");
    let length = section.parsed::<Time>("length").map(|l| l.value);
    let pulses = section.section("pulses").map(|pulses| {
        let frequency = pulses.parsed::<Frequency>("frequency").map(|f| f.value);
        let duty = pulses
            .parsed::<Percent>("duty")
            .map_or(Percent::from_fraction(Rational::new(1, 2)?), |d| d.value);
        if frequency.is_none() {
            pulses.missing("frequency", "frequency = \"1 kHz\"");
        }
        pulses.finish();
        Some(Waveform::Pulses { frequency: frequency?, duty, length })
    });
    let bytes = section.section("bytes").map(|bytes| {
        let bit_rate = bytes.parsed::<Frequency>("bit-rate").map(|f| f.value);
        let text = bytes.required("text", "text = \"status\\r\"");
        if bit_rate.is_none() {
            bytes.missing("bit-rate", "bit-rate = \"115.2 kHz\"");
        }
        bytes.finish();
        Some(Waveform::Bytes { bytes: text?.value.into_bytes(), bit_rate: bit_rate? })
    });
    let begins = match (at, after_trigger) {
        (Some(_), Some(_)) => {
            section
                .complain("both 'at' and 'after-trigger' say when the stimulus begins", "keep one of them");
            return None;
        }
        (None, Some(after)) => Begins::AfterTrigger(after.value),
        (at, None) => Begins::AfterArming(at.map_or(Time::ZERO, |at| at.value)),
    };
    if begins.delay() < Time::ZERO {
        section.complain("a stimulus cannot begin before that", "give a time that is not negative");
        return None;
    }
    let Some(Placed { value: Ok(output), .. }) = output else {
        section.missing("output", "output = 0");
        return None;
    };
    let signal = match (pulses, bytes) {
        (Some(pulses), None) => pulses?,
        (None, Some(bytes)) => bytes?,
        _ => {
            section.complain(
                "a stimulus sends either pulses or bytes",
                "add pulses = { frequency = \"1 kHz\", duty = \"25 %\" } or bytes = { text = \"status\\r\", bit-rate = \"9600 Hz\" }",
            );
            return None;
        }
    };
    Some(Stimulus { output, begins, signal })
}
