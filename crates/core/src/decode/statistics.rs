//! What a bus carried, in numbers.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use crate::bus::{FieldKind, Frame, FrameSink};
use crate::time::Tick;

/// Counts the frames of one bus.
///
/// ```
/// use deep_tap_core::bus::{Fault, Frame, FrameSink};
/// use deep_tap_core::decode::FrameStatistics;
/// use deep_tap_core::time::Tick;
///
/// let mut seen = FrameStatistics::default();
/// let mut second = Frame::new("byte", Tick(150)..Tick(200));
/// second.faults.push(Fault::new("framing", Tick(199), "the stop bit is not there"));
/// for frame in [Frame::new("byte", Tick(0)..Tick(100)), second] {
///     let _ = seen.frame(frame);
/// }
/// assert_eq!((seen.frames, seen.faulty, seen.busy), (2, 1, 150));
/// assert_eq!(seen.gaps.unwrap().longest, 50);
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FrameStatistics {
    /// All frames.
    pub frames: u64,
    /// Those with a fault.
    pub faulty: u64,
    /// How many of each kind.
    pub kinds: BTreeMap<&'static str, u64>,
    /// How often each kind of fault was seen.
    pub faults: BTreeMap<&'static str, u64>,
    /// Bits of data fields.
    pub data_bits: u64,
    /// Ticks within frames.
    pub busy: u64,
    /// The first tick of the first frame, and the tick after the last one.
    pub span: Option<(Tick, Tick)>,
    /// The stretches between one frame and the next.
    pub gaps: Option<Gaps>,
}

/// Stretches between frames, in ticks; a frame that begins before the one before it ends makes one of
/// zero.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Gaps {
    /// How many.
    pub count: u64,
    /// The shortest.
    pub shortest: u64,
    /// The longest.
    pub longest: u64,
    /// All together.
    pub sum: u64,
}

impl FrameStatistics {
    /// Takes a frame in; frames come in order.
    pub fn add(&mut self, frame: &Frame) {
        self.frames += 1;
        self.faulty += u64::from(!frame.faults.is_empty());
        *self.kinds.entry(frame.kind).or_insert(0) += 1;
        for fault in &frame.faults {
            *self.faults.entry(fault.kind).or_insert(0) += 1;
        }
        let data = frame.fields.iter().filter(|field| field.kind == FieldKind::Data);
        self.data_bits += data.map(|field| u64::from(field.bits)).sum::<u64>();
        let begin = match self.span {
            None => frame.start,
            Some((first, last)) => {
                let gap = frame.start.0.saturating_sub(last.0);
                let one = Gaps { count: 1, shortest: gap, longest: gap, sum: gap };
                self.gaps = Some(self.gaps.map_or(one, |gaps| Gaps {
                    count: gaps.count + 1,
                    shortest: gaps.shortest.min(gap),
                    longest: gaps.longest.max(gap),
                    sum: gaps.sum.saturating_add(gap),
                }));
                self.busy += frame.end.0.saturating_sub(frame.start.0.max(last.0));
                self.span = Some((first, frame.end.max(last)));
                return;
            }
        };
        self.busy += frame.end.0.saturating_sub(begin.0);
        self.span = Some((begin, frame.end));
    }
}

impl FrameSink for FrameStatistics {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.add(&frame);
        ControlFlow::Continue(())
    }
}
