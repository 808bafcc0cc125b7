//! A whole bench from its file: the board, its faults, and the instrument on it.

use std::path::Path;

use deep_tap_core::instrument::{Bank, Capabilities, Mode, OnBoardTrigger};
use deep_tap_core::quantity::{Rate, Voltage};
use deep_tap_core::{Error, Result};
use toml::Spanned;

use super::bench_file::{BenchFile, FileInstrument, Given, Source};
use super::composed::Composed;

/// What a bench file describes.
pub(crate) struct Bench {
    pub(crate) board: Composed,
    /// Its own instrument, if it has one: name and what it can do.
    pub(crate) instrument: Option<(String, Capabilities)>,
    /// Its faults, as written.
    pub(crate) faults: Vec<String>,
}

/// Reads a bench file.
///
/// # Errors
/// When it cannot be read, and for what is wrong in it, with its place.
pub(crate) fn read_bench(path: &Path, seed: u64) -> Result<Bench> {
    let text = std::fs::read_to_string(path).map_err(|e| Error::io(path, "read", e))?;
    let source = Source { name: path.display().to_string().into(), text: text.as_str().into() };
    let file: BenchFile = toml::from_str(&text).map_err(|error| {
        source.wrong(
            error.span().unwrap_or(0..0),
            error.message().to_string(),
            "docs/bench.md has all sections and keys",
        )
    })?;
    let faults = file.faults.iter().map(|fault| fault.get_ref().clone()).collect();
    let instrument = file.instrument.as_ref().map(|own| instrument(&source, own)).transpose()?;
    let board = Composed::new(file, &source, seed)?;
    Ok(Bench { board, instrument, faults })
}

/// The instrument that a file describes: its name and what it can do.
fn instrument(source: &Source, own: &Spanned<FileInstrument>) -> Result<(String, Capabilities)> {
    let file = own.get_ref();
    let rates = |rates: &[Given<Rate>]| rates.iter().map(|rate| rate.0).collect::<Vec<_>>();
    let at_once = file.inputs_at_once.unwrap_or(file.inputs);
    let mut modes = Vec::new();
    if !file.rates.is_empty() {
        let memory = file.memory.as_ref().map_or(1 << 20, |memory| memory.0.0);
        modes.push(Mode::on_board(at_once, rates(&file.rates), memory));
    }
    if !file.stream_rates.is_empty() {
        modes.push(Mode::streaming(at_once, rates(&file.stream_rates), 1 << 40));
    }
    let mut bank = Bank::new("A", file.inputs);
    bank.thresholds = file.thresholds.0;
    bank.step = file.threshold_step.as_ref().map_or(Voltage::ZERO, |step| step.0);
    bank.per_input = true;
    bank.highest = file.highest.0;
    let mut able = Capabilities::new([bank], modes);
    able.trigger = file.trigger_levels.map_or_else(OnBoardTrigger::default, OnBoardTrigger::edge);
    let check = able.check();
    check.map_err(|error| {
        source.wrong(
            own.span(),
            format!("this instrument contradicts itself: {}", error.message()),
            "give it rates that rise, memory, and no more inputs at once than it has",
        )
    })?;
    Ok((file.name.clone(), able))
}
