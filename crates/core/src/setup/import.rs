//! What is stated of a record that comes from a file, since the file does not say so itself.

use std::fmt;
use std::str::FromStr;

use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::line::{Level, Threshold};
use crate::quantity::{Percent, Rate, Time, Voltage};
use crate::scan::SampleWidth;
use crate::time::{MAX_TICKS, Moment, Resolution, Tick};

/// Makes a choice that is written as one of a few words.
macro_rules! words {
    ($(#[$about:meta])* $name:ident, $what:literal { $($(#[$doc:meta])* $variant:ident = $word:literal,)* }) => {
        $(#[$about])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
        pub enum $name {
            $($(#[$doc])* $variant,)*
        }

        impl FromStr for $name {
            type Err = Error;

            fn from_str(text: &str) -> Result<Self> {
                match text.trim() {
                    $($word => Ok($name::$variant),)*
                    other => {
                        let error = Error::new(ErrorKind::Quantity, format!("'{other}' is not {}", $what));
                        Err(error.with_help(suggest(other, [$($word),*].into_iter(), $what)))
                    }
                }
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(match self {
                    $($name::$variant => $word,)*
                })
            }
        }
    };
}

words! {
    /// How a file keeps its record.
    RecordFormat, "a format of records" {
        /// A value change dump.
        Dump = "vcd",
        /// A table of comma-separated values.
        Table = "csv",
        /// Packed samples: 1, 2, 4 or 8 bytes each.
        Packed = "packed",
        /// An array of numbers.
        Array = "npy",
    }
}

words! {
    /// What the rows of a table are.
    Rows, "what rows are" {
        /// One row for each sample.
        Samples = "samples",
        /// One row for each instant at which something changes.
        Changes = "changes",
    }
}

words! {
    /// What stands before the fraction of a number.
    DecimalMark, "a decimal mark" {
        /// `1.5`
        Point = ".",
        /// `1,5`
        Comma = ",",
    }
}

words! {
    /// Which byte of a sample comes first.
    ByteOrder, "an order of bytes" {
        /// The least significant one.
        Little = "little",
        /// The most significant one.
        Big = "big",
    }
}

words! {
    /// How whole numbers are written.
    Numbers, "a way of writing numbers" {
        /// To the base 10.
        Decimal = "decimal",
        /// To the base 16, with or without a prefix.
        Hex = "hex",
        /// To the base 2.
        Binary = "binary",
    }
}

words! {
    /// What an empty cell of a table means.
    EmptyCell, "what an empty cell means" {
        /// Nothing is known.
        Unknown = "unknown",
        /// The value of the row before.
        Unchanged = "unchanged",
        /// Low.
        Low = "low",
        /// High.
        High = "high",
        /// Nobody drives the line.
        Floating = "floating",
    }
}

impl EmptyCell {
    /// The level that it stands for; `None` where that is the one before.
    pub fn level(self) -> Option<Level> {
        match self {
            EmptyCell::Unknown => Some(Level::Unknown),
            EmptyCell::Low => Some(Level::Low),
            EmptyCell::High => Some(Level::High),
            EmptyCell::Floating => Some(Level::Floating),
            EmptyCell::Unchanged => None,
        }
    }
}

/// What the times of a file count in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Times {
    /// In this unit.
    In(Time),
    /// In samples.
    Samples,
}

impl FromStr for Times {
    type Err = Error;

    /// `ms`, `10 ns` or `samples`.
    fn from_str(text: &str) -> Result<Self> {
        let text = text.trim();
        if text == "samples" {
            return Ok(Times::Samples);
        }
        let counted = text.starts_with(|c: char| c.is_ascii_digit());
        let time = if counted { text.parse::<Time>() } else { format!("1 {text}").parse::<Time>() };
        time.ok().filter(|time| *time > Time::ZERO).map(Times::In).ok_or_else(|| {
            Error::new(ErrorKind::Quantity, format!("'{text}' is not a unit of time"))
                .with_help("times are in s, ms, us, ns, ps, in steps such as '10 ns', or in samples")
        })
    }
}

impl fmt::Display for Times {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Times::In(unit) => {
                let text = unit.to_string();
                f.write_str(text.strip_prefix("1 ").unwrap_or(&text))
            }
            Times::Samples => f.write_str("samples"),
        }
    }
}

/// What separates the columns of a table: one character, which is neither a digit nor a quote.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Separator(
    /// The character, which takes one byte.
    pub u8,
);

impl FromStr for Separator {
    type Err = Error;

    /// The character itself, or `tab`, `blank`.
    fn from_str(text: &str) -> Result<Self> {
        match text {
            "tab" | "\t" => Ok(Separator(b'\t')),
            "blank" | " " => Ok(Separator(b' ')),
            "," | ";" | "|" | ":" => Ok(Separator(text.as_bytes()[0])),
            other => Err(Error::new(ErrorKind::Quantity, format!("'{other}' cannot separate columns"))
                .with_help("columns are separated by ',' ';' '|' ':' tab or blank")),
        }
    }
}

impl Separator {
    /// As it is read.
    fn word(self) -> String {
        match self.0 {
            b'\t' => "tab".to_string(),
            b' ' => "blank".to_string(),
            byte => char::from(byte).to_string(),
        }
    }
}

/// What is stated of a record that comes from a file, since the file does not say so itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Import {
    /// The format, where the content does not show it.
    pub format: Option<RecordFormat>,
    /// From one sample to the next: the record was sampled, and its times are those of samples.
    pub period: Option<Time>,
    /// Whether its times are exact, as a simulation's are.
    pub exact: bool,
    /// Largest difference in delay between any two inputs.
    pub skew: Option<Time>,
    /// Largest relative error of the time base.
    pub accuracy: Option<Percent>,
    /// Extra uncertainty of every interval, to either side.
    pub uncertainty: Option<Time>,
    /// How long after its first instant its time zero is.
    pub zero: Option<Time>,
    /// When it was recorded.
    pub made: Option<Moment>,
    /// What its times count in.
    pub times: Option<Times>,
    /// What the rows of a table are.
    pub rows: Option<Rows>,
    /// What separates the columns of a table.
    pub separator: Option<Separator>,
    /// What stands before the fraction of a number.
    pub decimal: Option<DecimalMark>,
    /// What an empty cell of a table means.
    pub empty: Option<EmptyCell>,
    /// How the numbers of buses are written in a table.
    pub numbers: Option<Numbers>,
    /// Above which voltage a column of volts is a high line, too.
    pub threshold: Option<Threshold>,
    /// How far a voltage must come back from the threshold before it can cross it again.
    pub hysteresis: Option<Voltage>,
    /// How many bytes a packed sample takes.
    pub width: Option<SampleWidth>,
    /// Which byte of a packed sample comes first.
    pub byte_order: Option<ByteOrder>,
    /// Bytes before the first packed sample.
    pub skip: Option<u64>,
    /// Which array of an archive holds the record.
    pub array: Option<String>,
    /// Whether a damaged file is read as far as it is good.
    pub partial: bool,
}

impl Import {
    /// The same with what another one states in the place of this.
    #[must_use]
    pub fn overlaid(self, over: Import) -> Import {
        Import {
            format: over.format.or(self.format),
            period: over.period.or(self.period),
            skew: over.skew.or(self.skew),
            accuracy: over.accuracy.or(self.accuracy),
            uncertainty: over.uncertainty.or(self.uncertainty),
            zero: over.zero.or(self.zero),
            made: over.made.or(self.made),
            times: over.times.or(self.times),
            rows: over.rows.or(self.rows),
            separator: over.separator.or(self.separator),
            decimal: over.decimal.or(self.decimal),
            empty: over.empty.or(self.empty),
            numbers: over.numbers.or(self.numbers),
            threshold: over.threshold.or(self.threshold),
            hysteresis: over.hysteresis.or(self.hysteresis),
            width: over.width.or(self.width),
            byte_order: over.byte_order.or(self.byte_order),
            skip: over.skip.or(self.skip),
            array: over.array.or(self.array),
            exact: over.exact || self.exact,
            partial: over.partial || self.partial,
        }
    }

    /// What is stated, as the keys of a section with their values.
    pub fn stated(&self) -> Vec<(&'static str, String)> {
        fn text<T: fmt::Display>(value: Option<T>) -> Option<String> {
            value.map(|value| value.to_string())
        }
        // A period that is no decimal number of seconds is that of a rate.
        let of_rate = self.period.and_then(|period| period.to_rational().recip()).map(Rate::from_rational);
        let rate =
            text(of_rate).filter(|text| text.parse::<Rate>().ok().and_then(Rate::period) == self.period);
        let period = text(self.period).filter(|_| rate.is_none());
        let flag = |flag: bool| flag.then(|| "true".to_string());
        let all = [
            ("format", text(self.format)),
            ("rate", rate),
            ("period", period),
            ("exact", flag(self.exact)),
            ("skew", text(self.skew)),
            ("accuracy", text(self.accuracy)),
            ("uncertainty", text(self.uncertainty)),
            ("zero", text(self.zero)),
            ("made", text(self.made)),
            ("time", text(self.times)),
            ("rows", text(self.rows)),
            ("separator", self.separator.map(Separator::word)),
            ("decimal", text(self.decimal)),
            ("empty", text(self.empty)),
            ("numbers", text(self.numbers)),
            ("threshold", text(self.threshold)),
            ("hysteresis", text(self.hysteresis)),
            ("width", text(self.width.map(SampleWidth::bytes))),
            ("byte-order", text(self.byte_order)),
            ("skip", text(self.skip)),
            ("array", self.array.clone()),
        ];
        all.into_iter().filter_map(|(key, value)| Some((key, value?))).collect()
    }

    /// The record of which this is stated.
    ///
    /// # Errors
    /// As [`Capture::on_grid`]; and when time zero is too far away to be counted.
    pub fn apply(&self, record: Capture) -> Result<Capture> {
        let own = *record.resolution();
        let resolution = Resolution {
            sampled: own.sampled || self.period.is_some(),
            skew: self.skew.unwrap_or(own.skew),
            accuracy: self.accuracy.unwrap_or(own.accuracy),
            extra: self.uncertainty.unwrap_or(own.extra),
        };
        let record = match self.period {
            Some(period) => record.on_grid(period, resolution)?,
            None => record.into_builder().resolution(resolution).build()?,
        };
        let (mut base, mut origin) = (record.base(), record.origin().clone());
        if let Some(zero) = self.zero {
            let tick = base.ticks_in(zero).and_then(|ticks| u64::try_from(ticks.round()).ok());
            let tick = tick.filter(|tick| *tick < MAX_TICKS).ok_or_else(|| {
                Error::new(ErrorKind::Range, format!("time zero cannot be {zero} after the first instant"))
                    .with_help("state how long after the beginning of the record it is")
            })?;
            base = base.with_zero(Tick(tick));
        }
        origin.made = self.made.or(origin.made);
        record.into_builder().base(base).origin(origin).build()
    }
}
