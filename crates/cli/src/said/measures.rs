//! Measured intervals.

use deep_tap::measure::{Averages, Counted, Jitter, Measure};
use deep_tap::quantity::{Bounds, Estimate, Time};
use serde::{Serialize, Serializer};

/// One of many intervals: how long it is, what is known of that, and where it begins.
#[derive(Serialize)]
pub(super) struct SaidMeasure {
    value: Time,
    bounds: Bounds,
    at: Option<Time>,
}

impl From<Measure> for SaidMeasure {
    fn from(Measure { value, bounds, at }: Measure) -> Self {
        SaidMeasure { value, bounds, at }
    }
}

/// One, if there is one.
pub(crate) fn some<S: Serializer>(of: &Option<Measure>, serializer: S) -> Result<S::Ok, S::Error> {
    of.map(SaidMeasure::from).serialize(serializer)
}

/// A value as counted, and what is known of it.
#[derive(Serialize)]
struct SaidCounted {
    value: Time,
    bounds: Bounds,
}

/// One, if there is one.
pub(crate) fn counted<S: Serializer>(of: &Option<Counted>, serializer: S) -> Result<S::Ok, S::Error> {
    of.map(|Counted { value, bounds }| SaidCounted { value, bounds }).serialize(serializer)
}

/// How steady a repeating event is, in seconds; the drift is a share.
#[derive(Serialize)]
struct SaidJitter {
    period_rms: Estimate,
    period_peak_to_peak: Estimate,
    cycle_to_cycle_rms: Option<Estimate>,
    cycle_to_cycle_peak: Option<Estimate>,
    grid_rms: Estimate,
    grid_peak_to_peak: Estimate,
    drift: Option<Estimate>,
}

/// The jitter, if it was asked for.
pub(crate) fn jitter<S: Serializer>(of: &Option<Jitter>, serializer: S) -> Result<S::Ok, S::Error> {
    let said = of.as_ref().map(|of| SaidJitter {
        period_rms: of.period_rms,
        period_peak_to_peak: of.period_peak_to_peak,
        cycle_to_cycle_rms: of.cycle_to_cycle_rms,
        cycle_to_cycle_peak: of.cycle_to_cycle_peak,
        grid_rms: of.grid_rms,
        grid_peak_to_peak: of.grid_peak_to_peak,
        drift: of.drift,
    });
    said.serialize(serializer)
}

/// Averages over so many periods each.
#[derive(Serialize)]
struct SaidAverages {
    over: u64,
    count: u64,
    min: Option<Estimate>,
    max: Option<Estimate>,
}

/// The averages, if they were asked for.
pub(crate) fn averages<S: Serializer>(of: &Option<Averages>, serializer: S) -> Result<S::Ok, S::Error> {
    let said =
        of.as_ref().map(|of| SaidAverages { over: of.over, count: of.count, min: of.min, max: of.max });
    said.serialize(serializer)
}
