//! How a limit may come to be decided, whatever its lines turn out to hide.

use crate::error::Result;
use crate::known::Precision;
use crate::limit::bound::BoundLimit;
use crate::limit::hidden::Hides;
use crate::limit::walk::Plan;
use crate::line::Signal;

/// A plan, and what makes it the one that counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Doubts {
    hides: Hides,
    open_events: bool,
}

impl Doubts {
    /// As a record has it that is known as far as this.
    pub(super) fn of(limit: &BoundLimit, precision: &Precision<'_>) -> Self {
        Doubts { hides: limit.hides(precision), open_events: limit.is_open(precision) }
    }

    /// Those that hold where any of these signals may hide pulses.
    fn made_by(limit: &BoundLimit, hiding: &[Signal]) -> Self {
        let hide = |signals: &[Signal]| signals.iter().any(|signal| hiding.contains(signal));
        Doubts { hides: limit.hides_where(hide), open_events: limit.is_open_where(hide) }
    }

    fn or(self, other: Doubts) -> Doubts {
        Doubts {
            hides: Hides {
                anchor: self.hides.anchor || other.hides.anchor,
                partner: self.hides.partner || other.hides.partner,
                condition: self.hides.condition || other.hides.condition,
            },
            open_events: self.open_events || other.open_events,
        }
    }
}

/// All plans that may come to count: a pulse of a single sample on any line leaves more open.
pub(super) fn plans(limit: &BoundLimit, precision: &Precision<'_>) -> Result<Vec<(Doubts, Plan)>> {
    let mut all = vec![Doubts::of(limit, precision)];
    for signal in limit.signals() {
        let more = Doubts::made_by(limit, &[signal]);
        for known in all.clone() {
            let with = known.or(more);
            if !all.contains(&with) {
                all.push(with);
            }
        }
    }
    let plan =
        |doubts: Doubts| Ok((doubts, Plan::hiding(limit, precision, doubts.hides, doubts.open_events)?));
    all.into_iter().map(plan).collect()
}
