//! Voltages over time: how a node goes from one voltage to the next.

use crate::instant::Instant;

/// How a node moves.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Slope {
    /// At once.
    Step,
    /// In a straight line; the time is that of the whole swing.
    Ramp(Instant),
    /// As a capacitor is charged through a resistor; the time is their product.
    Rc(Instant),
}

/// The electrical side of a node: the voltages it is driven to as a logic signal, and how it moves.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Shape {
    /// Driven low, in volts.
    pub low: f64,
    /// Driven high, in volts.
    pub high: f64,
    /// Upward.
    pub rise: Slope,
    /// Downward.
    pub fall: Slope,
}

impl Shape {
    /// A 3.3 V output of the usual kind, seen on a scale on which its edges are steep.
    pub const LOGIC_3V3: Shape = Shape { low: 0.1, high: 3.25, rise: Slope::Step, fall: Slope::Step };
}

/// A node from one change of what drives it to the next.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Wave {
    at: Instant,
    from: f64,
    to: f64,
    slope: Slope,
    swing: f64,
}

impl Wave {
    /// A node that rests.
    pub(crate) fn resting(volts: f64) -> Self {
        Wave { at: Instant(i64::MIN / 2), from: volts, to: volts, slope: Slope::Step, swing: 1.0 }
    }

    /// What comes when the node is driven to another voltage at an instant.
    pub(crate) fn driven(&self, at: Instant, to: f64, shape: &Shape) -> Wave {
        let from = self.volts(at);
        let slope = if to >= from { shape.rise } else { shape.fall };
        Wave { at, from, to, slope, swing: (shape.high - shape.low).abs().max(1e-9) }
    }

    /// What comes when something kicks a node that returns to `rest` by itself.
    pub(crate) fn kicked(&self, at: Instant, by: f64, rest: f64, time_constant: Instant) -> Wave {
        Wave { at, from: self.volts(at) + by, to: rest, slope: Slope::Rc(time_constant), swing: 1.0 }
    }

    /// Where it goes.
    pub(crate) fn target(&self) -> f64 {
        self.to
    }

    /// Where it comes from.
    pub(crate) fn origin(&self) -> f64 {
        self.from
    }

    /// When it begins.
    pub(crate) fn start(&self) -> Instant {
        self.at
    }

    /// The voltage at an instant, not before it begins.
    pub(crate) fn volts(&self, at: Instant) -> f64 {
        let elapsed = (at - self.at).0 as f64;
        match self.slope {
            _ if elapsed < 0.0 => self.from,
            Slope::Step => self.to,
            Slope::Ramp(time) => {
                let moved = self.swing * elapsed / time.0.max(1) as f64;
                if self.to >= self.from {
                    (self.from + moved).min(self.to)
                } else {
                    (self.from - moved).max(self.to)
                }
            }
            Slope::Rc(time) => self.to + (self.from - self.to) * (-elapsed / time.0.max(1) as f64).exp(),
        }
    }

    /// When it passes a voltage that lies between where it comes from and where it goes; `None`
    /// when it never does.
    pub(crate) fn passes(&self, volts: f64) -> Option<Instant> {
        let (least, most) = (self.from.min(self.to), self.from.max(self.to));
        if !(least..=most).contains(&volts) {
            return None;
        }
        let elapsed = match self.slope {
            Slope::Step => 0.0,
            Slope::Ramp(time) => (volts - self.from).abs() / self.swing * time.0 as f64,
            Slope::Rc(_) if volts == self.to => return None,
            Slope::Rc(time) => ((self.from - self.to) / (volts - self.to)).ln() * time.0 as f64,
        };
        // Far beyond any record, and safe to add to.
        Some(self.at + Instant(elapsed.min(1e18) as i64))
    }
}
