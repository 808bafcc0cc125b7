//! From any record to a capture file, with memory for little of it at a time.

use std::path::{Path, PathBuf};

use super::READ_AS;
use super::dtap::{SaveOptions, Writer, save};
use super::recognise::read_into;
use super::source::Source;
use super::spill::Spill;
use crate::capture::{Capture, Trace};
use crate::error::Result;
use crate::setup::{Import, Setup};

/// So much, in list entries of 16 bits, is held before it is written, or so many ticks.
const MOST_HELD: usize = 1 << 21;
const MOST_TICKS: u64 = 1 << 40;

/// Reads a record that is not a capture and writes it as one, under a setup or without; what is stated comes
/// before what the setup states. The record is never in memory as a whole where its format allows that: dumps
/// and packed samples do. The answer is what was noticed on the way.
///
/// # Errors
/// Those of reading the record, of laying the setup over it, and of writing the capture.
pub fn import(
    source: &Source,
    setup: Option<&Path>,
    stated: Import,
    (path, options): (&Path, SaveOptions),
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Vec<String>> {
    let own = setup.map(Setup::import_of).transpose()?.unwrap_or_default();
    let import = own.overlaid(stated);
    let laying = Laying { setup: setup.map(Path::to_path_buf), import: import.clone() };
    let mut file = File { laying: &laying, path, options, open: None };
    // On another grid, a record is put as a whole.
    let whole = import.period.is_some()
        && import.format.is_none_or(|format| format == crate::setup::RecordFormat::Dump);
    let spill: Option<&mut dyn Spill> = if whole { None } else { Some(&mut file) };
    let record = read_into(source, &import, spill, progress)?;
    let told = record.history().iter().filter(|told| told.starts_with(READ_AS));
    let remarks = told.chain(record.remarks()).cloned().collect();
    let capture = laying.lay(record)?;
    match file.open {
        Some(open) if open.written > 0 => {
            let Open { mut writer, written, .. } = open;
            writer.blocks(&capture.traces_with_changes(), written, capture.len())?;
            writer.finish(&capture)?;
        }
        open => {
            if let Some(open) = open {
                open.writer.abandon()?;
            }
            save(&capture, path, options)?;
        }
    }
    Ok(remarks)
}

/// What is laid over a record.
struct Laying {
    setup: Option<PathBuf>,
    import: Import,
}

impl Laying {
    fn lay(&self, record: Capture) -> Result<Capture> {
        match &self.setup {
            Some(path) => {
                let setup = Setup::from_file_for(path, &record)?;
                Setup { import: self.import.clone(), ..setup }.apply(record)
            }
            None => self.import.apply(record),
        }
    }
}

/// The file that takes a record part by part.
struct File<'a> {
    laying: &'a Laying,
    path: &'a Path,
    options: SaveOptions,
    open: Option<Open>,
}

struct Open {
    writer: Writer,
    /// For each line of the file, which of the record it is.
    lines: Vec<usize>,
    written: u64,
}

impl Spill for File<'_> {
    fn begin(&mut self, description: Capture) -> Result<()> {
        // The lines are known by their traces, empty as they are.
        let own = description.with_own_traces();
        let laid = self.laying.lay(own.with_same_traces())?;
        let lines = laid.traces_in(&own).into_iter().flatten().collect();
        let writer = Writer::begin(&laid, self.path, self.options, !laid.resolution().sampled)?;
        self.open = Some(Open { writer, lines, written: 0 });
        Ok(())
    }

    fn is_wanted(&self, weight: usize, ticks: u64) -> bool {
        weight >= MOST_HELD || ticks >= MOST_TICKS
    }

    fn part(&mut self, lines: &[&Trace], end: u64) -> Result<()> {
        let Some(open) = &mut self.open else { return Ok(()) };
        let wanted: Vec<&Trace> = open.lines.iter().map(|line| lines[*line]).collect();
        open.writer.blocks(&wanted, open.written, end)?;
        open.written = end;
        Ok(())
    }

    fn again(&mut self) -> Result<()> {
        match self.open.take() {
            Some(open) => open.writer.abandon(),
            None => Ok(()),
        }
    }
}
