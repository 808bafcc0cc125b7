//! Where the beginnings of traces go while a long record is read.

use crate::capture::{Capture, Trace};
use crate::error::Result;

/// Takes the beginnings of traces while a record is read, so that it never is in memory as a whole.
pub(crate) trait Spill {
    /// The record begins; `description` has everything but ticks, as far as it is known. Whether levels
    /// float is not.
    ///
    /// # Errors
    /// When nothing can be taken.
    fn begin(&mut self, description: Capture) -> Result<()>;

    /// Whether so much, in list entries of 16 bits, over so many ticks, should be handed on.
    fn is_wanted(&self, weight: usize, ticks: u64) -> bool;

    /// Takes the traces of all lines from where the last part ended up to a tick.
    ///
    /// # Errors
    /// When they cannot be taken.
    fn part(&mut self, lines: &[&Trace], end: u64) -> Result<()>;

    /// The record is to be read again from its beginning: what came so far is forgotten.
    ///
    /// # Errors
    /// When that cannot be done.
    fn again(&mut self) -> Result<()>;
}
