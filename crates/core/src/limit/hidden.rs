//! What pulses that a record does not show leave open of a limit.
//!
//! A hidden pulse of a line adds two edges between two samples that show one level. What it can make of
//! an occurrence depends on whose it is: that of the event which makes the occurrence one (the anchor),
//! that of what is found for it (the partner), or that of a condition. `docs/verdicts.md` has the table.

use super::bound::{BoundLimit, Programs};
use super::kind::Kind;
use super::required::Required;
use crate::event::{ConditionProgram, Program};
use crate::known::Precision;
use crate::line::{Crossing, Side, Signal};
use crate::quantity::{Rational, Time, Voltage};

/// Which parts of a limit are on lines that may have had pulses which the record does not show.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Hides {
    /// The event that makes an occurrence one.
    pub(super) anchor: bool,
    /// What is found for it.
    pub(super) partner: bool,
    /// What must hold for it to be one.
    pub(super) condition: bool,
}

impl BoundLimit {
    pub(super) fn hides(&self, precision: &Precision<'_>) -> Hides {
        match precision.is_sampled() {
            true => self.hides_where(|signals| precision.may_hide(signals)),
            false => Hides::default(),
        }
    }

    /// The same where `hide` says of signals whether any of them may hide pulses.
    pub(super) fn hides_where(&self, hide: impl Fn(&[Signal]) -> bool) -> Hides {
        let edges = |program: &Program| hide(program.instants().signals());
        // What an event asks of other lines than those whose edges it is.
        let asked = |program: &Program| {
            let instants = program.instants();
            let others = program.signals().into_iter().filter(|signal| !instants.signals().contains(signal));
            hide(&others.collect::<Vec<_>>())
        };
        let holds = |condition: &ConditionProgram| hide(&condition.signals());
        let of_pair = |anchor: &Program, partner: &Program| Hides {
            anchor: edges(anchor),
            partner: edges(partner),
            condition: asked(anchor) || asked(partner),
        };
        // Restrictions of pairs.
        let within = self.within.as_ref().is_some_and(holds);
        let unless = self.unless.as_ref().is_some_and(|unless| hide(&unless.signals()));
        let hides = match &self.programs {
            Programs::Data { data, reference } => of_pair(reference, data),
            Programs::Pair { from, to } => of_pair(from, to),
            Programs::Repeat { event, condition } => Hides {
                anchor: edges(event),
                partner: false,
                condition: asked(event) || condition.as_ref().is_some_and(holds),
            },
            Programs::Pulse { pulse, condition } => Hides {
                anchor: holds(pulse),
                partner: false,
                condition: condition.as_ref().is_some_and(holds),
            },
            Programs::Steady { changes, holds: condition } => {
                Hides { anchor: false, partner: edges(changes), condition: holds(condition) }
            }
            Programs::Ramp { .. } => Hides::default(),
            Programs::Voltage { line, condition, .. } => {
                // What is stated of the line holds at any of its voltages.
                let crossing = Crossing::new(*line, Voltage::ZERO, Side::Both).map(Signal::from);
                Hides {
                    anchor: crossing.is_some_and(|crossing| hide(&[crossing])),
                    condition: condition.as_ref().is_some_and(holds),
                    ..Hides::default()
                }
            }
            Programs::Bits { bus, .. } => {
                let lines: Vec<Signal> = bus.lines().iter().map(Signal::from).collect();
                Hides { anchor: hide(&lines), ..Hides::default() }
            }
        };
        Hides { condition: hides.condition || within || unless, ..hides }
    }

    /// The longest pulse that is taken not to have happened on any of its lines, though nobody states it
    /// of all of them; `None` where nothing is taken for granted.
    pub(super) fn granted(&self, precision: &Precision<'_>) -> Option<Time> {
        let hidden = precision.longest_hidden()?;
        let granted = |signal: &Signal| precision.hiding(*signal).is_none() && !precision.is_stated(*signal);
        self.signals().iter().any(granted).then_some(hidden)
    }
}

impl Hides {
    pub(super) fn any(self) -> bool {
        self.anchor || self.partner || self.condition
    }

    /// Whether the intervals of a kind may be shorter, or longer, than they seem.
    pub(super) fn widen(self, kind: Kind) -> (bool, bool) {
        let Hides { anchor, partner, .. } = self;
        match kind {
            Kind::Width | Kind::Period | Kind::Duty => (anchor, false),
            // One more anchor is one more occurrence; a partner may be nearer.
            Kind::Setup | Kind::Hold | Kind::Removal | Kind::Skew => (partner, false),
            // A later start may have been the one that was answered.
            Kind::Delay | Kind::Recovery => (anchor || partner, false),
            Kind::RiseTime | Kind::FallTime | Kind::Rate => (anchor || partner, anchor || partner),
            // A later change than the last is a partner of its own, not later than the next event.
            Kind::Settle => (anchor, false),
            Kind::Stable | Kind::Level | Kind::Window => (false, false),
        }
    }

    /// Whether a limit that every occurrence meets may still have been violated by one that was missed.
    /// `unanswered` says whether a start found no partner, for which a hidden one may have been too late, and
    /// `cut_too_long` whether what an end of the record cuts off, or what does not count as it is seen, may be
    /// longer than the limit allows.
    pub(super) fn leave_open(
        self,
        kind: Kind,
        required: Required,
        unanswered: bool,
        cut_too_long: bool,
    ) -> bool {
        let missed = match kind {
            // Pulses that hide are shorter than any that are seen.
            Kind::Width | Kind::Period if required.min.is_none() => cut_too_long,
            _ => true,
        };
        (self.anchor && missed) || (self.partner && unanswered)
    }
}

/// Whether a minimum asks for no more than what is taken for granted, which must not answer its own
/// question.
pub(super) fn asks_for_granted(kind: Kind, required: Required, granted: Option<Time>) -> bool {
    let Some((min, granted)) = required.min_time().zip(granted) else { return false };
    let pulses = match kind {
        Kind::Width => 1,
        Kind::Period => 2,
        _ => return false,
    };
    granted.to_rational().checked_mul(Rational::from(pulses)).is_some_and(|most| min.to_rational() <= most)
}
