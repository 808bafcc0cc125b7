//! Comma-separated values, in and out: a time column, then a column per line, per bus and per analog line.
//!
//! What instruments, scripts and spreadsheets write differs in everything: what separates columns, the mark
//! of the fraction, lines before the table, names with units, what times count in, whether each sample has a
//! row or each change. What the content shows is recognised, and told; what it does not show is asked for
//! where the answer would decide a verdict. Nothing is guessed.

mod cells;
mod clock;
mod columns;
mod dialect;
mod pace;
mod read;
mod sheet;
mod table;
mod write;

pub(crate) use read::{read_source, recognise};
pub use write::{Layout, write};
