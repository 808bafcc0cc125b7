//! Measured intervals.

use deep_tap::measure::Measure;
use deep_tap::quantity::{Bounds, Time};
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
