//! The rail, its supervisor, and what a floating write enable does while the rail ramps.

use super::{Device, POWER_GOOD, POWER_ON, Queues, node};
use crate::board::{Instant, NodeId};

const WE_N: NodeId = node("MEM_WE_N");
const PGOOD: NodeId = node("PGOOD");
const RESET_N: NodeId = node("RESET_N");

/// How long the supervisor holds reset after power is good.
const HEALTHY_HOLD: Instant = Instant::us(2_240);
const EARLY_HOLD: Instant = Instant::us(900);
/// The spike on write enable, in the middle of the ramp.
const SPIKE_WIDTH: Instant = Instant::ns(12);

pub(super) struct Power {
    early: bool,
    spike: bool,
    done: bool,
}

impl Power {
    pub(super) fn new(early: bool, spike: bool) -> Self {
        Power { early, spike, done: false }
    }

    /// When reset is released.
    pub(super) fn released(&self) -> Instant {
        POWER_GOOD + if self.early { EARLY_HOLD } else { HEALTHY_HOLD }
    }
}

impl Device for Power {
    fn next(&self) -> Instant {
        if self.done { Instant(i64::MAX) } else { POWER_ON }
    }

    fn step(&mut self, queues: &mut Queues) {
        self.done = true;
        if self.spike {
            let at = POWER_ON + Instant::us(617);
            queues.set(WE_N, at, false);
            queues.set(WE_N, at + SPIKE_WIDTH, true);
        }
        queues.set(PGOOD, POWER_GOOD, true);
        queues.set(RESET_N, self.released(), true);
    }
}
