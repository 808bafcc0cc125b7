//! One place where a limit applies, and what was measured there.

use serde::Serialize;

use super::judge::Verdict;
use super::quantity::{Quantity, Unit};
use crate::time::{Bounds, Frequency, Interval, Rational, Resolution, Tick, Time, TimeBase, Voltage};

/// Why an occurrence could not be decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Doubt {
    /// The limit lies within the uncertainty of the measured interval.
    Resolution,
    /// The order of events, or whether one happened, is not certain at this resolution.
    Order,
    /// A line involved has an unknown level within the occurrence.
    Unknown,
}

/// One place where a limit applies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Occurrence {
    /// The earlier end.
    pub start: Tick,
    /// The later end.
    pub end: Tick,
    /// What was measured.
    pub measured: Measured,
    /// The decision.
    pub verdict: Verdict,
    /// Why it is inconclusive, if it is.
    pub doubt: Option<Doubt>,
}

/// What was measured at one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Measured {
    /// An interval.
    Interval {
        /// As counted.
        interval: Interval,
        /// The fewest and the most ticks over all partners that it may have.
        partners: (i64, i64),
    },
    /// A share of a period.
    Share {
        /// Ticks of the share.
        part: i64,
        /// Ticks of the period.
        period: i64,
        /// Whether all edges come from one input, so that skew does not enter.
        same_input: bool,
    },
    /// A number of bits, and what it should have been.
    Bits {
        /// How many.
        bits: u32,
        /// The time they took, as counted.
        interval: Interval,
        /// The nominal bit rate.
        nominal: Frequency,
    },
    /// A voltage.
    Voltage {
        /// As sampled.
        voltage: Voltage,
        /// Largest error of it.
        error: Voltage,
    },
}

impl Measured {
    /// What it is measured in.
    pub fn unit(&self) -> Unit {
        match self {
            Measured::Interval { .. } => Unit::Time,
            Measured::Share { .. } | Measured::Bits { .. } => Unit::Percent,
            Measured::Voltage { .. } => Unit::Voltage,
        }
    }

    /// The value as counted; `None` when exact arithmetic does not fit.
    pub fn value(&self, base: TimeBase) -> Option<Quantity> {
        let value = match self {
            Measured::Interval { interval, .. } => base.length_of(interval.ticks).to_rational(),
            Measured::Share { part, period, .. } => Rational::new((*part).into(), (*period).into())?,
            Measured::Bits { bits, interval, nominal } => {
                deviation(*bits, base.length_of(interval.ticks), *nominal)?
            }
            Measured::Voltage { voltage, .. } => voltage.to_rational(),
        };
        Some(self.unit().of(value))
    }

    /// What is known of the true value; `None` when exact arithmetic does not fit.
    pub fn bounds(&self, base: TimeBase, resolution: &Resolution) -> Option<Bounds<Quantity>> {
        match self {
            Measured::Interval { interval, partners } => {
                let of =
                    |ticks| Some(Interval { ticks, ..*interval }.bounds(base, resolution)?.not_negative());
                let (shortest, longest) = (of(partners.0)?, of(partners.1)?);
                let both = Bounds { hi: longest.hi, hi_exclusive: longest.hi_exclusive, ..shortest };
                Some(both.map(Quantity::Time))
            }
            Measured::Share { part, period, same_input } => {
                let share = Share::new(base, resolution, *same_input)?;
                Some(share.bounds(*part, *period)?.map(|value| Unit::Percent.of(value)))
            }
            Measured::Bits { bits, interval, nominal } => {
                let took = interval.bounds(base, resolution)?;
                let (lo, hi) = (deviation(*bits, took.hi, *nominal)?, deviation(*bits, took.lo, *nominal)?);
                let (lo_exclusive, hi_exclusive) = (took.hi_exclusive, took.lo_exclusive);
                Some(Bounds { lo, hi, lo_exclusive, hi_exclusive }.map(|value| Unit::Percent.of(value)))
            }
            Measured::Voltage { voltage, error } => {
                let (voltage, error) = (voltage.to_rational(), error.to_rational());
                let (lo, hi) = (voltage.checked_sub(error)?, voltage.checked_add(error)?);
                Some(Bounds { lo, hi, lo_exclusive: false, hi_exclusive: false }.map(|v| Unit::Voltage.of(v)))
            }
        }
    }

    /// The interval that was measured, if it was one.
    pub fn interval(&self) -> Option<Interval> {
        match self {
            Measured::Interval { interval, .. } => Some(*interval),
            Measured::Share { .. } | Measured::Bits { .. } | Measured::Voltage { .. } => None,
        }
    }
}

/// How far the rate of bits that took this time is from nominal, as a share of it.
fn deviation(bits: u32, took: Time, nominal: Frequency) -> Option<Rational> {
    let rate = Rational::from(i64::from(bits)).checked_div(took.to_rational())?;
    rate.checked_div(nominal.to_rational())?.checked_sub(Rational::ONE)
}

/// How well a share of a period is known.
///
/// The three edges were at `tick - u` with `u` below one tick each, so that the share
/// `(part - u1 + u0) / (period - u2 + u0)` lies between `(part - 1) / period` and `(part + 1) / period`:
/// it grows with `u0` and `u2` and falls with `u1`. The error of the time base cancels.
pub(super) struct Share {
    /// Ticks by which an edge may be early.
    early: Rational,
    /// Ticks by which each interval may be off besides.
    blur: Rational,
}

impl Share {
    pub(super) fn new(base: TimeBase, resolution: &Resolution, same_input: bool) -> Option<Self> {
        let skew = if same_input { Rational::ZERO } else { resolution.skew.to_rational() };
        let blur = skew.checked_add(resolution.extra.to_rational())?;
        let early = Rational::from(i64::from(resolution.quantum()));
        Some(Share { early, blur: base.ticks_in(Time::from_rational(blur))? })
    }

    pub(super) fn is_blurred(&self) -> bool {
        !self.blur.is_zero()
    }

    /// Least and most of it; `None` when exact arithmetic does not fit.
    pub(super) fn bounds(&self, part: i64, period: i64) -> Option<Bounds<Rational>> {
        let (part, period) = (Rational::from(part), Rational::from(period));
        let off = self.early.checked_add(self.blur)?;
        let lo = part.checked_sub(off)?.checked_div(period.checked_add(self.blur)?)?;
        let shortest = period.checked_sub(self.blur)?;
        let hi = match shortest > Rational::ZERO {
            true => part.checked_add(off)?.checked_div(shortest)?,
            false => Rational::ONE,
        };
        let exclusive = self.early > Rational::ZERO;
        let (lo, hi) = (lo.max(Rational::ZERO), hi.min(Rational::ONE));
        Some(Bounds { lo, hi, lo_exclusive: exclusive, hi_exclusive: exclusive })
    }
}

impl Occurrence {
    /// The value as counted; `None` when exact arithmetic does not fit.
    pub fn value(&self, base: TimeBase) -> Option<Quantity> {
        self.measured.value(base)
    }

    /// What is known of the true value, over all partners that it may have; `None` when exact
    /// arithmetic does not fit. For the rule [`Rule::Measured`](super::Rule::Measured), give
    /// [`Resolution::EXACT`].
    pub fn bounds(&self, base: TimeBase, resolution: &Resolution) -> Option<Bounds<Quantity>> {
        self.measured.bounds(base, resolution)
    }
}

/// What a walk over the occurrences of a limit yields.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Found {
    /// An occurrence.
    Occurrence(Occurrence),
    /// A starting event without partner, or a pulse cut off by an end of the record.
    Unpaired(Tick),
}
