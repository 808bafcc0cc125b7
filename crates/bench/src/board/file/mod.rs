//! Bench files: a board composed of the device models, its faults, and the instrument on it.

mod device;
mod instrument;
mod node;

use std::path::Path;

use deep_tap_core::instrument::Capabilities;
use deep_tap_core::reader::{Reader, Section, read_text};
use deep_tap_core::{Error, ErrorKind, Result, suggest};

use super::composed::Composed;
use crate::fault::AnyFault;

/// What a bench file describes.
pub(crate) struct Bench {
    pub(crate) board: Composed,
    /// Its own instrument, if it has one: name and what it can do.
    pub(crate) instrument: Option<(String, Capabilities)>,
    pub(crate) faults: Vec<AnyFault>,
}

/// Reads a bench file.
///
/// # Errors
/// When it cannot be read, and for all that is wrong in it, each with its place.
pub(crate) fn read_bench(path: &Path, seed: u64) -> Result<Bench> {
    let text = read_text(path, ErrorKind::Setup)?;
    let reader = Reader::new(&path.display().to_string(), &text, ErrorKind::Setup);
    let bench = reader.read(|top| read(top, seed));
    match Error::many(reader.into_problems()) {
        Some(error) => Err(error),
        None => Ok(bench),
    }
}

fn read(top: &Section<'_>, seed: u64) -> Bench {
    let title = top.required("title", "title = \"my board\"").map_or_else(String::new, |title| title.value);
    let nodes = node::read_nodes(top);
    let instrument = top.section("instrument").and_then(|section| instrument::read_instrument(&section));
    let devices = device::read_devices(top, &nodes.names);
    let faults = read_faults(top, &nodes.names);
    Bench { board: Composed::new(title, nodes, devices, seed), instrument, faults }
}

fn read_faults(top: &Section<'_>, nodes: &[String]) -> Vec<AnyFault> {
    let faults = top.parsed_list::<AnyFault>("faults").unwrap_or_default();
    for fault in &faults {
        match &fault.value {
            AnyFault::Board(of_demo) => {
                let message = format!("this board has no fault '{of_demo}'");
                top.refuse(&fault.place, message, "only the tide gauge has it");
            }
            AnyFault::Node(name, _) if !nodes.contains(name) => {
                let help = suggest(name, nodes.iter().map(String::as_str), "node");
                top.refuse(&fault.place, format!("there is no node '{name}'"), help);
            }
            _ => {}
        }
    }
    faults.into_iter().map(|fault| fault.value).collect()
}
