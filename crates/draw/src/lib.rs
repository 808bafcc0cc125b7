//! Pictures of captures.
//!
//! The geometry is worked out first ([`Picture`]) and turned into an output afterwards, so that
//! every output shows the same.

mod axis;
mod frames;
mod text;
mod wave;

pub use axis::AxisLabel;
pub use frames::FrameSpan;
pub use wave::{Cell, Marker, Picture, Row, RowSource, View};
