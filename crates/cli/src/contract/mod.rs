//! The contract with programs that read what the tool writes: types of their own, so that the library's may
//! change and a reader need not. `docs/json.md` states it, `docs/schema` has a schema of each document, and a
//! test holds every command's output against them.
//!
//! A name ends in the unit of its number, or of the numbers of the object that it names: `_s`, `_v`, `_hz`,
//! `_bps`, `_percent`, `_ppm`. A value that may be of several units stands beside `unit`.

pub(crate) mod comparison;
pub(crate) mod expectations;
pub(crate) mod frames;
pub(crate) mod histograms;
pub(crate) mod limits;
pub(crate) mod lines;
pub(crate) mod measures;
mod rows;
pub(crate) mod triggers;

use serde::Serialize;

pub(crate) use rows::{Rows, harmless};

/// Raised when a name goes, or changes its meaning; a new name beside the others does not raise it.
fn version(document: &str) -> u32 {
    match document {
        // Every occurrence of an expectation is judged.
        "verdicts" => 2,
        _ => 1,
    }
}

/// A document: what it is, the version of the contract, and what it says.
#[derive(Serialize)]
pub(crate) struct Document<'a, T> {
    document: &'static str,
    version: u32,
    #[serde(flatten)]
    body: &'a T,
}

impl<'a, T: Serialize> Document<'a, T> {
    pub(crate) fn new(document: &'static str, body: &'a T) -> Self {
        Document { document, version: version(document), body }
    }
}

/// A row, and the file that it is about.
#[derive(Serialize)]
pub(crate) struct InFile<'a, T> {
    pub(crate) file: &'a str,
    #[serde(flatten)]
    pub(crate) row: &'a T,
}
