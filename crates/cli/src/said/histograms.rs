//! Histograms.

use deep_tap::draw::Histogram;
use deep_tap::quantity::Quantity;
use serde::{Serialize, Serializer};

use super::limits::SaidRequired;

/// How many values lie where, and what is required of them.
#[derive(Serialize)]
struct SaidHistogram {
    bins: Vec<SaidBin>,
    required: Option<SaidRequired>,
}

/// Values from one to another, which itself is not in the bin any more.
#[derive(Serialize)]
struct SaidBin {
    from: Quantity,
    to: Quantity,
    count: u64,
}

impl From<&Histogram> for SaidHistogram {
    fn from(of: &Histogram) -> Self {
        let bins = of.bins.iter().map(|bin| SaidBin { from: bin.from, to: bin.to, count: bin.count });
        SaidHistogram { bins: bins.collect(), required: of.required.map(Into::into) }
    }
}

/// A histogram.
pub(crate) fn one<S: Serializer>(histogram: &Histogram, serializer: S) -> Result<S::Ok, S::Error> {
    SaidHistogram::from(histogram).serialize(serializer)
}

/// A histogram, if there is one.
pub(crate) fn some<S: Serializer>(histogram: &Option<Histogram>, serializer: S) -> Result<S::Ok, S::Error> {
    histogram.as_ref().map(SaidHistogram::from).serialize(serializer)
}
