//! The sample rate at which an inconclusive measurement would be decided.

use super::occurrence::{Doubt, Measured, Occurrence};
use super::required::Required;
use super::result::Deciding;
use crate::capture::Capture;
use crate::known::Span;
use crate::quantity::{Rate, Rational, Time};

/// The rate whose tick is `1 / (distance to the limit - skew)`, rounded up to one that exists.
pub(super) fn deciding(
    capture: &Capture,
    span: &Span,
    required: Required,
    worst: &Occurrence,
    doubt: Doubt,
) -> Option<Deciding> {
    let base = capture.base();
    if matches!(doubt, Doubt::Unknown | Doubt::Hidden) || !capture.resolution().sampled {
        return None;
    }
    let distance = || Some(required.margin(worst.value(base)?.to_rational())?.abs());
    let times =
        |share: Rational, length: Time| share.checked_mul(length.to_rational()).map(Time::from_rational);
    // The time by which an edge must be known: what a tick may be, at the most.
    let tick = match worst.measured {
        Measured::Interval { ticks, .. } => {
            // To know the order, a tick must fit into the interval itself; half a tick is its best guess.
            let off = match doubt {
                Doubt::Resolution => distance()?,
                Doubt::Order | Doubt::Unknown | Doubt::Hidden => {
                    base.tick().to_rational().checked_div(Rational::from(2))?
                }
            };
            span.tick_within(Time::from_rational(off), base.length_of(ticks))?
        }
        // A tick changes a share by its own share of the period, whose error of the time base cancels.
        Measured::Share { period, .. } if doubt == Doubt::Resolution => {
            span.tick_within_share(times(distance()?, base.length_of(period))?)?
        }
        Measured::Bits { ticks, .. } if doubt == Doubt::Resolution => {
            let took = base.length_of(ticks);
            span.tick_within(times(distance()?, took)?, took)?
        }
        Measured::Share { .. } | Measured::Bits { .. } | Measured::Voltage { .. } => return None,
    };
    if tick <= Time::ZERO {
        return Some(Deciding::Never);
    }
    Some(rounded_up(capture, tick.to_rational().recip()?))
}

/// The lowest rate whose tick is shorter than a time.
pub(super) fn just_above(capture: &Capture, time: Time) -> Option<Deciding> {
    let needed = time.to_rational().recip()?;
    let rates = &capture.origin().rates;
    match rates.iter().find(|r| r.to_rational() > needed) {
        Some(rate) => Some(Deciding::Rate(*rate)),
        None => Some(rounded_up(capture, needed)),
    }
}

fn rounded_up(capture: &Capture, needed: Rational) -> Deciding {
    let rates = &capture.origin().rates;
    let needed = Rate::from_rational(needed);
    match (rates.iter().find(|r| **r >= needed && **r > capture.base().rate()), rates.last()) {
        (Some(rate), _) => Deciding::Rate(*rate),
        (None, Some(fastest)) => Deciding::Beyond { needed, fastest: *fastest },
        (None, None) => Deciding::Rate(needed),
    }
}
