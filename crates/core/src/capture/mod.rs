//! Recorded traces, and what is needed to understand them.
//!
//! Per line, time is cut into chunks of 65 536 ticks. A chunk without an edge takes no space, a
//! chunk with few edges is a list of 16-bit offsets, a busy one a bitmap of levels: hardly more
//! than two bytes per edge either way. A directory with running counts answers every question about a
//! place ([`Trace::level_at`], [`Trace::next_edge`], [`Trace::count`], [`Trace::nth_edge`]) by
//! binary search. Everything else is written against these questions.

mod analog;
mod assemble;
mod builder;
mod chunk_marks;
mod chunks;
mod chunks_builder;
mod crossing;
mod excerpt;
mod grid;
mod held;
mod merged;
mod narrow;
mod past;
mod record;
mod rolling;
mod sample_times;
mod spread;
#[cfg(test)]
mod tests;
mod trace;

pub use analog::{ANALOG_BLOCK, AnalogBuilder, AnalogSource, AnalogTrace, Extremes, StoredCodes};
pub use assemble::CaptureBuilder;
pub(crate) use assemble::number_repeated;
pub use builder::TraceBuilder;
pub(crate) use chunk_marks::{CHUNK_WORDS, ChunkMarks};
pub(crate) use chunks::CHUNK;
pub use chunks::Chunks;
pub use chunks_builder::ChunksBuilder;
pub use held::HeldBuilder;
pub use merged::{BusValues, Merged};
pub(crate) use record::LineNames;
pub use record::{Attachment, Capture, Damage, DamageLog, Note, Origin};
pub(crate) use rolling::Rolling;
pub(crate) use spread::SpreadMeter;
pub use trace::{Edge, Edges, SegmentSource, StoredSegment, Trace};
