//! How fast the bits of a serial bus come.

use std::ops::ControlFlow;

use super::given::Given;
use super::plan::Plan;
use super::{Scene, Take};
use crate::bus::{Frame, FrameSink};
use crate::capture::Capture;
use crate::decode::{Onward, Protocol, Reads, SerialBus};
use crate::error::Result;
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::limit::required::Required;
use crate::line::Signal;
use crate::quantity::Quantity;
use crate::quantity::{Frequency, Rational};
use crate::time::Tick;

/// `rate`: each frame is measured from its first edge to the last one of the same direction, so that slow edges do not
/// count.
#[derive(Debug)]
pub(super) struct BitRates {
    bus: SerialBus,
    nominal: Frequency,
    required: Required,
    onward: Onward,
    /// The end of the last frame.
    since: Tick,
}

impl BitRates {
    /// Of a bus in a record like this.
    pub(super) fn new(
        bus: SerialBus,
        nominal: Frequency,
        required: Required,
        capture: &Capture,
    ) -> Result<Self> {
        let onward = bus.onward(capture, Reads::Frames)?;
        Ok(BitRates { bus, nominal, required, onward, since: Tick(0) })
    }

    /// The lines whose edges are asked for when a frame has ended, and from where on.
    pub(super) fn asked(&self) -> (Vec<Signal>, Tick) {
        (self.bus.lines().iter().map(Signal::from).collect(), self.since)
    }

    pub(super) fn advance(
        &mut self,
        scene: Scene<'_>,
        given: &Given,
        sink: &mut impl Take,
    ) -> ControlFlow<()> {
        let bit = scene.capture.base().rate().to_rational().checked_div(self.nominal.to_rational());
        let Some(bit) = bit else { return ControlFlow::Continue(()) };
        let BitRates { bus, nominal, required, onward, since } = self;
        let mut frames =
            Frames { scene, bus, nominal: *nominal, required: *required, bit, since: *since, sink };
        let said = onward.read(scene.capture, given.to, given.ended, &mut frames);
        *since = frames.since;
        said
    }
}

struct Frames<'w, S> {
    scene: Scene<'w>,
    bus: &'w SerialBus,
    nominal: Frequency,
    required: Required,
    /// Ticks of a nominal bit.
    bit: Rational,
    since: Tick,
    sink: &'w mut S,
}

impl<S: Take> FrameSink for Frames<'_, S> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.since = frame.end;
        for (number, plan) in self.scene.plans.iter().enumerate() {
            let found = self.measure(plan, &frame);
            self.sink.found(number, found.map_or(Visited::Unpaired(frame.start), Visited::Occurrence))?;
        }
        ControlFlow::Continue(())
    }
}

impl<S> Frames<'_, S> {
    /// `None` where a frame has no second edge, or it is open how many bits there are between two.
    fn measure(&self, plan: &Plan, frame: &Frame) -> Option<Occurrence> {
        let capture = self.scene.capture;
        let trace = capture.trace(*self.bus.lines().first()?);
        let to = trace.level_at(frame.start);
        let edges = || trace.edges(frame.start..frame.end).filter(|edge| edge.to == to).map(|edge| edge.tick);
        // The break of a LIN frame may be of any length: bits are counted from the edge after it.
        let skipped = usize::from(matches!(self.bus.protocol(), Protocol::Lin(_)));
        let first = edges().nth(skipped)?;
        let (mut last, mut bits) = (first, 0u32);
        for edge in edges().skip(skipped + 1) {
            bits = bits.checked_add(self.bits_between(last, edge)?)?;
            last = edge;
        }
        if bits == 0 {
            return None;
        }
        let measured = Measured::Bits { bits, ticks: last.since(first), nominal: self.nominal };
        let known = measured.bounds(&plan.span);
        let fractions = known.map(|known| known.map(Quantity::to_rational));
        let mut verdict = fractions.map_or(Verdict::Inconclusive, |known| self.required.decide(known));
        let open = if plan.span.hides() { Doubt::Hidden } else { Doubt::Resolution };
        let mut doubt = (verdict == Verdict::Inconclusive).then_some(open);
        if self.scene.unknown_within(first, last) {
            (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
        }
        Some(Occurrence { start: first, end: last, measured, verdict, doubt, certain: true })
    }

    /// The whole number of bits that lie between two edges; `None` when that is open.
    fn bits_between(&self, from: Tick, to: Tick) -> Option<u32> {
        let bits = Rational::from(to.since(from)).checked_div(self.bit)?;
        let whole = bits.round();
        let off = bits.checked_sub(Rational::new(whole, 1)?)?.abs();
        // A third of a bit is as far as counting is safe.
        (off < Rational::new(1, 3)?).then(|| u32::try_from(whole).ok())?
    }
}
