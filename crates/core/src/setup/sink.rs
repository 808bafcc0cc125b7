//! Where a capture goes while it is recorded.

use crate::capture::Capture;
use crate::error::Result;
use crate::scan::{Memory, Samples};

/// Where a capture goes while it is recorded.
///
/// Implementors: `begin` is called once, before anything else, and not at all when the
/// trigger does not come. An error ends the recording.
pub trait CaptureSink {
    /// The recording begins; `description` has everything but ticks.
    ///
    /// # Errors
    /// When nothing can be taken.
    fn begin(&mut self, description: Capture) -> Result<()>;

    /// The next samples; bit `i` is the `i`-th line.
    ///
    /// # Errors
    /// When they cannot be taken.
    fn push(&mut self, samples: Samples<'_>) -> Result<()>;
}

/// Keeps the samples as traces, in memory.
impl CaptureSink for Memory {
    fn begin(&mut self, _: Capture) -> Result<()> {
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        Memory::push(self, samples);
        Ok(())
    }
}
