//! Waveforms as a drawing.

mod layout;
mod marks;
mod paint;
mod rows;

pub use layout::Sheet;
