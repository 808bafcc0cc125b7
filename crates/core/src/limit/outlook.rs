//! What can be said about a limit before anything is recorded.

use super::bound::{BoundLimit, Programs};
use super::hidden::asks_for_granted;
use super::judge::{Clearance, Judge};
use super::kind::Kind;
use super::required::Required;
use crate::error::Result;
use crate::known::{PlannedLine, Precision};
use crate::quantity::{Rate, Rational, Time};
use crate::time::{Resolution, TimeBase};

/// Whether a sample rate can decide a limit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Outlook {
    /// Whether any measured interval would prove that the limit is kept.
    pub can_pass: bool,
    /// Whether any measured interval would prove that it is violated.
    pub can_fail: bool,
    /// How far from the limit a measured interval must be, inside, to pass; `None` when none passes.
    pub distance: Option<Time>,
}

impl Outlook {
    /// Whether both answers are possible.
    pub fn is_open(&self) -> bool {
        self.can_pass && self.can_fail
    }

    /// The same for a record of this length, which holds no longer interval: it cannot prove that a longer
    /// one is kept, or that a longer one is exceeded.
    #[must_use]
    pub fn within(self, record: Time, required: Required) -> Outlook {
        let fits = |end: Option<Time>| end.is_none_or(|end| end < record);
        let (min, max) = (required.min_time(), required.max_time());
        Outlook {
            can_pass: self.can_pass && fits(min),
            // A violation of a minimum is short.
            can_fail: self.can_fail && (fits(max) || min.is_some()),
            ..self
        }
    }
}

impl BoundLimit {
    /// Whether a record of this precision can decide the limit. The same arithmetic decides the
    /// occurrences of such a record.
    ///
    /// # Errors
    /// When the limit cannot be expressed in exact ticks.
    pub fn outlook(&self, precision: &Precision<'_>) -> Result<Outlook> {
        let (required, base) = (self.limit.required, precision.base());
        if let Some(can_pass) = self.can_pass_beyond_time(precision) {
            return Ok(Outlook { can_pass, can_fail: true, distance: None });
        }
        if self.check_at(base).is_err() {
            return Ok(Outlook { can_pass: false, can_fail: false, distance: None });
        }
        let span = self.span_within(precision);
        if self.limit.kind() == Kind::Window {
            let can_fail = Clearance::new(required, &span)?.can_fail();
            return Ok(Outlook { can_pass: !self.hides(precision).any(), can_fail, distance: None });
        }
        let (judge, together) = (Judge::new(required, &span)?, self.together(&span)?);
        // What is not certainly in order leaves it open which one counts, or whether there is one.
        let counted = match self.limit.kind() {
            // Either order is one.
            Kind::Skew => 0,
            _ => together.certain_from,
        };
        let passing = counted.max(judge.pass_from).max(0)..=judge.pass_to;
        // Too long can always be seen; too short only where the order is certain.
        let can_fail = required.max.is_some() || together.certain_from.max(0) <= judge.fail_to;
        // Pulses that a record does not show leave it open whether all passed.
        let (kind, hides) = (self.limit.kind(), self.hides(precision));
        let hidden = hides.condition
            || hides.leave_open(kind, required, false, false)
            || asks_for_granted(kind, required, self.granted(precision));
        let composite = self.is_open(precision) || hides.condition;
        let (can_fail, hidden) = (can_fail && !composite && judge.can_fail(), hidden || composite);
        let can_pass = passing.start() <= passing.end() && !hidden;
        let apart = |ticks: i64, limit: Time| {
            let counted = base.length_of(ticks).to_rational();
            let (a, b) = (counted.max(limit.to_rational()), counted.min(limit.to_rational()));
            a.checked_sub(b).map(Time::from_rational)
        };
        let above = required.min_time().and_then(|min| apart(*passing.start(), min));
        let below = required.max_time().and_then(|max| apart(*passing.end(), max));
        let distance = above.into_iter().chain(below).max().filter(|_| can_pass);
        Ok(Outlook { can_pass, can_fail, distance })
    }

    /// Whether a limit that is about no interval can pass at all; `None` for the others.
    fn can_pass_beyond_time(&self, precision: &Precision<'_>) -> Option<bool> {
        /// Bits between the first and the last falling edge of the shortest frame that most have.
        const USUAL_BITS: i64 = 8;
        match &self.programs {
            Programs::Bits { nominal, .. } => {
                let bit = nominal.to_rational().recip()?;
                let took = bit.checked_mul(Rational::from(USUAL_BITS))?;
                let off = self.span_within(precision).uncertainty(Time::from_rational(took))?;
                let off = off.to_rational().checked_div(took)?;
                let ends = self.limit.required;
                let (Some(min), Some(max)) = (ends.min, ends.max) else { return Some(true) };
                let room = max.to_rational().checked_sub(min.to_rational())?;
                Some(off.checked_mul(Rational::from(2))? < room)
            }
            Programs::Steady { .. } | Programs::Voltage { .. } => Some(true),
            Programs::Pulse { .. } if self.limit.kind() == Kind::Duty => Some(true),
            _ => None,
        }
    }

    /// The lowest of an instrument's rates that can decide the limit either way, where its analog lines
    /// are sampled in steps of this time, and this is stated of the lines, in the order of their ids.
    pub fn deciding_rate(
        &self,
        rates: &[Rate],
        resolution: &Resolution,
        analog_step: Time,
        stated: &[PlannedLine],
    ) -> Option<Rate> {
        let decides = |rate: &&Rate| {
            let base = TimeBase::from_rate(**rate);
            let outlook = base.and_then(|base| {
                self.outlook(&Precision::planned(base, resolution, analog_step).stating(stated))
            });
            outlook.is_ok_and(|outlook| outlook.is_open())
        };
        rates.iter().find(decides).copied()
    }
}
