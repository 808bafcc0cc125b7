//! Files: the capture container, and interchange with other programs.

mod analog;
mod bits;
mod carried;
pub mod csv;
pub mod dtap;
mod fill;
mod import;
pub mod npy;
pub mod packed;
mod pieces;
mod recognise;
mod setup_files;
mod source;
mod spill;
mod stated;
mod stated_record;
pub mod vcd;
mod voltages;

pub use carried::{WrittenSetup, write_setup};
pub use import::import;
pub use recognise::{Recognised, read, recognise};
pub use setup_files::Folder;
pub use source::Source;

/// What the line in a capture's history begins with that says what an import was recognised as.
pub(crate) const READ_AS: &str = "read as: ";
