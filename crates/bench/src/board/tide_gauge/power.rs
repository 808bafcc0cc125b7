//! The rail, its supervisor, and what a floating write enable does while the rail ramps.

use super::{POWER_GOOD, POWER_ON, node};
use crate::board::NodeId;
use crate::board::device::{Device, Queues};
use crate::electric::{Shape, Slope};
use crate::instant::Instant;

const WE_N: NodeId = node("MEM_WE_N");
const PGOOD: NodeId = node("PGOOD");
const RESET_N: NodeId = node("RESET_N");
pub(super) const VDD33: NodeId = node("VDD33");

/// The rail: how it ramps up, and how it gives way when it is loaded.
pub(super) const RAIL: Shape =
    Shape { low: 0.0, high: 3.3, rise: Slope::Ramp(Instant::us(1_100)), fall: Slope::Rc(Instant::us(6)) };
/// When the modem transmits for the first time, and how the rail takes it.
const DIP: Instant = Instant::us(14_300);
const DIP_WIDTH: Instant = Instant::us(40);
const DIP_VOLTS: f64 = 2.7;

/// How long the supervisor holds reset after power is good.
const HEALTHY_HOLD: Instant = Instant::us(2_240);
const EARLY_HOLD: Instant = Instant::us(900);
/// The spike on write enable, in the middle of the ramp.
const SPIKE_WIDTH: Instant = Instant::ns(12);

pub(super) struct Power {
    early: bool,
    spike: bool,
    dip: bool,
    done: bool,
}

impl Power {
    pub(super) fn new(early: bool, spike: bool, dip: bool) -> Self {
        Power { early, spike, dip, done: false }
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
        queues.drive(VDD33, POWER_ON, RAIL.high);
        if self.dip {
            queues.drive(VDD33, DIP, DIP_VOLTS);
            queues.drive(VDD33, DIP + DIP_WIDTH, RAIL.high);
        }
        queues.set(PGOOD, POWER_GOOD, true);
        queues.set(RESET_N, self.released(), true);
    }
}
