//! How the values of a limit are spread, with what is known of each number.

use std::ops::ControlFlow;

use crate::capture::Capture;
use crate::error::Result;
use crate::known::Rule;
use crate::limit::{BoundLimit, Visited, step_of};
use crate::measure::Distribution;
use crate::quantity::{Quantity, Rational};

/// The values of a limit in one record, in numbers.
#[derive(Clone, Debug, PartialEq)]
pub struct Spread {
    /// Occurrences that are certain.
    pub count: u64,
    /// Occurrences that may have been none.
    pub possible: u64,
    /// The smallest.
    pub least: Known,
    /// The one that half of them do not exceed.
    pub median: Known,
    /// The one that 99 % of them do not exceed.
    pub percentile_99: Known,
    /// The largest.
    pub most: Known,
}

/// A number that is known to lie between two others.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Known {
    /// As counted.
    pub value: Quantity,
    /// It is not less than this.
    pub lo: Quantity,
    /// It is not more than this; `None` where the record allows for any more.
    pub hi: Option<Quantity>,
}

/// How far a number certainly moved.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Shift {
    /// By no less than this, beyond the tolerance or not.
    pub least: Quantity,
    /// Whether it became larger.
    pub up: bool,
}

impl Known {
    /// How far it moved to another one, if what is known of both does not allow for less than the tolerance.
    pub fn shift(&self, to: &Known, tolerance: Quantity) -> Option<Shift> {
        let gap = |low: &Known, high: &Known| {
            let gap = high.lo.to_rational().checked_sub(low.hi?.to_rational())?;
            (gap > tolerance.to_rational() && gap > Rational::ZERO).then_some(gap)
        };
        let (gap, up) = match (gap(self, to), gap(to, self)) {
            (Some(gap), _) => (gap, true),
            (None, Some(gap)) => (gap, false),
            (None, None) => return None,
        };
        Some(Shift { least: self.value.unit().of(gap), up })
    }
}

/// Steps that a bound is told in: so many to one of the values, that its digits are those of other commands.
const FINER: i64 = 1 << 12;

impl Spread {
    /// Of all occurrences of a limit; nothing where none is certain.
    pub(super) fn of(capture: &Capture, limit: &BoundLimit) -> Result<Option<Spread>> {
        let unit = limit.limit.kind().unit();
        let step = step_of(unit, capture);
        let step = step.checked_div(Rational::from(FINER)).unwrap_or(step);
        let span = limit.span(capture, Rule::Proven);
        let mut all = Collected::default();
        limit.shown(capture, Rule::Proven, &mut |found| {
            let Visited::Occurrence(occurrence) = found else { return ControlFlow::Continue(()) };
            let steps = |of: Quantity| of.to_rational().checked_div(step);
            let known = occurrence.value(capture.base()).and_then(steps);
            if let (Some(value), Some(bounds)) = (known, occurrence.bounds(&span)) {
                let whole = |of: i128| i64::try_from(of).unwrap_or(i64::MAX);
                all.values.add(whole(value.round()));
                all.lows.add(steps(bounds.lo).map_or(i64::MIN, |lo| whole(lo.floor())));
                all.highs.add(bounds.hi.and_then(steps).map_or(i64::MAX, |hi| whole(hi.ceil())));
                all.certain += u64::from(occurrence.certain);
            }
            ControlFlow::Continue(())
        })?;
        Ok(all.spread(|steps| unit.of(Rational::from(steps).checked_mul(step).unwrap_or(Rational::ZERO))))
    }
}

#[derive(Default)]
struct Collected {
    values: Distribution,
    lows: Distribution,
    highs: Distribution,
    certain: u64,
}

impl Collected {
    fn spread(&self, quantity: impl Fn(i64) -> Quantity) -> Option<Spread> {
        if self.certain == 0 {
            return None;
        }
        let of = |thousandths: u64| {
            let known = self.known(thousandths);
            known.map(|(value, lo, hi)| Known {
                value: quantity(value),
                lo: quantity(lo),
                hi: (hi < i64::MAX).then(|| quantity(hi)),
            })
        };
        Some(Spread {
            count: self.certain,
            possible: self.values.count() - self.certain,
            least: of(0)?,
            median: of(500)?,
            percentile_99: of(990)?,
            most: of(1000)?,
        })
    }

    /// The value that so many thousandths of all do not exceed, and between what it lies.
    ///
    /// The true values are those of the certain occurrences, and any of the others besides. Of a set, the n-th
    /// smallest is not below that of a larger set, and the n-th largest not above it: so the ranks are those in the
    /// certain ones, and the values those of all.
    fn known(&self, thousandths: u64) -> Option<(i64, i64, i64)> {
        let rank = |count: u64| (u128::from(count) * u128::from(thousandths)).div_ceil(1000).max(1) as u64;
        let from_above = self.certain - rank(self.certain) + 1;
        let value = nth(self.values.values(), rank(self.values.count()))?;
        let lo = nth(self.lows.values(), rank(self.certain))?;
        let hi = nth(self.highs.values().rev(), from_above)?;
        Some((value, lo, hi))
    }
}

/// The n-th of values, each of which is there so many times.
fn nth(values: impl Iterator<Item = (i64, u64)>, rank: u64) -> Option<i64> {
    let mut seen = 0;
    values
        .map(|(value, count)| {
            (value, {
                seen += count;
                seen
            })
        })
        .find(|(_, seen)| *seen >= rank)
        .map(|(value, _)| value)
}

#[cfg(test)]
mod tests {
    use super::{Collected, Distribution};

    /// Whatever the true values are, and whichever of the possible ones are among them, each number lies within its
    /// bounds.
    #[test]
    fn numbers_of_true_values_lie_within_their_bounds() {
        let mut seed = 1u64;
        let mut random = |below: u64| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) % below
        };
        for _ in 0..3000 {
            let (certain, possible) = (1 + random(12), random(5));
            let mut all = Collected { certain, ..Collected::default() };
            let mut truths = Vec::new();
            for number in 0..certain + possible {
                let (value, below, above) = (random(40) as i64, random(8) as i64, random(8) as i64);
                all.values.add(value);
                all.lows.add(value - below);
                all.highs.add(value + above);
                if number < certain || random(2) == 0 {
                    truths.push(value - below + random((below + above + 1) as u64) as i64);
                }
            }
            let truths: Distribution = truths.into_iter().collect();
            for thousandths in [0, 500, 990, 1000] {
                let truth = truths.percentile(thousandths as f64 / 10.0).unwrap();
                let (_, lo, hi) = all.known(thousandths).unwrap();
                assert!((lo..=hi).contains(&truth), "{thousandths}: {truth} is not in {lo}..={hi}");
            }
        }
    }
}
