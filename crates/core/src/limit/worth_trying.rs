//! The sample rate that is worth trying for what a record leaves open, and the chance that it decides.
//!
//! Where an interval of `n` counted ticks truly lies is not known, but how likely: each of its ends lies
//! anywhere in its tick. At another rate the same ends are counted anew, at another phase, and with the
//! same skew. So what comes out there is drawn, with points that fill the possibilities evenly, and
//! judged as the record itself would be.

use super::bound::BoundLimit;
use super::judge::{Clearance, Judge, Verdict};
use super::occurrence::{Doubt, Measured, Occurrence};
use super::result::{Chance, WorthTrying};
use crate::capture::Capture;
use crate::error::Result;
use crate::known::{Precision, Span};
use crate::line::Signal;
use crate::quantity::{Quantity, Rate, Rational, Time};
use crate::time::TimeBase;

/// What is tried where the rates of an instrument are not known: so many times the record's own rate.
const MULTIPLES: [i64; 9] = [2, 3, 4, 5, 8, 10, 20, 50, 100];

/// With this chance a rate is worth a record of its own.
const ENOUGH: f64 = 0.9;

/// By so much the chance must be better at a higher rate.
const WORTH: f64 = 0.01;

impl BoundLimit {
    /// The lowest rate at which what is open of an occurrence is decided with nine chances in ten, or the one
    /// with the best chance.
    pub(super) fn worth_trying(
        &self,
        capture: &Capture,
        span: &Span,
        worst: &Occurrence,
        doubt: Doubt,
    ) -> Option<WorthTrying> {
        if matches!(doubt, Doubt::Unknown | Doubt::Hidden) || !capture.resolution().sampled {
            return None;
        }
        let mut best: Option<(Rate, f64)> = None;
        for rate in faster(capture) {
            let chance = self.chance_at(rate, capture, span, worst, doubt)?;
            if best.is_none_or(|(_, most)| chance > most + WORTH) {
                best = Some((rate, chance));
            }
            if chance >= ENOUGH {
                break;
            }
        }
        let Some((rate, chance)) = best else { return Some(WorthTrying::Fastest) };
        match Chance::new(chance) {
            Some(chance) => Some(WorthTrying::Rate { rate, chance: Some(chance) }),
            None => Some(WorthTrying::Never),
        }
    }

    /// The chance that what is open of an occurrence is decided at another rate; `None` when exact arithmetic
    /// does not fit.
    fn chance_at(
        &self,
        rate: Rate,
        capture: &Capture,
        span: &Span,
        worst: &Occurrence,
        doubt: Doubt,
    ) -> Option<f64> {
        let base = TimeBase::from_rate(rate).ok()?;
        let redrawn = Redrawn::new(capture.base(), base)?;
        let at = span.hiding(false, false).at(base);
        let judged = Judged::new(self, at)?;
        let value = match worst.measured {
            Measured::Interval { ticks, .. } | Measured::Offset { ticks } => {
                redrawn.chance([ticks, ticks], |[n, _]| judged.decides(worst.measured.of_ticks(n)?))?
            }
            Measured::Bits { ticks, .. } => {
                redrawn.chance([ticks, ticks], |[n, _]| judged.decides(worst.measured.of_ticks(n)?))?
            }
            Measured::Share { part, period } => redrawn
                .chance([part, period], |[part, period]| judged.decides(Measured::Share { part, period }))?,
            Measured::Voltage { .. } | Measured::Quiet => return None,
        };
        match doubt {
            Doubt::Order => judged.order_chance(&redrawn, span, worst, value),
            Doubt::Resolution | Doubt::Unknown | Doubt::Hidden => Some(value),
        }
    }

    /// The lowest rate at which no line of the limit may hide pulses, if it is stated how short they are.
    pub(super) fn nothing_hides_from(&self, capture: &Capture, precision: &Precision<'_>) -> WorthTrying {
        let signals: Vec<Signal> = self.signals();
        let hiding = signals.iter().filter(|signal| precision.hiding(**signal).is_some());
        let shortest: Option<Vec<Time>> = hiding.map(|signal| precision.shortest_stated(*signal)).collect();
        let Some(shortest) = shortest.and_then(|all| all.into_iter().min()) else {
            return WorthTrying::StateShortest;
        };
        just_above(capture, shortest).unwrap_or(WorthTrying::StateShortest)
    }
}

/// The rates above that of a record which its instrument has, or multiples of it.
fn faster(capture: &Capture) -> Vec<Rate> {
    let (own, rates) = (capture.base().rate(), &capture.origin().rates);
    if !rates.is_empty() {
        return rates.iter().copied().filter(|rate| *rate > own).collect();
    }
    let times =
        |multiple: i64| own.to_rational().checked_mul(Rational::from(multiple)).map(Rate::from_rational);
    MULTIPLES.into_iter().filter_map(times).collect()
}

/// The lowest rate whose tick is shorter than a time.
pub(super) fn just_above(capture: &Capture, time: Time) -> Option<WorthTrying> {
    // As slow as the time base may be.
    let slower = Rational::ONE.checked_add(capture.resolution().accuracy.to_fraction())?;
    let needed = slower.checked_div(time.to_rational())?;
    let rates = &capture.origin().rates;
    let found = rates.iter().find(|rate| rate.to_rational() > needed);
    Some(match (found, rates.last()) {
        (Some(rate), _) => WorthTrying::Rate { rate: *rate, chance: None },
        (None, Some(fastest)) => {
            WorthTrying::Beyond { needed: Rate::from_rational(needed), fastest: *fastest }
        }
        (None, None) => WorthTrying::Rate { rate: Rate::from_rational(needed), chance: None },
    })
}

/// A limit that judges what another record would show.
struct Judged<'a> {
    limit: &'a BoundLimit,
    span: Span,
    judge: Judge,
    clearance: Option<Clearance>,
}

impl<'a> Judged<'a> {
    fn new(limit: &'a BoundLimit, span: Span) -> Option<Self> {
        let required = limit.limit.required;
        let clearance = if required.clear { Some(Clearance::new(required, &span).ok()?) } else { None };
        Some(Judged { limit, span, judge: Judge::new(required, &span).ok()?, clearance })
    }

    fn decides(&self, measured: Measured) -> Option<bool> {
        let verdict = match (measured, self.clearance) {
            (Measured::Interval { ticks, .. }, _) => self.judge.decide(ticks),
            (Measured::Offset { ticks }, Some(clearance)) => clearance.decide(ticks),
            (other, _) => {
                let known = other.bounds(&self.span)?.map(Quantity::to_rational);
                self.limit.limit.required.decide(known)
            }
        };
        Some(verdict != Verdict::Inconclusive)
    }

    /// The chance that the order of two events is known and, where the second one comes after, the interval
    /// decided. `value` is the chance that it is, apart from the order.
    fn order_chance(&self, redrawn: &Redrawn, span: &Span, worst: &Occurrence, value: f64) -> Option<f64> {
        let order = |span: &Span| -> Result<_> { self.limit.together(span) };
        let (before, after) = (order(span).ok()?, order(&self.span).ok()?);
        let open = |ticks: &i64| (before.possible_from..before.certain_from).contains(ticks);
        let known = |n: i64| n < after.possible_from || n >= after.certain_from;
        let paired = match worst.measured {
            Measured::Interval { ticks, partners } => [ticks, partners.0].into_iter().find(open),
            _ => None,
        };
        match paired {
            // The pair itself: it may be none.
            Some(ticks) => redrawn.chance([ticks, ticks], |[n, _]| {
                if n >= after.certain_from {
                    return self.decides(Measured::Interval { ticks: n, partners: (n, n) });
                }
                Some(known(n))
            }),
            // Something else shares a tick with one of its ends.
            None => Some(value * redrawn.chance([0, 0], |[n, _]| Some(known(n)))?),
        }
    }
}

impl Measured {
    /// The same with other counted ticks.
    fn of_ticks(self, ticks: i64) -> Option<Measured> {
        match self {
            Measured::Interval { .. } => Some(Measured::Interval { ticks, partners: (ticks, ticks) }),
            Measured::Offset { .. } => Some(Measured::Offset { ticks }),
            Measured::Bits { bits, nominal, .. } => Some(Measured::Bits { bits, ticks, nominal }),
            Measured::Share { .. } | Measured::Voltage { .. } | Measured::Quiet => None,
        }
    }
}

/// Edges counted at one rate, drawn anew at another.
struct Redrawn {
    /// Ticks of the new clock in one of the old.
    ratio: Rational,
    factor: f64,
}

/// How many points are drawn.
const POINTS: u32 = 4096;

impl Redrawn {
    fn new(from: TimeBase, to: TimeBase) -> Option<Self> {
        let ratio = from.tick().to_rational().checked_div(to.tick().to_rational())?;
        Some(Redrawn { ratio, factor: ratio.to_f64() })
    }

    /// The share of what may truly be, given these counts from one edge to two later ones, of which the new
    /// counts are decided.
    fn chance(&self, counts: [i64; 2], decides: impl Fn([i64; 2]) -> Option<bool>) -> Option<f64> {
        // Whole new ticks, and what is left over: a fraction of one, which floats hold.
        let [a, b] = counts.map(|count| {
            let scaled = Rational::from(count).checked_mul(self.ratio)?;
            let whole = i64::try_from(scaled.floor()).ok()?;
            Some((whole, scaled.checked_sub(Rational::new(whole.into(), 1)?)?.to_f64()))
        });
        let (a, b) = (a?, b?);
        let mut decided = 0u32;
        for point in 0..POINTS {
            let [u0, u1, u2, phase] = Self::point(point);
            // Each edge lies in the tick before the one it was seen at.
            let start = (phase - u0 * self.factor).ceil();
            let count = |(whole, rest): (i64, f64), u: f64| {
                whole + ((rest + phase - u * self.factor).ceil() - start) as i64
            };
            decided += u32::from(decides([count(a, u1), count(b, u2)])?);
        }
        Some(f64::from(decided) / f64::from(POINTS))
    }

    /// Points that fill a cube of four dimensions evenly: in each, whole steps of one length, of which the
    /// fraction counts. The lengths are powers of 1 / root, where root^5 = root + 1.
    fn point(number: u32) -> [f64; 4] {
        const ROOT: f64 = 1.167_303_978_261_418_7;
        let mut step = 1.0;
        [(); 4].map(|()| {
            step /= ROOT;
            (0.5 + step * f64::from(number)).fract()
        })
    }
}
