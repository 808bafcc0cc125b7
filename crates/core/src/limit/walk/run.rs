//! One limit over marks and stretches as they come: from a stored record piece by piece, or from samples as
//! they arrive.
//!
//! What is given out does not depend on how the record was cut into pieces, and of a stored record it is
//! what of the same samples arriving: there is no other way from events to occurrences.

use std::ops::ControlFlow;

use super::super::bound::{BoundLimit, Programs};
use super::super::judge::Clearance;
use super::super::kind::Kind;
use super::super::required::Required;
use super::bits::BitRates;
use super::given::{Given, Wanted};
use super::lasting::{Durations, Shares};
use super::paired::{Cuts, Holding, Pending, Settle};
use super::plan::{Plan, Terms};
use super::pulses::Pulses;
use super::steady::Steadiness;
use super::whole::Whole;
use super::window::Changes;
use super::{Events, Scene, Take};
use crate::capture::Capture;
use crate::error::Result;
use crate::known::{Precision, Rule};
use crate::line::Signal;
use crate::pair::{
    Advance, Following, Nearby, Nearest, Pairing, Pairs, Preceding, Settling, Successive, UNENDED,
};
use crate::time::Tick;

/// A limit that is being checked.
#[derive(Debug)]
pub(in crate::limit) struct Run {
    terms: Terms,
    pub(in crate::limit) plans: Vec<Plan>,
    work: Work,
    pending: Pending,
}

/// How its occurrences are found.
#[derive(Debug)]
enum Work {
    Preceding(Preceding, [Events; 2]),
    Following(Following, [Events; 2]),
    Nearest(Nearest, [Events; 2]),
    Settling(Settling, [Events; 2]),
    Period(Successive, Events, Option<Holding>, Option<Cuts>),
    Window(Nearby, [Events; 2], Clearance, Required),
    Width(Durations),
    Pulses(Box<Pulses>),
    Duty(Shares),
    Steady(Box<Steadiness>),
    Bits(Box<BitRates>),
    /// What is found only when all of the record is known.
    Whole(Box<Whole>),
}

impl Run {
    /// A limit to be checked in a record like this, under each of some plans, and what it wants to be given.
    /// Levels that are shares of a swing have been settled before.
    pub(in crate::limit) fn new(
        limit: &BoundLimit,
        capture: &Capture,
        rule: Rule,
        plans: Vec<Plan>,
        wanted: &mut Wanted,
    ) -> Result<Run> {
        let base = capture.base();
        limit.check_at(base)?;
        let terms = Terms::new(limit, capture, rule)?;
        let (kind, together, required) = (limit.limit.kind(), terms.together, limit.limit.required);
        let any = |hides: fn(&Plan) -> bool| plans.iter().any(hides);
        let work = match (limit.programs.at(base)?, kind) {
            (Programs::Data { data, reference }, Kind::Window) => {
                let span = limit.span_within(&Precision::of(capture, rule));
                let clearance = Clearance::new(required, &span)?;
                let near = clearance.before.saturating_add(1)..clearance.after;
                Work::Window(Nearby::new(near), wanted.events([reference, data]), clearance, required)
            }
            (Programs::Data { data, reference }, Kind::Setup | Kind::Removal) => {
                Work::Preceding(Preceding::new(together, UNENDED), wanted.events([reference, data]))
            }
            (Programs::Data { data, reference }, _) => {
                let pairing = Following::new(together, false, UNENDED);
                Work::Following(pairing, wanted.events([reference, data]))
            }
            (Programs::Pair { from, to }, Kind::Skew) => {
                Work::Nearest(Nearest::new(UNENDED), wanted.events([from, to]))
            }
            (Programs::Pair { from, to }, Kind::Settle) => {
                let precision = Precision::of(capture, rule);
                let before = precision.between(&to.instants(), &from.instants());
                let before = BoundLimit::in_order(&before, false)?;
                let pairing = Settling::new(together, before, any(|plan| plan.hides.partner), UNENDED);
                Work::Settling(pairing, wanted.events([from, to]))
            }
            (Programs::Pair { from, to }, _) => {
                Work::Following(Following::new(together, true, UNENDED), wanted.events([from, to]))
            }
            (Programs::Repeat { event, condition }, _) => {
                let cuts = any(|plan| plan.hides.anchor);
                let cuts = cuts.then(|| Cuts::new(wanted.marks(&event), condition.is_some()));
                let holding = condition.map(|condition| Holding::new(wanted, &condition, terms.order));
                let [events] = wanted.events([event]);
                Work::Period(Successive::default(), events, holding, cuts)
            }
            (Programs::Pulse { pulse, condition }, Kind::Duty) => {
                let holding =
                    condition.clone().map(|condition| Holding::new(wanted, &condition, terms.order));
                let stretches = wanted.stretches(&pulse, rule == Rule::Proven);
                Work::Duty(Shares::new(stretches, condition, holding, &plans, required))
            }
            (Programs::Pulse { pulse, condition }, _) => {
                let pulses =
                    if condition.is_none() { Pulses::new(&pulse, capture, base, wanted) } else { None };
                match pulses {
                    Some(pulses) => Work::Pulses(Box::new(pulses)),
                    None => {
                        let stretches = wanted.stretches(&pulse, rule == Rule::Proven);
                        Work::Width(Durations::new(stretches, condition))
                    }
                }
            }
            (Programs::Steady { changes, holds }, _) => {
                let [changes] = wanted.events([changes]);
                let stretches = wanted.stretches(&holds, false);
                Work::Steady(Box::new(Steadiness::new(changes, stretches, together)))
            }
            (Programs::Bits { bus, nominal }, _) => {
                Work::Bits(Box::new(BitRates::new(bus, nominal, required, capture)?))
            }
            (programs, _) => Work::Whole(Box::new(Whole::new(programs, required))),
        };
        let waits = matches!(work, Work::Following(..) | Work::Settling(..));
        let pending = Pending::new(limit, capture, &terms, waits, wanted)?;
        Ok(Run { terms, plans, work, pending })
    }

    /// The stretches at whose beginning levels are asked for when they have ended, and of which signals.
    pub(in crate::limit) fn asked_at_starts(&self) -> Option<(usize, Vec<Signal>)> {
        match &self.work {
            Work::Width(durations) => durations.asked_at_starts(),
            Work::Duty(shares) => shares.asked_at_starts(),
            _ => None,
        }
    }

    /// The lines of a bus whose edges are asked for when a frame has ended, and from where on.
    pub(in crate::limit) fn asked_of_frames(&self) -> Option<(Vec<Signal>, Tick)> {
        match &self.work {
            Work::Bits(rates) => Some(rates.asked()),
            _ => None,
        }
    }

    /// The beginning of the first stretch that was given and waits to be decided.
    pub(in crate::limit) fn waits_since(&self) -> Option<Tick> {
        match &self.work {
            Work::Duty(shares) => shares.waits_since(),
            _ => None,
        }
    }

    /// Takes in what comes next of a record, and finds what follows from it.
    pub(in crate::limit) fn advance(
        &mut self,
        capture: &Capture,
        given: &Given,
        sink: &mut impl Take,
    ) -> ControlFlow<()> {
        let Run { terms, plans, work, pending } = self;
        let unknown = terms.unknown(capture);
        let scene = Scene { capture, terms, plans, unknown: &unknown };
        pending.take(given, capture);
        step(work, scene, pending, given, sink)
    }
}

/// All that follows from what is given.
fn step(
    work: &mut Work,
    scene: Scene<'_>,
    pending: &mut Pending,
    given: &Given,
    sink: &mut impl Take,
) -> ControlFlow<()> {
    let end = given.ended.then_some(scene.capture.len());
    match work {
        Work::Window(pairing, sides, clearance, required) => {
            let [events, changes] = Events::take(sides, given);
            let (clearance, required) = (*clearance, *required);
            return pairing
                .advance(events, changes, &mut Changes { scene, clearance, required, sink })
                .map_continue(drop);
        }
        Work::Width(durations) => return durations.advance(scene, given, sink),
        Work::Pulses(pulses) => return pulses.advance(scene, given, sink),
        Work::Duty(shares) => return shares.advance(scene, given, sink),
        Work::Steady(steadiness) => return steadiness.advance(scene, given, sink),
        Work::Bits(rates) => return rates.advance(scene, given, sink),
        Work::Whole(whole) if given.ended => return whole.walk(scene, sink),
        Work::Period(_, _, _, Some(cuts)) => cuts.tell(given, end, sink),
        _ => {}
    }
    let mut settle = Settle::new(scene, pending, sink);
    let (said, next) = match work {
        Work::Preceding(pairing, sides) => paired(pairing, sides, given, end, &mut settle)?,
        Work::Following(pairing, sides) => paired(pairing, sides, given, end, &mut settle)?,
        Work::Nearest(pairing, sides) => paired(pairing, sides, given, end, &mut settle)?,
        Work::Settling(pairing, sides) => paired(pairing, sides, given, end, &mut settle)?,
        Work::Period(pairing, events, holding, _) => {
            let [events] = Events::take(std::array::from_mut(events), given);
            if let Some(holding) = holding {
                holding.take(given);
            }
            let holds = holding.as_mut().map(|holding| |from, to| holding.all_the_way(from, to));
            let said = pairing.advance(events, holds, &mut settle)?;
            let next = events.passed_to();
            if let Some(holding) = holding {
                holding.pass_to(next);
            }
            (said, next)
        }
        _ => return ControlFlow::Continue(()),
    };
    settle.finish(said == Advance::Done)?;
    // Pairs of earlier events are decided, or wait to be.
    pending.pass_to(next);
    ControlFlow::Continue(())
}

/// All pairs that follow from what is given, and the tick before which no further event lies.
fn paired(
    pairing: &mut impl Pairing,
    sides: &mut [Events; 2],
    given: &Given,
    end: Option<u64>,
    pairs: &mut impl Pairs,
) -> ControlFlow<(), (Advance, Tick)> {
    let [events, partners] = Events::take(sides, given);
    if let Some(len) = end {
        pairing.end(len);
    }
    let said = pairing.advance(events, partners, pairs)?;
    ControlFlow::Continue((said, events.passed_to()))
}
