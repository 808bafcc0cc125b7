//! A capture file that is written while the capture runs.

use std::path::{Path, PathBuf};

use super::write::{SaveOptions, Writer};
use crate::capture::{CHUNK, Capture, Trace};
use crate::error::Result;
use crate::scan::{Filler, Samples};
use crate::setup::CaptureSink;

/// A block is written once so many list entries of 16 bits are held, or so many ticks went by:
/// little is lost with the process, and little is held.
const MOST_HELD: usize = 1 << 17;
const MOST_TICKS: u64 = 1 << 24;

/// Writes a capture to a file while it is recorded, with memory for the last block only.
///
/// Until [`finish`](Recorder::finish), the file lies at [`part_path`](super::part_path), where
/// every block that was completed can be read whatever happens to this process.
///
/// ```
/// use std::ops::ControlFlow;
/// # use deep_tap_core::{format::dtap, instrument::Instrument, setup::{RecordOptions, Setup}, Result};
/// # fn record(setup: &Setup, instrument: &mut dyn Instrument, path: &std::path::Path) -> Result<()> {
/// let mut file = dtap::Recorder::new(path, dtap::SaveOptions::default());
/// let go_on = &mut |_| ControlFlow::Continue(());
/// let description = setup.record_into(instrument, RecordOptions::default(), &mut file, go_on)?;
/// file.finish(&description)?;
/// # Ok(())
/// # }
/// ```
#[derive(Debug)]
pub struct Recorder {
    path: PathBuf,
    options: SaveOptions,
    open: Option<Open>,
}

#[derive(Debug)]
struct Open {
    writer: Writer,
    filler: Filler,
    /// Ticks in the blocks that are written.
    written: u64,
    /// As known when the recording began.
    description: Option<Capture>,
}

impl Recorder {
    /// Nothing is created before the recording begins.
    pub fn new(path: &Path, options: SaveOptions) -> Self {
        Recorder { path: path.to_path_buf(), options, open: None }
    }

    /// Writes what is still held, completes the file and puts it in its place.
    ///
    /// # Errors
    /// As [`save`](super::save).
    pub fn finish(self, description: &Capture) -> Result<()> {
        match self.open {
            Some(open) => open.finish(description),
            // A recording without a single sample.
            None => Writer::create(description, &self.path, self.options)?.finish(description),
        }
    }

    /// The same for a recording that broke off, with a remark on why; `false` when it had not even
    /// begun, and so there is no file.
    ///
    /// # Errors
    /// As [`save`](super::save).
    pub fn finish_broken_off(mut self, why: &str) -> Result<bool> {
        let Some(mut open) = self.open.take() else { return Ok(false) };
        if let Some(description) = open.description.take() {
            let remark = format!("the recording broke off: {why}");
            open.finish(&description.into_builder().remark(remark).build()?)?;
        }
        Ok(true)
    }
}

impl Open {
    fn create(description: Capture, path: &Path, options: SaveOptions) -> Result<Open> {
        let bits: Vec<u32> = (0..description.lines().len() as u32).collect();
        let writer = Writer::create(&description, path, options)?;
        Ok(Open { writer, filler: Filler::new(&bits), written: 0, description: Some(description) })
    }

    fn finish(mut self, description: &Capture) -> Result<()> {
        let end = self.filler.position();
        if end > self.written {
            let traces = self.filler.finish();
            self.writer.block(&traces.iter().collect::<Vec<_>>(), self.written, end)?;
        }
        self.writer.finish(description)
    }

    /// Writes a block if enough is held; only where a chunk ends.
    fn relieve(&mut self) -> Result<()> {
        let end = self.filler.position();
        if self.filler.weight() < MOST_HELD && end - self.written < MOST_TICKS {
            return Ok(());
        }
        let traces: Vec<Trace> = self.filler.cut();
        self.writer.block(&traces.iter().collect::<Vec<_>>(), self.written, end)?;
        self.written = end;
        Ok(())
    }
}

impl CaptureSink for Recorder {
    fn begin(&mut self, description: Capture) -> Result<()> {
        self.open = Some(Open::create(description, &self.path, self.options)?);
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        let Some(open) = &mut self.open else { return Ok(()) };
        let mut at = 0;
        while at < samples.len() {
            let room = CHUNK - open.filler.position() % CHUNK;
            let end = samples.len().min(at.saturating_add(room as usize));
            open.filler.push(samples.slice(at..end));
            at = end;
            if open.filler.position().is_multiple_of(CHUNK) {
                open.relieve()?;
            }
        }
        Ok(())
    }
}
