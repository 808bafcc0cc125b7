//! Files: the capture container, and interchange with other programs.

pub mod csv;
pub mod dtap;
mod stated;
pub mod vcd;
mod voltages;
