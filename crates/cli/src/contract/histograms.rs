//! Histograms. Values are in the unit that stands beside.

use deep_tap::draw::Histogram;
use deep_tap::quantity::Quantity;
use serde::{Serialize, Serializer};

use super::limits::RequiredEnds;

/// The columns of a table of bins.
pub(crate) const COLUMNS: &[&str] = &["unit", "at_least", "below", "count"];

/// How many values lie where, and what is required of them.
#[derive(Serialize)]
struct HistogramRow {
    unit: String,
    bins: Vec<Bin>,
    required: Option<RequiredEnds>,
}

/// The values in one stretch.
#[derive(Serialize)]
struct Bin {
    at_least: Quantity,
    below: Quantity,
    count: u64,
}

impl From<&Histogram> for HistogramRow {
    fn from(of: &Histogram) -> Self {
        let bins = of.bins.iter().map(|bin| Bin { at_least: bin.from, below: bin.to, count: bin.count });
        HistogramRow {
            unit: of.bins.first().map_or(String::new(), |bin| bin.from.unit().to_string()),
            bins: bins.collect(),
            required: of.required.map(Into::into),
        }
    }
}

/// A row of the table: a bin with its unit.
#[derive(Serialize)]
pub(crate) struct BinRow {
    unit: String,
    #[serde(flatten)]
    bin: Bin,
}

/// The rows of a histogram.
pub(crate) fn rows(of: &Histogram) -> impl Iterator<Item = BinRow> {
    let HistogramRow { unit, bins, .. } = of.into();
    bins.into_iter().map(move |bin| BinRow { unit: unit.clone(), bin })
}

/// A histogram.
pub(crate) fn one<S: Serializer>(histogram: &Histogram, serializer: S) -> Result<S::Ok, S::Error> {
    HistogramRow::from(histogram).serialize(serializer)
}

/// A histogram, if there is one.
pub(crate) fn some<S: Serializer>(histogram: &Option<Histogram>, serializer: S) -> Result<S::Ok, S::Error> {
    histogram.as_ref().map(HistogramRow::from).serialize(serializer)
}
