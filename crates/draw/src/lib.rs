//! Pictures of captures and of measured values.
//!
//! The geometry is worked out first ([`Picture`]) and turned into an output afterwards, so that
//! every output shows the same.

mod axis;
mod canvas;
mod curve;
mod frames;
mod histogram;
#[cfg(feature = "png")]
mod png;
mod row;
mod sheet;
mod svg;
mod text;
mod wave;

pub use axis::AxisLabel;
pub use canvas::{Drawing, Ground};
pub use curve::TransferCurve;
pub use histogram::{Histogram, HistogramBin};
pub use row::{Cell, Dimension, FrameSpan, Marker, Row, RowSource, Scale, View};
pub use sheet::Sheet;
pub use wave::Picture;
