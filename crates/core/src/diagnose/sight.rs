//! How decoding goes with some settings.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::{ControlFlow, Range};

use crate::bus::{FieldKind, Frame, FrameSink};
use crate::capture::{Capture, Trace};
use crate::decode::{Protocol, decode};
use crate::line::LineId;
use crate::time::Tick;

/// Most frames that are looked at.
const MOST_FRAMES: u64 = 20_000;
/// Most edges of one line that are looked at.
const MOST_EDGES: u64 = 500_000;
/// Values that are kept, and faulty frames at the beginning of a record that are forgiven.
const MOST_VALUES: usize = 4096;
const FORGIVEN: u64 = 2;

/// What decoding with some settings found.
#[derive(Clone, Debug, Default)]
pub(super) struct Sight {
    /// Frames, and those with a fault other than being cut off.
    pub(super) frames: u64,
    pub(super) faulty: u64,
    /// Frames that mean something: not noise, not a break, not partial.
    pub(super) whole: u64,
    /// Breaks, which a bit rate that is too high makes of bytes.
    pub(super) breaks: u64,
    /// How often each kind of fault was seen, and where first.
    pub(super) faults: BTreeMap<&'static str, (u64, Tick)>,
    /// How often each kind of frame.
    pub(super) kinds: BTreeMap<&'static str, u64>,
    /// The frames without a fault since the last faulty one.
    pub(super) clean_since: u64,
    /// Frames that the record's end cuts off.
    pub(super) cut_off: u64,
    /// Edges of the first line within whole frames, and all.
    pub(super) explained: u64,
    pub(super) edges: u64,
    /// The first values of data.
    pub(super) values: Vec<u64>,
}

impl Sight {
    /// Whether nothing is wrong, and enough was seen to say so.
    pub(super) fn is_clean(&self) -> bool {
        self.faulty == 0 && self.whole >= 3
    }

    /// The same, and nearly all edges of the line are a part of what was read.
    pub(super) fn explains_all(&self) -> bool {
        self.faulty == 0 && self.whole >= 1 && self.explained * 10 >= self.edges * 9
    }

    /// Whether too much is wrong for settings that are right: a fifth of the frames, or no frame.
    pub(super) fn is_bad(&self) -> bool {
        self.whole == 0 || self.faulty * 5 > self.frames
    }

    pub(super) fn count(&self, fault: &str) -> u64 {
        self.faults.get(fault).map_or(0, |(count, _)| *count)
    }

    pub(super) fn of_kind(&self, kind: &str) -> u64 {
        self.kinds.get(kind).copied().unwrap_or(0)
    }

    /// How many different values there were.
    pub(super) fn distinct(&self) -> usize {
        self.values.iter().collect::<BTreeSet<_>>().len()
    }

    fn add(&mut self, frame: &Frame, edges: u64) {
        self.frames += 1;
        let means = !matches!(
            frame.kind,
            "noise" | "break" | "partial" | "error" | "overload" | "reset" | "false-start"
        );
        let whole = means && frame.faults.is_empty();
        self.whole += u64::from(whole);
        self.breaks += u64::from(frame.kind == "break");
        *self.kinds.entry(frame.kind).or_default() += 1;
        if whole {
            self.explained += edges;
            let data = frame.fields.iter().filter(|field| field.kind == FieldKind::Data);
            let room = MOST_VALUES.saturating_sub(self.values.len());
            self.values.extend(data.map(|field| field.value).take(room));
        }
        if frame.faults.is_empty() {
            self.clean_since += 1;
        } else {
            (self.faulty, self.clean_since) = (self.faulty + 1, 0);
        }
        for fault in &frame.faults {
            self.faults.entry(fault.kind).or_insert((0, fault.at)).0 += 1;
        }
    }
}

/// Looks at frames on their way.
struct Watch<'a> {
    trace: &'a Trace,
    sight: Sight,
    /// Faulty frames before anything was settled: a record begins where it happens to.
    early: Vec<Frame>,
    settled: bool,
}

impl Watch<'_> {
    fn add(&mut self, frame: &Frame) {
        let edges = self.trace.count(frame.start..Tick(frame.end.0.saturating_add(1)));
        self.sight.add(frame, edges);
    }

    /// What came first counts after all.
    fn add_early(&mut self) {
        std::mem::take(&mut self.early).iter().for_each(|frame| self.add(frame));
        self.settled = true;
    }
}

impl FrameSink for Watch<'_> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        if frame.faults.iter().any(|fault| fault.kind == "cut-off") {
            self.sight.cut_off += 1;
            return ControlFlow::Continue(());
        }
        if !self.settled && !frame.faults.is_empty() {
            self.early.push(frame);
            if self.early.len() as u64 > FORGIVEN {
                self.add_early();
            }
        } else {
            self.add(&frame);
        }
        if self.sight.frames < MOST_FRAMES { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    }

    fn settled(&mut self, _: Tick) {
        if !self.settled {
            self.settled = true;
            // The edges of what is forgiven need no explanation.
            let early = std::mem::take(&mut self.early);
            let edges: u64 = early.iter().map(|frame| self.trace.count(frame.start..frame.end)).sum();
            self.sight.edges = self.sight.edges.saturating_sub(edges);
        }
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
    let trace = capture.trace(*lines.first()?);
    let sight = Sight { edges: trace.count(range.clone()), ..Sight::default() };
    let mut watch = Watch { trace, sight, early: Vec::new(), settled: false };
    // It may have seen enough before the end.
    let _ = decode(capture, lines, range, &mut *decoder, &mut watch);
    watch.add_early();
    Some(watch.sight)
}
