//! Pairs that count only inside one stretch, or with nothing between.

use std::collections::VecDeque;

use super::Walk;
use crate::capture::Capture;
use crate::event::{ConditionProgram, Hit, MarkWords, Stretch, Stretches};
use crate::known::{Instants, Precedence, Precision, Rule};
use crate::line::Signal;
use crate::pair::{Party, Pulled, Together};
use crate::quantity::Voltage;
use crate::time::Tick;

/// What the pairs of a limit must lie in, and what must not be between.
pub(super) struct Restriction<'a> {
    within: Option<Within<'a>>,
    unless: Option<Between<'a>>,
}

impl<'a> Restriction<'a> {
    /// That of a limit, if it has any.
    pub(super) fn of(walk: &'a Walk<'_>) -> Option<Self> {
        if walk.within.is_none() && walk.unless.is_none() {
            return None;
        }
        let precision = Precision::of(walk.capture, walk.rule);
        // Either of the two may be the earlier one, of a skew.
        let (first, second) = &walk.ends;
        let order = |from: &Instants, to: &Instants, same_tick| {
            Together::new(&precision.between(from, to), same_tick).unwrap_or(UNKNOWN_ORDER)
        };
        let within = walk.within.map(|condition| {
            let (edges, range) = (condition.instants(), walk.capture.range());
            Within {
                capture: walk.capture,
                stretches: match walk.rule {
                    Rule::Proven => condition.stretches_with_doubt(walk.capture, range),
                    Rule::Measured => condition.stretches(walk.capture, range),
                },
                enter: wider(order(&edges, first, true), order(&edges, second, true)),
                leave: wider(order(first, &edges, false), order(second, &edges, false)),
                near: VecDeque::new(),
                reached: Tick(0),
                own_edges: OwnEdges::new(walk.capture, &precision, condition, first, second),
                unknown: condition.signals(),
            }
        });
        let unless = walk.unless.as_ref().map(|event| {
            let between = event.instants();
            Between {
                marks: walk.party(event),
                after: wider(order(first, &between, false), order(second, &between, false)),
                before: wider(order(&between, first, false), order(&between, second, false)),
                passed: VecDeque::new(),
                end: Tick(walk.capture.len()),
            }
        });
        Some(Restriction { within, unless })
    }

    /// Whether an event and its partner count, asked in the order of the events; `None` where that is open.
    pub(super) fn allows(&mut self, event: Tick, partner: Tick) -> Option<bool> {
        let (from, to) = (event.min(partner), event.max(partner));
        let within = self.within.as_mut().map_or(Some(true), |within| within.holds(event, from, to));
        if within == Some(false) {
            return within;
        }
        match self.unless.as_mut().map_or(Some(false), |unless| unless.happens(event, from, to)) {
            Some(true) => Some(false),
            Some(false) => within,
            None => None,
        }
    }
}

/// Where exact arithmetic does not fit, any order is possible and none certain.
const UNKNOWN_ORDER: Together =
    Together { possible_from: i64::MIN / 4, certain_from: i64::MAX / 4, apart_from: i64::MAX / 4 };

/// The order that holds for both.
fn wider(a: Together, b: Together) -> Together {
    Together {
        possible_from: a.possible_from.min(b.possible_from),
        certain_from: a.certain_from.max(b.certain_from),
        apart_from: a.apart_from.max(b.apart_from),
    }
}

/// One stretch of a condition.
struct Within<'a> {
    capture: &'a Capture,
    stretches: Stretches<'a>,
    /// From the beginning of a stretch to an event.
    enter: Together,
    /// From an event to the end of a stretch.
    leave: Together,
    /// Those that an event at hand may lie in, in order of time, and the end of the last one recorded.
    near: VecDeque<Stretch>,
    reached: Tick,
    own_edges: OwnEdges,
    unknown: Vec<Signal>,
}

impl Within<'_> {
    fn holds(&mut self, event: Tick, from: Tick, to: Tick) -> Option<bool> {
        let (slack, farthest) = (self.leave.possible_from.min(0), 1 - self.enter.possible_from.min(0));
        while self.reached <= event.offset(farthest) {
            let Some(next) = self.stretches.next() else { break };
            // Pieces of one that may be broken off: that one is doubtful itself.
            if next.recorded || next.start == next.end {
                self.near.push_back(next);
            }
            if next.recorded {
                self.reached = next.end;
            }
        }
        while self.near.front().is_some_and(|first| first.end.since(event) < slack) {
            self.near.pop_front();
        }
        let mut possible = false;
        for stretch in self.near.iter().take_while(|stretch| stretch.start <= event.offset(farthest)) {
            let (entered, left) = (from.since(stretch.start), stretch.end.since(to));
            let begins = entered >= self.enter.certain_from
                || (entered == 0 && self.own_edges.is_at(self.capture, from));
            if begins && left >= self.leave.certain_from && stretch.recorded && !stretch.doubtful {
                return Some(true);
            }
            let enters = entered >= self.enter.possible_from || begins;
            possible |= enters && left >= self.leave.possible_from;
        }
        let unknown = |signal: &Signal| self.capture.is_unknown_within(*signal, from..to.offset(1));
        if possible || self.unknown.iter().any(unknown) { None } else { Some(false) }
    }
}

/// Whether an edge of an event is the very edge that begins a stretch.
struct OwnEdges {
    /// The line of both, and the others that the condition looks at.
    own: Option<(Signal, Vec<Signal>)>,
    order: Precedence,
}

impl OwnEdges {
    fn new(
        capture: &Capture,
        precision: &Precision<'_>,
        condition: &ConditionProgram,
        first: &Instants,
        second: &Instants,
    ) -> Self {
        let all = condition.signals();
        let order = precision.order(&all, Voltage::ZERO);
        let one = |instants: &Instants| match instants.signals() {
            [only] if all.contains(only) => Some(*only),
            _ => None,
        };
        let own = one(first).or(one(second)).filter(|signal| !capture.trace(*signal).is_ever_unknown());
        let own = own.map(|own| (own, all.iter().copied().filter(|signal| *signal != own).collect()));
        OwnEdges { own, order }
    }

    fn is_at(&self, capture: &Capture, tick: Tick) -> bool {
        let Some((own, others)) = &self.own else { return false };
        let around = self.order.around(tick).unwrap_or(tick..tick.offset(1));
        let moves = |signal: &Signal, range| capture.trace(*signal).edges(range).next().is_some();
        moves(own, tick..tick.offset(1)) && !others.iter().any(|other| moves(other, around.clone()))
    }
}

/// What must not be strictly between two events.
struct Between<'a> {
    marks: Party<MarkWords<'a>>,
    /// From an event to what may be between.
    after: Together,
    /// From what may be between to an event.
    before: Together,
    /// The last of them that certainly came before the present event, and those after it.
    passed: VecDeque<Hit>,
    end: Tick,
}

impl Between<'_> {
    fn happens(&mut self, event: Tick, from: Tick, to: Tick) -> Option<bool> {
        while let Pulled::Some(hit) = self.marks.peek()
            && hit.tick <= event
        {
            self.marks.pass();
            self.passed.push_back(hit);
            if self.passed.len() > MOST_PASSED {
                // The first one stands for those after it.
                self.passed.remove(1);
            }
        }
        let certain_before = self.before.certain_from;
        let past = |hit: &Hit| hit.is_certain() && event.since(hit.tick) >= certain_before;
        if let Some(place) = self.passed.iter().rposition(past) {
            self.passed.drain(..place);
        }
        let between =
            |tick: Tick, after: i64, before: i64| tick.since(from) >= after && to.since(tick) >= before;
        let certain = |hit: &Hit| {
            hit.is_certain() && between(hit.tick, self.after.certain_from, self.before.certain_from)
        };
        let possible = |hit: &Hit| between(hit.tick, self.after.possible_from, self.before.possible_from);
        // One just beyond an end of the record is not seen.
        let unseen = |tick| between(tick, self.after.possible_from, self.before.possible_from);
        let mut open = to >= self.end || unseen(Tick(0)) || unseen(self.end);
        for hit in &self.passed {
            if certain(hit) {
                return Some(true);
            }
            open |= possible(hit);
        }
        for place in 0.. {
            let Pulled::Some(hit) = self.marks.get(place) else { break };
            if place == MOST_PASSED {
                open = true;
                break;
            }
            if certain(&hit) {
                return Some(true);
            }
            open |= possible(&hit);
            if to.since(hit.tick) < self.before.possible_from {
                break;
            }
        }
        if open { None } else { Some(false) }
    }
}

/// How many that are all in doubt are looked at.
const MOST_PASSED: usize = 256;
