//! Measured intervals, in the unit that the names of the objects end in.

use deep_tap::measure::{Averages, Counted, Jitter, Measure};
use deep_tap::quantity::{Estimate, Time};
use serde::{Serialize, Serializer};

/// A length as counted, between which others the true one lies, and where it begins.
#[derive(Serialize)]
pub(crate) struct Interval {
    value: Time,
    lo: Time,
    hi: Option<Time>,
    at_s: Option<Time>,
}

impl From<Measure> for Interval {
    fn from(Measure { value, bounds, at }: Measure) -> Self {
        Interval { value, lo: bounds.lo, hi: bounds.hi, at_s: at }
    }
}

/// One, if there is one.
pub(crate) fn some<S: Serializer>(of: &Option<Measure>, serializer: S) -> Result<S::Ok, S::Error> {
    of.map(Interval::from).serialize(serializer)
}

/// The same without a place.
#[derive(Serialize)]
struct Length {
    value: Time,
    lo: Time,
    hi: Option<Time>,
}

/// One, if there is one.
pub(crate) fn counted<S: Serializer>(of: &Option<Counted>, serializer: S) -> Result<S::Ok, S::Error> {
    let length = |Counted { value, bounds }: Counted| Length { value, lo: bounds.lo, hi: bounds.hi };
    of.map(length).serialize(serializer)
}

/// How steady a repeating event is.
#[derive(Serialize)]
struct JitterRow {
    period_rms_s: Estimate,
    period_peak_to_peak_s: Estimate,
    cycle_to_cycle_rms_s: Option<Estimate>,
    cycle_to_cycle_peak_s: Option<Estimate>,
    grid_rms_s: Estimate,
    grid_peak_to_peak_s: Estimate,
    drift_ppm: Option<Estimate>,
}

/// The jitter, if it was asked for.
pub(crate) fn jitter<S: Serializer>(of: &Option<Jitter>, serializer: S) -> Result<S::Ok, S::Error> {
    let row = of.as_ref().map(|of| JitterRow {
        period_rms_s: of.period_rms,
        period_peak_to_peak_s: of.period_peak_to_peak,
        cycle_to_cycle_rms_s: of.cycle_to_cycle_rms,
        cycle_to_cycle_peak_s: of.cycle_to_cycle_peak,
        grid_rms_s: of.grid_rms,
        grid_peak_to_peak_s: of.grid_peak_to_peak,
        drift_ppm: of.drift.map(|share| share.times(1e6)),
    });
    row.serialize(serializer)
}

/// Averages over so many periods each.
#[derive(Serialize)]
struct AveragesRow {
    over: u64,
    count: u64,
    min_s: Option<Estimate>,
    max_s: Option<Estimate>,
}

/// The averages, if they were asked for.
pub(crate) fn averages<S: Serializer>(of: &Option<Averages>, serializer: S) -> Result<S::Ok, S::Error> {
    let row = |of: &Averages| AveragesRow { over: of.over, count: of.count, min_s: of.min, max_s: of.max };
    of.as_ref().map(row).serialize(serializer)
}
