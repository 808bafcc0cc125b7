//! The outputs of the instrument while it records.

use deep_tap_core::instrument::{Begins, Stimulus, Waveform};
use deep_tap_core::line::Level;
use deep_tap_core::quantity::Rational;

use crate::board::device::{Device, Queues};
use crate::board::models::{Beat, Parity, Sender, Square};
use crate::board::{Board, NodeId};
use crate::instant::Instant;
use crate::random::Random;

/// One stimulus, on its way.
pub(crate) struct Stimulator {
    stimulus: Stimulus,
    node: NodeId,
    /// Once it has begun.
    device: Option<Box<dyn Device>>,
    queues: Queues,
}

impl Stimulator {
    pub(crate) fn new(stimulus: &Stimulus, node: NodeId) -> Self {
        let rests = Level::from(matches!(stimulus.signal, Waveform::Bytes { .. }));
        Stimulator { stimulus: stimulus.clone(), node, device: None, queues: Queues::new(vec![rests]) }
    }

    /// Drives the board up to an instant. `trigger` is when the trigger came, and nothing begins
    /// before `now`.
    pub(crate) fn drive(
        &mut self,
        board: &mut dyn Board,
        now: Instant,
        until: Instant,
        trigger: Option<Instant>,
    ) {
        if self.device.is_none() {
            let start = match (self.stimulus.begins, trigger) {
                (Begins::AfterArming(delay), _) => Some(Instant::after(delay)),
                (Begins::AfterTrigger(delay), Some(trigger)) => Some(trigger + Instant::after(delay)),
                (Begins::AfterTrigger(_), None) => None,
            };
            self.device = start.and_then(|start| device(&self.stimulus.signal, start.max(now)));
        }
        let node = self.node;
        if let Some(device) = &mut self.device {
            self.queues.advance(std::slice::from_mut(device), until, &mut |_, at, change| {
                board.drive(node, at, change);
            });
        }
    }
}

/// What sends a signal; `None` for one that has no length.
fn device(signal: &Waveform, start: Instant) -> Option<Box<dyn Device>> {
    let node = NodeId(0);
    Some(match signal {
        Waveform::Pulses { frequency, duty, length } => Box::new(Square {
            node,
            start,
            until: length.map_or(Instant(i64::MAX / 2), |length| start + Instant::after(length) - Instant(1)),
            period: Beat::new(frequency.to_rational().recip()?)?,
            duty: Square::thousandths(*duty),
            jitter: Instant(0),
            random: Random::new(0),
            done: 0,
        }),
        Waveform::Bytes { bytes, bit_rate } => Box::new(Sender {
            node,
            start,
            every: Beat::new(Rational::ONE)?,
            bit: Beat::new(bit_rate.to_rational().recip()?)?,
            bytes: bytes.clone(),
            data_bits: 8,
            parity: Parity::None,
            stop_bits: 1,
            again: false,
            done: 0,
        }),
        _ => return None,
    })
}
