//! What differs between two records of the same thing: lines, limits and how their values are spread, buses frame by
//! frame, instants of events, and what is wrong in one only.
//!
//! ```
//! use std::path::Path;
//! use deep_tap_core::capture::{Capture, Trace};
//! use deep_tap_core::compare::{CompareOptions, compare};
//! use deep_tap_core::job::Job;
//! use deep_tap_core::line::Level;
//! use deep_tap_core::setup::Setup;
//! use deep_tap_core::time::TimeBase;
//!
//! let record = |edges: &[u64]| {
//!     let base = TimeBase::from_rate("1 MS/s".parse()?)?;
//!     let busy = Trace::toggling(Level::Low, edges.iter().copied(), 100)?;
//!     let capture = Capture::builder(base, 100).line("BUSY", busy).build()?;
//!     Ok::<_, deep_tap_core::Error>(Job::recorded(capture, Setup::default(), Path::new("a.dtap")))
//! };
//! let (a, b) = (record(&[40, 44])?, record(&[])?);
//! let found = compare(&a, &b, &CompareOptions::default())?;
//! assert_eq!(found.lines[0].name, "BUSY");
//! assert_eq!(found.differences(), 1);
//! # Ok::<(), deep_tap_core::Error>(())
//! ```

mod alignment;
mod buses;
mod frames;
mod limits;
mod lines;
mod places;
mod sequence;
mod spread;
mod trouble;

use crate::error::{Error, ErrorKind, Result};
use crate::job::Job;
use crate::quantity::{Quantity, Time};

pub use alignment::Alignment;
pub use buses::{BusComparison, FieldChange, FrameDifference, FrameDifferenceKind};
pub use limits::{LimitComparison, MetComparison, OneLimit};
pub use lines::{LineComparison, LineDifference};
pub use places::PlaceComparison;
pub use spread::{Known, Shift, Spread};
pub use trouble::TroubleComparison;

/// OneOf of the two records, of what one of them has only.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum OneOf {
    /// The first.
    A,
    /// The second.
    B,
}

/// How two records are compared.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct CompareOptions {
    /// The event whose first occurrence is time zero in both; otherwise the trigger, or the start of a record without
    /// one.
    pub zero: Option<String>,
    /// Times may differ by this much.
    pub tolerance: Time,
    /// Intervals from one place to another that are compared, besides the events of the setup.
    pub between: Vec<(String, String)>,
    /// Lines, buses, fields (as `BUS.FIELD`), limits, all limits of a part (as `U5`), expectations and events that are
    /// left out.
    pub ignored: Vec<String>,
    /// Pulses shorter than this are glitches; otherwise those of fewer than three ticks of the coarser record.
    pub glitches_below: Option<Time>,
}

impl Default for CompareOptions {
    fn default() -> Self {
        CompareOptions {
            zero: None,
            tolerance: Time::ZERO,
            between: Vec::new(),
            ignored: Vec::new(),
            glitches_below: None,
        }
    }
}

/// What differs, and what does not. Lists are in the order of the first record, then what only the second has.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RecordComparison {
    /// How the records lie over each other.
    pub alignment: Alignment,
    /// Lines that are not the same.
    pub lines: Vec<LineComparison>,
    /// Lines that both have.
    pub common_lines: usize,
    /// Limits.
    pub limits: Vec<LimitComparison>,
    /// What is expected besides timing.
    pub expectations: Vec<MetComparison>,
    /// Serial buses.
    pub buses: Vec<BusComparison>,
    /// When events happen, and intervals.
    pub places: Vec<PlaceComparison>,
    /// Findings and glitches of one record only.
    pub troubles: Vec<TroubleComparison>,
    /// What has to be said of the comparison.
    pub remarks: Vec<String>,
}

impl RecordComparison {
    /// How many things differ.
    pub fn differences(&self) -> usize {
        let lines = self.lines.len();
        let limits = self.limits.iter().filter(|limit| limit.differs()).count();
        let met = self.expectations.iter().filter(|met| met.differs()).count();
        let buses = self.buses.iter().filter(|bus| bus.differs()).count();
        let places = self.places.iter().filter(|place| place.differs()).count();
        lines + limits + met + buses + places + self.troubles.len()
    }
}

/// Compares two records.
///
/// # Errors
/// When they cannot be laid over each other: the event that is to be time zero does not happen in one, or they share no
/// time; and for names that are left out and that neither has.
pub fn compare(a: &Job, b: &Job, options: &CompareOptions) -> Result<RecordComparison> {
    check_ignored(a, b, options)?;
    let mut remarks = Vec::new();
    let alignment = Alignment::of(a, b, options.zero.as_deref(), &mut remarks)?;
    let pair = Pair { a, b, options, alignment: &alignment };
    let (lines, common_lines) = lines::compare(&pair);
    let (limits, expectations) = limits::compare(&pair, &mut remarks)?;
    let buses = buses::compare(&pair, &mut remarks)?;
    let places = places::compare(&pair)?;
    let troubles = trouble::compare(&pair);
    Ok(RecordComparison {
        alignment,
        lines,
        common_lines,
        limits,
        expectations,
        buses,
        places,
        troubles,
        remarks,
    })
}

/// Both records, and how they are compared.
struct Pair<'a> {
    a: &'a Job,
    b: &'a Job,
    options: &'a CompareOptions,
    alignment: &'a Alignment,
}

impl Pair<'_> {
    fn ignores(&self, name: &str) -> bool {
        self.options.ignored.iter().any(|ignored| ignored == name)
    }

    /// The tolerance as a value of a limit; that of anything but times is nothing.
    fn tolerance(&self, like: Quantity) -> Quantity {
        match like {
            Quantity::Time(_) => self.options.tolerance.into(),
            Quantity::Percent(_) | Quantity::Voltage(_) => like.unit().of(crate::quantity::Rational::ZERO),
        }
    }
}

/// The difference of two times; the first where exact arithmetic does not fit.
fn minus(a: Time, b: Time) -> Time {
    a.to_rational().checked_sub(b.to_rational()).map_or(a, Time::from_rational)
}

/// Names that both lists have, with both, then those of one only.
fn by_name<'a, T>(
    a: &'a [T],
    b: &'a [T],
    name: impl Fn(&T) -> String,
) -> Vec<(Option<&'a T>, Option<&'a T>)> {
    let other = |of: &T| b.iter().find(|other| name(other) == name(of));
    let first = a.iter().map(|of| (Some(of), other(of)));
    let rest = b.iter().filter(|of| a.iter().all(|other| name(other) != name(of))).map(|of| (None, Some(of)));
    first.chain(rest).collect()
}

/// A name that is left out and that nothing has is a mistake.
fn check_ignored(a: &Job, b: &Job, options: &CompareOptions) -> Result<()> {
    let names = |job: &Job| -> Vec<String> {
        let lines = job.capture.lines().iter().map(|line| line.name.clone());
        let analog = job.capture.analog_lines().iter().map(|line| line.name.clone());
        let buses = job.capture.buses().iter().map(|bus| bus.name.clone());
        let mut names: Vec<String> = lines.chain(analog).chain(buses).collect();
        if let Some(setup) = &job.setup {
            names.extend(setup.serial.iter().chain(&setup.exchanged).map(|bus| bus.name().to_string()));
            names.extend(setup.limits().flat_map(|limit| [limit.name(), limit.reference.clone()]));
            names.extend(setup.expectations.iter().map(|expected| expected.name.clone()));
            names.extend(setup.events.iter().map(|(name, _)| name.clone()));
        }
        names
    };
    let known = [names(a), names(b)].concat();
    for ignored in &options.ignored {
        // A field belongs to a bus, whose name may have a dot itself.
        let is_field = ignored.rsplit_once('.').is_some_and(|(bus, _)| known.iter().any(|name| name == bus));
        if !is_field && !known.contains(ignored) {
            let message = format!("neither record has anything called '{ignored}'");
            let help = crate::error::suggest(ignored, known.iter().map(String::as_str), "name");
            return Err(Error::new(ErrorKind::Unknown, message).with_help(help));
        }
    }
    Ok(())
}
