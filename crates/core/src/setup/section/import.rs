//! The section of what a record's file does not say itself.

use std::str::FromStr;

use crate::error::{Error, ErrorKind, Result};
use crate::quantity::{Percent, Rate, Time};
use crate::reader::{Reader, Section};
use crate::scan::SampleWidth;
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
    let bytes = section.count("width");
    let width = bytes
        .as_ref()
        .and_then(|bytes| SampleWidth::ALL.into_iter().find(|width| width.bytes() as u64 == bytes.value));
    if let Some(bytes) = bytes.filter(|_| width.is_none()) {
        section.refuse(&bytes.place, "a sample takes 1, 2, 4 or 8 bytes", "give it like 2");
    }
    Import {
        format: value(section, "format"),
        times: value(section, "time"),
        rows: value(section, "rows"),
        separator: value(section, "separator"),
        decimal: value(section, "decimal"),
        empty: value(section, "empty"),
        numbers: value(section, "numbers"),
        threshold: value(section, "threshold"),
        hysteresis: value(section, "hysteresis"),
        width,
        byte_order: value(section, "byte-order"),
        skip: section.count("skip").map(|skip| skip.value),
        array: section.text("array").map(|array| array.value),
        exact: section.flag("exact").unwrap_or(false),
        partial: false,
        period: of_rate.or(period.map(|period| period.value)),
        skew: not_negative("skew"),
        accuracy: accuracy.map(|accuracy| accuracy.value.max(Percent::ZERO)),
        uncertainty: not_negative("uncertainty"),
        zero: not_negative("zero"),
        made: value::<Moment>(section, "made"),
    }
}

impl Import {
    /// What is stated in the words of an `[import]` section, each as `key = value` or `key=value`. Values
    /// need no quotes.
    ///
    /// ```
    /// use deep_tap_core::setup::Import;
    ///
    /// let stated = Import::of_words(&["rate=24 MS/s", "width=2", "byte-order=little"])?;
    /// assert_eq!(stated.width.map(|width| width.bytes()), Some(2));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// For what the section does not know.
    pub fn of_words(words: &[impl AsRef<str>]) -> Result<Import> {
        let mut text = String::new();
        for word in words.iter().map(AsRef::as_ref) {
            let Some((key, value)) = word.split_once('=') else {
                let error = Error::new(ErrorKind::Unknown, format!("'{word}' states nothing"));
                return Err(error.with_help("state it as KEY=VALUE, such as rate=24 MS/s"));
            };
            let (key, value) = (key.trim(), value.trim());
            let bare = value.parse::<u64>().is_ok() || matches!(value, "true" | "false");
            let quoted = value.len() > 1 && value.starts_with('"') && value.ends_with('"');
            let value = if bare || quoted { value.to_string() } else { format!("{value:?}") };
            text.push_str(&format!("{key} = {value}\n"));
        }
        let reader = Reader::new("", &text, ErrorKind::Setup);
        let import = reader.read(read_import);
        Error::many(reader.into_problems()).map_or(Ok(import), Err)
    }
}

fn value<T: FromStr<Err = Error>>(section: &Section<'_>, key: &'static str) -> Option<T> {
    section.parsed::<T>(key).map(|parsed| parsed.value)
}
