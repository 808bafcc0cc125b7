//! Files: the capture container, and interchange with other programs.

pub mod csv;
pub mod dtap;
pub mod vcd;
mod voltages;
