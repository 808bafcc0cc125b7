//! The section of what a record's file does not say itself.

use crate::quantity::{Percent, Rate, Time};
use crate::reader::Section;
use crate::setup::Import;
use crate::time::Moment;

pub(in crate::setup) fn read_import(section: &Section<'_>) -> Import {
    let rate = section.parsed::<Rate>("rate");
    let period = section.parsed::<Time>("period");
    if let (Some(_), Some(period)) = (&rate, &period) {
        let message = "both 'rate' and 'period' say when samples were taken";
        section.refuse(&period.place, message, "keep one of them");
    }
    let of_rate = rate.as_ref().and_then(|rate| rate.value.period().filter(|period| *period > Time::ZERO));
    if let Some(rate) = rate.filter(|_| of_rate.is_none()) {
        section.refuse(&rate.place, "a rate is above zero", "give it like \"24 MS/s\"");
    }
    let not_negative = |key: &'static str| {
        let time = section.parsed::<Time>(key)?;
        if time.value < Time::ZERO {
            section.refuse(&time.place, format!("'{key}' is not negative"), "give how far it may be off");
        }
        Some(time.value.max(Time::ZERO))
    };
    let accuracy = section.parsed::<Percent>("accuracy");
    if let Some(negative) = accuracy.as_ref().filter(|accuracy| accuracy.value < Percent::ZERO) {
        section.refuse(&negative.place, "'accuracy' is not negative", "give it like \"50 ppm\"");
    }
    Import {
        period: of_rate.or(period.map(|period| period.value)),
        skew: not_negative("skew"),
        accuracy: accuracy.map(|accuracy| accuracy.value.max(Percent::ZERO)),
        uncertainty: not_negative("uncertainty"),
        zero: not_negative("zero"),
        made: section.parsed::<Moment>("made").map(|made| made.value),
    }
}
