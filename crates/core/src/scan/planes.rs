//! Bit planes: what packed samples are turned into.

/// Samples in one word of a plane.
pub(crate) const GROUP: usize = 64;
/// Most words that are sliced at once.
pub(crate) const SPAN: usize = 32;

/// Levels of one line at up to 2048 consecutive ticks.
pub(crate) type Plane = [u64; SPAN];
