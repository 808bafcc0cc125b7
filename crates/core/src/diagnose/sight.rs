//! How decoding goes with some settings.

use std::collections::BTreeMap;
use std::ops::{ControlFlow, Range};

use crate::bus::{Frame, FrameSink};
use crate::capture::Capture;
use crate::decode::{Protocol, decode};
use crate::line::LineId;
use crate::time::Tick;

/// Most frames that are looked at.
const MOST_FRAMES: u64 = 20_000;
/// Most edges of one line that are looked at.
const MOST_EDGES: u64 = 500_000;

/// What decoding with some settings found.
#[derive(Clone, Debug, Default)]
pub(super) struct Sight {
    /// Frames, and those with a fault other than being cut off.
    pub(super) frames: u64,
    pub(super) faulty: u64,
    /// Frames that mean something: not noise, not a break, not partial.
    pub(super) whole: u64,
    /// How often each kind of fault was seen, and where first.
    pub(super) faults: BTreeMap<&'static str, (u64, Tick)>,
    /// The frames without a fault since the last faulty one.
    pub(super) clean_since: u64,
}

impl Sight {
    /// Whether nothing is wrong, and enough was seen to say so.
    pub(super) fn is_clean(&self) -> bool {
        self.faulty == 0 && self.whole >= 3
    }

    /// Whether too much is wrong for settings that are right: a fifth of the frames, or no frame.
    pub(super) fn is_bad(&self) -> bool {
        self.whole == 0 || self.faulty * 5 > self.frames
    }

    pub(super) fn count(&self, fault: &str) -> u64 {
        self.faults.get(fault).map_or(0, |(count, _)| *count)
    }
}

impl FrameSink for Sight {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        if frame.faults.iter().any(|fault| fault.kind == "cut-off") {
            return ControlFlow::Continue(());
        }
        self.frames += 1;
        let means =
            !matches!(frame.kind, "noise" | "break" | "partial" | "error" | "overload" | "reset" | "fd");
        self.whole += u64::from(means && frame.faults.is_empty());
        if frame.faults.is_empty() {
            self.clean_since += 1;
        } else {
            (self.faulty, self.clean_since) = (self.faulty + 1, 0);
        }
        for fault in &frame.faults {
            self.faults.entry(fault.kind).or_insert((0, fault.at)).0 += 1;
        }
        if self.frames < MOST_FRAMES { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    }
}

/// The part of a record that is looked at: all of it, or as much as has a bounded number of edges.
pub(super) fn stretch(capture: &Capture, lines: &[LineId]) -> Range<Tick> {
    let ends = lines.iter().filter_map(|line| capture.trace(*line).nth_edge(MOST_EDGES));
    let end = ends.map(|edge| edge.tick).min().unwrap_or(capture.range().end);
    Tick(0)..end
}

/// Decodes a stretch; `None` where these settings cannot be decoded at all.
pub(super) fn look(
    capture: &Capture,
    lines: &[LineId],
    range: Range<Tick>,
    protocol: &Protocol,
) -> Option<Sight> {
    let mut decoder = protocol.decoder(capture.base()).ok()?;
    let mut sight = Sight::default();
    // It may have seen enough before the end.
    let _ = decode(capture, lines, range, &mut *decoder, &mut sight);
    Some(sight)
}
