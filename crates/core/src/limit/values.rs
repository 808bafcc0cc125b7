//! All values of a limit in a record: how they are spread, and the worst of them.

use std::ops::ControlFlow;

use super::bound::BoundLimit;
use super::judge::Verdict;
use super::occurrence::{Occurrence, Visited};
use crate::capture::Capture;
use crate::error::Result;
use crate::known::Rule;
use crate::measure::Distribution;
use crate::quantity::{Quantity, Rational, Unit};

/// The values of a limit in a capture.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Values {
    /// How often each was counted, in steps.
    pub distribution: Distribution,
    /// What they are in.
    pub unit: Unit,
    /// One step: a tick for a time, else a millionth of the unit, or of one for a share.
    pub step: Rational,
    /// Violations in all.
    pub failed: u64,
    /// Those farthest beyond the limit, up to as many as were asked for, in order of time.
    pub worst: Vec<Occurrence>,
}

impl Values {
    /// A number of steps in the unit.
    pub fn of_steps(&self, steps: i64) -> Quantity {
        self.unit.of(Rational::from(steps).checked_mul(self.step).unwrap_or(Rational::ZERO))
    }
}

/// Collects the values of a limit, and the `most` worst violations, in one pass. A limit whose events a record like this
/// cannot show has none.
///
/// ```
/// use deep_tap_core::capture::{Capture, Trace};
/// use deep_tap_core::event::Scope;
/// use deep_tap_core::known::Rule;
/// use deep_tap_core::limit::{Limit, values};
/// use deep_tap_core::line::Level;
/// use deep_tap_core::quantity::Time;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let busy = Trace::toggling(Level::Low, [10, 14, 20, 29, 40, 46], 100)?;
/// let capture = Capture::builder(base, 100).line("BUSY", busy).build()?;
/// let limit = Limit::width("tBUSY", "BUSY high").max("5 us".parse::<Time>()?).bind(&Scope::of(&capture))?;
/// let found = values(&capture, &limit, Rule::Proven, 1)?;
/// assert_eq!((found.distribution.count(), found.failed), (3, 2));
/// assert_eq!(found.worst[0].start, Tick(20));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
///
/// # Errors
/// As [`check`](super::check()).
pub fn values(capture: &Capture, limit: &BoundLimit, rule: Rule, most: usize) -> Result<Values> {
    let unit = limit.limit.kind().unit();
    let step = step_of(unit, capture);
    let mut all = Values { distribution: Distribution::default(), unit, step, failed: 0, worst: Vec::new() };
    let mut kept: Vec<(Option<Rational>, Occurrence)> = Vec::new();
    limit.shown(capture, rule, &mut |found| {
        let Visited::Occurrence(occurrence) = found else { return ControlFlow::Continue(()) };
        let value = occurrence.value(capture.base()).map(Quantity::to_rational);
        if let Some(steps) = value.and_then(|value| value.checked_div(step)) {
            all.distribution.add(i64::try_from(steps.round()).unwrap_or(i64::MAX));
        }
        if occurrence.verdict == Verdict::Fail {
            all.failed += 1;
            kept.push((value.and_then(|value| limit.limit.required.margin(value)), occurrence));
            // Now and then, so that each costs little.
            if kept.len() >= most.saturating_mul(2).max(1 << 10) {
                keep_worst(&mut kept, most);
            }
        }
        ControlFlow::Continue(())
    })?;
    keep_worst(&mut kept, most);
    all.worst = kept.into_iter().map(|(_, occurrence)| occurrence).collect();
    all.worst.sort_unstable_by_key(|occurrence| (occurrence.start, occurrence.end));
    Ok(all)
}

/// What values of a unit are counted in.
pub(crate) fn step_of(unit: Unit, capture: &Capture) -> Rational {
    match unit {
        Unit::Time => capture.base().tick().to_rational(),
        Unit::Percent | Unit::Voltage => Rational::new(1, 1_000_000).unwrap_or(Rational::ONE),
    }
}

/// Leaves those with the least margin, of equal ones the earliest.
fn keep_worst(kept: &mut Vec<(Option<Rational>, Occurrence)>, most: usize) {
    kept.sort_by_key(|(margin, occurrence)| (*margin, occurrence.start));
    kept.truncate(most);
}
