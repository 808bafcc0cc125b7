//! Analog lines seen as levels, so that everything that asks for levels and edges can ask for
//! voltages, too.

use super::{AnalogId, AnalogScale, Level, LineId};
use crate::quantity::{Rational, Voltage};

/// What has levels over time: a line, or an analog line seen through a voltage.
///
/// ```
/// use deep_tap_core::line::{AnalogId, Crossing, LineId, Side, Signal};
/// let rail = Crossing::new(AnalogId(0), "2.9 V".parse()?, Side::Below).unwrap();
/// assert_eq!(Signal::from(LineId(3)).line(), Some(LineId(3)));
/// assert_eq!(Signal::from(rail).crossing(), Some(rail));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Signal {
    /// A line.
    Line(LineId),
    /// A voltage on an analog line.
    Crossing(Crossing),
    /// Whether a line is driven: high where it is, low where it floats. Known of simulations only.
    Drive(LineId),
}

impl Signal {
    /// The line that it is, if it is one.
    pub fn line(self) -> Option<LineId> {
        match self {
            Signal::Line(line) => Some(line),
            Signal::Crossing(_) | Signal::Drive(_) => None,
        }
    }

    /// The crossing that it is, if it is one.
    pub fn crossing(self) -> Option<Crossing> {
        match self {
            Signal::Line(_) | Signal::Drive(_) => None,
            Signal::Crossing(crossing) => Some(crossing),
        }
    }

    /// Whether both come in by one input, so that there is no skew between their edges.
    pub fn shares_input(self, other: Signal) -> bool {
        match (self, other) {
            (Signal::Line(a) | Signal::Drive(a), Signal::Line(b) | Signal::Drive(b)) => a == b,
            (Signal::Crossing(a), Signal::Crossing(b)) => a.analog == b.analog,
            _ => false,
        }
    }
}

impl From<LineId> for Signal {
    fn from(line: LineId) -> Signal {
        Signal::Line(line)
    }
}

impl From<&LineId> for Signal {
    fn from(line: &LineId) -> Signal {
        Signal::Line(*line)
    }
}

impl From<Crossing> for Signal {
    fn from(crossing: Crossing) -> Signal {
        Signal::Crossing(crossing)
    }
}

/// A voltage on an analog line that parts low from high.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Crossing {
    analog: AnalogId,
    microvolts: i32,
    side: Side,
}

/// On which side of a voltage its hysteresis lies: an edge in the direction that is asked for is
/// then at the voltage itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Side {
    /// High from the voltage on; low again when it has come back by the hysteresis. For rising.
    Below,
    /// Low from the voltage down; high again when it has come back by the hysteresis. For falling.
    Above,
    /// Half of it on either side, as in a comparator.
    Both,
}

/// Where the codes of a converter become levels: high from one code on, low again from another,
/// lower one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Gate {
    high_from: i32,
    low_to: i32,
    /// Up to which code and from which one it has a level while nothing came before, and what it has between.
    first_low_to: i32,
    first_high_from: i32,
    between: Level,
}

impl Gate {
    /// The level after a sample, given the one before; [`Level::Unknown`] when there was none.
    #[must_use]
    pub fn next(self, level: Level, code: i16) -> Level {
        let code = i32::from(code);
        if level == Level::Unknown && (self.first_low_to + 1..self.first_high_from).contains(&code) {
            self.between
        } else if code >= self.high_from {
            Level::High
        } else if code <= self.low_to {
            Level::Low
        } else {
            level
        }
    }

    /// Whether codes between these extremes leave a level as it is.
    pub(crate) fn keeps(self, level: Level, least: i16, most: i16) -> bool {
        match level {
            Level::High => i32::from(least) > self.low_to,
            Level::Low => i32::from(most) < self.high_from,
            Level::Floating | Level::Unknown => false,
        }
    }
}

impl Crossing {
    /// A voltage on an analog line; `None` when it is not a whole number of microvolts, or beyond 2 kV.
    pub fn new(analog: AnalogId, level: Voltage, side: Side) -> Option<Self> {
        let micro = level.to_rational().checked_mul(Rational::from(1_000_000))?;
        let whole = (micro.denominator() == 1).then(|| micro.numerator())?;
        Some(Crossing { analog, microvolts: i32::try_from(whole).ok()?, side })
    }

    /// The analog line.
    pub fn analog(self) -> AnalogId {
        self.analog
    }

    /// The voltage.
    pub fn level(self) -> Voltage {
        let volts = Rational::new(i128::from(self.microvolts), 1_000_000);
        Voltage::from_rational(volts.unwrap_or(Rational::ZERO))
    }

    /// Where the hysteresis lies.
    pub fn side(self) -> Side {
        self.side
    }

    /// The gate that it is, for a line with this scale and hysteresis.
    pub fn gate(&self, scale: AnalogScale, hysteresis: Voltage) -> Gate {
        let moved = |by: Rational| {
            let level = self.level().to_rational().checked_add(by).unwrap_or(self.level().to_rational());
            Voltage::from_rational(level)
        };
        let width = hysteresis.to_rational().abs();
        let (zero, minus) = (Rational::ZERO, Rational::from(-1));
        let (down, half) = (width.checked_mul(minus), Rational::new(1, 2).and_then(|h| h.checked_mul(width)));
        let half = half.unwrap_or(zero);
        let (from, to, between) = match self.side {
            Side::Below => (zero, down.unwrap_or(zero), Level::Low),
            Side::Above => (width, zero, Level::High),
            Side::Both => (half, half.checked_mul(minus).unwrap_or(zero), Level::Low),
        };
        let (high_from, low_to) = match self.side {
            // At the voltage itself it is low already; from the other side, it still is.
            Side::Above => (scale.last_at_most(moved(from)).saturating_add(1), scale.last_at_most(moved(to))),
            Side::Below | Side::Both => {
                (scale.first_at_least(moved(from)), scale.first_at_least(moved(to)).saturating_sub(1))
            }
        };
        Gate { high_from, low_to, first_low_to: low_to, first_high_from: high_from, between }
    }

    /// The gate that makes a line's levels, which are unknown until a sample lies on one side of the voltage for
    /// certain; `hysteresis` is that of [`AnalogScale::quiet_hysteresis`] where none is stated.
    pub fn line_gate(&self, scale: AnalogScale, hysteresis: Option<Voltage>) -> Gate {
        let gate = self.gate(scale, hysteresis.unwrap_or_else(|| scale.quiet_hysteresis()));
        let (low_to, high_from) = self.certain(scale, Voltage::ZERO);
        Gate {
            first_low_to: gate.low_to.min(low_to),
            first_high_from: gate.high_from.max(high_from),
            between: Level::Unknown,
            ..gate
        }
    }

    /// Up to which code a sample was certainly below the voltage, and from which on above, where the voltage itself
    /// may be off by so much.
    pub(crate) fn certain(&self, scale: AnalogScale, off: Voltage) -> (i32, i32) {
        let level = self.level().to_rational();
        let error = scale.error().to_rational().checked_add(off.to_rational());
        let low = error.and_then(|error| level.checked_sub(error)).map(Voltage::from_rational);
        let high = error.and_then(|error| level.checked_add(error)).map(Voltage::from_rational);
        (
            low.map_or(i32::MIN, |low| scale.first_at_least(low).saturating_sub(1)),
            high.map_or(i32::MAX, |high| scale.last_at_most(high).saturating_add(1)),
        )
    }
}
