//! A capture file that is written while the capture runs.

use std::path::{Path, PathBuf};

use super::write::{SaveOptions, Writer};
use crate::capture::{ANALOG_BLOCK, CHUNK, Capture, Trace};
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
    /// Analog codes that are held, per line, and the tick of the first.
    codes: Vec<Vec<i16>>,
    codes_first: u64,
    every: u64,
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
        let analog = description.analog_lines().len();
        Ok(Open {
            writer,
            filler: Filler::new(&bits),
            codes: vec![Vec::new(); analog],
            codes_first: 0,
            every: 1,
            written: 0,
            description: Some(description),
        })
    }

    /// Takes the codes in that come with samples, the first of which is the next one.
    fn take_codes(&mut self, samples: Samples<'_>) -> Result<()> {
        let position = self.filler.position();
        for (input, held) in self.codes.iter_mut().enumerate() {
            let (first, every, codes) = samples.analog(input);
            if held.is_empty() && !codes.is_empty() {
                (self.codes_first, self.every) = (position + first, every);
            }
            held.extend_from_slice(codes);
        }
        while self.codes.first().is_some_and(|held| held.len() >= ANALOG_BLOCK) {
            self.write_codes(ANALOG_BLOCK)?;
        }
        Ok(())
    }

    /// Writes the first of the codes that are held.
    fn write_codes(&mut self, count: usize) -> Result<()> {
        let count = self.codes.iter().map(Vec::len).min().unwrap_or(0).min(count);
        if count == 0 {
            return Ok(());
        }
        let lines: Vec<Option<&[i16]>> = self.codes.iter().map(|held| Some(&held[..count])).collect();
        self.writer.codes(self.codes_first, count, &lines)?;
        self.codes.iter_mut().for_each(|held| drop(held.drain(..count)));
        self.codes_first += count as u64 * self.every;
        Ok(())
    }

    fn finish(mut self, description: &Capture) -> Result<()> {
        self.write_codes(ANALOG_BLOCK)?;
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
        self.write_codes(ANALOG_BLOCK)?;
        let traces: Vec<Trace> = self.filler.cut(end);
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
            open.take_codes(samples.slice(at..end))?;
            open.filler.push(samples.slice(at..end));
            at = end;
            if open.filler.position().is_multiple_of(CHUNK) {
                open.relieve()?;
            }
        }
        Ok(())
    }
}
