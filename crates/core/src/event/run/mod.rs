//! Evaluation in windows of up to 2048 ticks.
//!
//! A window holds, per line, its levels as words of 64: the bit plane. Each part of an event turns
//! it into words with a one for each tick at which it happens: an edge is a few operations, a
//! pattern a handful; durations, counts and sequences go from one bit to the next. The same engine
//! runs over stored traces, where stretches without edges are skipped, and over arriving samples.
//!
//! To the next editor: a part may only carry state from one window to the next that stays right
//! when windows without any edge are left out, and must name in `wake` the tick at which it could
//! happen in such a window. `tests/it/events_oracle.rs` is what notices when it does not.

mod census;
mod framing;
mod lasting;
mod machine;
mod mask;
mod part;
mod sequence;
mod stored;
mod stream;
mod window;

pub use census::{BusSeen, FieldSeen, FramesSeen};
pub(in crate::event) use mask::MaskTest;
pub(in crate::event) use stored::HitReader;
pub use stored::Hits;
pub use stream::StreamSearch;
pub(in crate::event) use window::{NONE, Window};
