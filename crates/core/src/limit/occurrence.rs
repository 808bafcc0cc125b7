//! One place where a limit applies, and what was measured there.

use super::judge::Verdict;
use crate::known::Span;
use crate::quantity::{Bounds, Frequency, Rational, Time, Voltage};
use crate::quantity::{Quantity, Unit};
use crate::time::{Tick, TimeBase};

/// Why an occurrence could not be decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Doubt {
    /// The limit lies within the uncertainty of the measured interval.
    Resolution,
    /// The order of events, or whether one happened, is not certain at this resolution.
    Order,
    /// A line involved has an unknown level within the occurrence.
    Unknown,
    /// A line involved may have had pulses that the record does not show.
    Hidden,
}

/// One place where a limit applies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
    /// Whether it certainly is one: its start happened and does not belong to another, and what must hold
    /// does.
    pub certain: bool,
}

/// What was measured at one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Measured {
    /// An interval.
    Interval {
        /// Its ticks as counted.
        ticks: i64,
        /// The fewest and the most ticks over all partners that it may have.
        partners: (i64, i64),
    },
    /// A share of a period.
    Share {
        /// Ticks of the share.
        part: i64,
        /// Ticks of the period.
        period: i64,
    },
    /// A number of bits, and what it should have been.
    Bits {
        /// How many.
        bits: u32,
        /// The ticks they took, as counted.
        ticks: i64,
        /// The nominal bit rate.
        nominal: Frequency,
    },
    /// How far from its reference a change came: negative before it.
    Offset {
        /// Its ticks as counted.
        ticks: i64,
    },
    /// Nothing changed at all.
    Quiet,
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
            Measured::Interval { .. } | Measured::Offset { .. } | Measured::Quiet => Unit::Time,
            Measured::Share { .. } | Measured::Bits { .. } => Unit::Percent,
            Measured::Voltage { .. } => Unit::Voltage,
        }
    }

    /// The value as counted; `None` where nothing was measured, or when exact arithmetic does not fit.
    pub fn value(&self, base: TimeBase) -> Option<Quantity> {
        let value = match self {
            Measured::Quiet => return None,
            Measured::Interval { ticks, .. } | Measured::Offset { ticks } => {
                base.length_of(*ticks).to_rational()
            }
            Measured::Share { part, period, .. } => Rational::new((*part).into(), (*period).into())?,
            Measured::Bits { bits, ticks, nominal } => deviation(*bits, base.length_of(*ticks), *nominal)?,
            Measured::Voltage { voltage, .. } => voltage.to_rational(),
        };
        Some(self.unit().of(value))
    }

    /// What is known of the true value, given what is known of the intervals of its limit; `None` when
    /// exact arithmetic does not fit.
    pub fn bounds(&self, span: &Span) -> Option<Bounds<Quantity>> {
        match self {
            Measured::Interval { partners: (fewest, most), .. } => {
                Some(span.length_over(*fewest, *most)?.map(Quantity::Time))
            }
            Measured::Quiet => None,
            Measured::Offset { ticks } => Some(span.bounds(*ticks)?.map(Quantity::Time)),
            Measured::Share { part, period } => {
                Some(span.share(1, *part, *period)?.map(|value| Unit::Percent.of(value)))
            }
            Measured::Bits { bits, ticks, nominal } => {
                let took = span.bounds(*ticks)?;
                let of = |took: Time| deviation(*bits, took, *nominal);
                // What may take any length of time is of any lower rate.
                let lo = took.hi.map_or(Some(Rational::from(-1)), of)?;
                let hi = if took.lo > Time::ZERO { Some(of(took.lo)?) } else { None };
                let (lo_exclusive, hi_exclusive) = (took.hi_exclusive, took.lo_exclusive);
                Some(Bounds { lo, hi, lo_exclusive, hi_exclusive }.map(|value| Unit::Percent.of(value)))
            }
            Measured::Voltage { voltage, error } => {
                let (voltage, error) = (voltage.to_rational(), error.to_rational());
                let (lo, hi) = (voltage.checked_sub(error)?, voltage.checked_add(error)?);
                Some(
                    Bounds { lo, hi: Some(hi), lo_exclusive: false, hi_exclusive: false }
                        .map(|v| Unit::Voltage.of(v)),
                )
            }
        }
    }

    /// The counted ticks of an interval, if it is one.
    pub fn ticks(&self) -> Option<i64> {
        match self {
            Measured::Interval { ticks, .. } => Some(*ticks),
            Measured::Share { .. }
            | Measured::Bits { .. }
            | Measured::Voltage { .. }
            | Measured::Offset { .. }
            | Measured::Quiet => None,
        }
    }
}

/// How far the rate of bits that took this time is from nominal, as a share of it.
fn deviation(bits: u32, took: Time, nominal: Frequency) -> Option<Rational> {
    let rate = Rational::from(i64::from(bits)).checked_div(took.to_rational())?;
    rate.checked_div(nominal.to_rational())?.checked_sub(Rational::ONE)
}

impl Occurrence {
    /// The value as counted; `None` when exact arithmetic does not fit.
    pub fn value(&self, base: TimeBase) -> Option<Quantity> {
        self.measured.value(base)
    }

    /// What is known of the true value, over all partners that it may have; `None` when exact
    /// arithmetic does not fit. `span` is that of [`BoundLimit::span`](super::BoundLimit::span).
    pub fn bounds(&self, span: &Span) -> Option<Bounds<Quantity>> {
        self.measured.bounds(span)
    }
}

/// What a walk over the occurrences of a limit yields.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Visited {
    /// An occurrence.
    Occurrence(Occurrence),
    /// A starting event without partner, or a pulse cut off by an end of the record.
    Unpaired(Tick),
}
