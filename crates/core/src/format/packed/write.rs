//! Writing packed samples.

use std::io::Write;

use crate::capture::{Capture, Merged};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{Level, LineId};
use crate::scan::SampleWidth;
use crate::time::Tick;

/// The samples of a capture as numbers: bit `i` is its `i`-th line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PackedBits {
    /// Bytes of a sample.
    pub width: SampleWidth,
}

impl PackedBits {
    /// The narrowest width that has a bit for each line.
    ///
    /// # Errors
    /// When there are more lines than bits, or a level is neither low nor high: packed samples cannot say that.
    pub fn of(capture: &Capture) -> Result<PackedBits> {
        let lines = capture.lines().len();
        if lines == 0 || lines > 64 {
            let error = Error::new(
                ErrorKind::Unknown,
                format!("packed samples hold 1 to 64 lines, and there are {lines}"),
            );
            return Err(error.with_help("choose some of them with --lines"));
        }
        let neither = |line: &usize| {
            let trace = capture.recorded(LineId(*line));
            trace.level_at(Tick(0)).bit().is_none() || !trace.is_two_level()
        };
        if let Some(line) = (0..lines).find(neither) {
            let message = format!(
                "{} is unknown or floats at times, which packed samples cannot say",
                capture.lines()[line].name
            );
            let error = Error::new(ErrorKind::NotShown, message);
            return Err(error.with_help("leave the line out, or write a VCD, a CSV or a capture"));
        }
        Ok(PackedBits { width: SampleWidth::for_inputs(lines) })
    }
}

/// Writes the samples of a capture, the least significant byte of each first.
///
/// # Errors
/// When the writer refuses.
pub fn write(capture: &Capture, bits: PackedBits, out: &mut dyn Write) -> std::io::Result<()> {
    let lines: Vec<LineId> = (0..capture.lines().len()).map(LineId).collect();
    let word = |levels: &[Level]| {
        levels
            .iter()
            .enumerate()
            .fold(0u64, |word, (bit, level)| word | u64::from(*level == Level::High) << bit)
    };
    let start: Vec<Level> = lines.iter().map(|line| capture.recorded(*line).level_at(Tick(0))).collect();
    let mut now = word(&start);
    let mut merged = Merged::recorded(capture, &lines, capture.range());
    let mut tick = 0;
    let mut block = Vec::new();
    while tick < capture.len() {
        let next = merged.peek().map_or(capture.len(), |tick| tick.0);
        for _ in tick..next {
            block.extend_from_slice(&now.to_le_bytes()[..bits.width.bytes()]);
            if block.len() >= 1 << 16 {
                out.write_all(&block)?;
                block.clear();
            }
        }
        tick = next;
        if merged.step().is_some() {
            now = word(merged.levels());
        }
    }
    out.write_all(&block)?;
    out.flush()
}
