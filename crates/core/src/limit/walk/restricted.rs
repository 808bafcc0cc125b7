//! Pairs that count only inside one stretch, or with nothing between.

use std::collections::VecDeque;

use super::Events;
use super::given::{Given, Held, Wanted};
use super::plan::Terms;
use crate::capture::Capture;
use crate::error::{Error, Result};
use crate::event::{ConditionProgram, Hit, Stretch};
use crate::known::{Instants, Precedence, Precision, Rule};
use crate::limit::bound::BoundLimit;
use crate::line::{Level, Signal};
use crate::pair::{Pulled, Together, UNENDED};
use crate::quantity::Voltage;
use crate::time::Tick;

/// What the pairs of a limit must lie in, and what must not be between.
#[derive(Debug)]
pub(super) struct Restriction {
    within: Option<Within>,
    unless: Option<Between>,
}

impl Restriction {
    /// That of a limit, if it has any.
    pub(super) fn of(
        limit: &BoundLimit,
        capture: &Capture,
        terms: &Terms,
        wanted: &mut Wanted,
    ) -> Result<Option<Self>> {
        if limit.within.is_none() && limit.unless.is_none() {
            return Ok(None);
        }
        let precision = Precision::of(capture, terms.rule);
        // Either of the two may be the earlier one, of a skew.
        let (first, second) = &terms.ends;
        let order = |from: &Instants, to: &Instants, same_tick| {
            Together::new(&precision.between(from, to), same_tick).unwrap_or(UNKNOWN_ORDER)
        };
        let within = limit.within.as_ref().map(|condition| {
            let edges = condition.instants();
            Within {
                stretches: wanted.stretches(condition, terms.rule == Rule::Proven),
                enter: wider(order(&edges, first, true), order(&edges, second, true)),
                leave: wider(order(first, &edges, false), order(second, &edges, false)),
                ahead: VecDeque::new(),
                open: None,
                near: VecDeque::new(),
                reached: Tick(0),
                own_edges: OwnEdges::new(&precision, condition, first, second),
                unknown: condition.signals(),
            }
        });
        let unless = limit.unless.as_ref().map(|unless| {
            let event = unless.at(capture.base())?;
            let between = event.instants();
            let [marks] = wanted.events([event]);
            Ok::<_, Error>(Between {
                marks,
                after: wider(order(first, &between, false), order(second, &between, false)),
                before: wider(order(&between, first, false), order(&between, second, false)),
                passed: VecDeque::new(),
                end: Tick(UNENDED),
            })
        });
        Ok(Some(Restriction { within, unless: unless.transpose()? }))
    }

    /// Takes in what comes next.
    pub(super) fn take(&mut self, given: &Given, capture: &Capture) {
        if let Some(within) = &mut self.within {
            within.take(given, capture);
        }
        if let Some(unless) = &mut self.unless {
            Events::take(std::array::from_mut(&mut unless.marks), given);
            if given.ended {
                unless.end = Tick(capture.len());
            }
        }
    }

    /// No event before this tick will be asked for: what only those needed is forgotten.
    pub(super) fn pass_to(&mut self, event: Tick) {
        if let Some(within) = &mut self.within {
            within.pass_to(event);
        }
        if let Some(unless) = &mut self.unless {
            unless.pass_to(event);
        }
    }

    /// Whether all is known that decides whether a pair counts of which this is the last tick.
    pub(super) fn is_known_at(&self, last: Tick) -> bool {
        self.within.as_ref().is_none_or(|within| within.is_known_at(last))
            && self.unless.as_ref().is_none_or(|unless| unless.is_known_at(last))
    }

    /// Whether an event and its partner count, asked in the order of the events; `None` where that is open.
    pub(super) fn allows(&mut self, capture: &Capture, event: Tick, partner: Tick) -> Option<bool> {
        let (from, to) = (event.min(partner), event.max(partner));
        let within = self.within.as_mut();
        let within = within.map_or(Some(true), |within| within.holds(capture, event, from, to));
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
#[derive(Debug)]
struct Within {
    stretches: Held,
    /// The next ones, and whether each begins with the very edge of an event.
    ahead: VecDeque<(Stretch, bool)>,
    open: Option<(Stretch, bool)>,
    /// From the beginning of a stretch to an event.
    enter: Together,
    /// From an event to the end of a stretch.
    leave: Together,
    /// Those that an event at hand may lie in, in order of time, and the end of the last one recorded.
    near: VecDeque<(Stretch, bool)>,
    reached: Tick,
    own_edges: OwnEdges,
    unknown: Vec<Signal>,
}

impl Within {
    /// Takes in what comes next, as long as it is known how it begins.
    fn take(&mut self, given: &Given, capture: &Capture) {
        self.stretches.take(given);
        while let Some(stretch) = self.stretches.next() {
            let known = self.open.take().filter(|(open, _)| open.start == stretch.start);
            let own = known.map_or_else(|| self.own_edges.is_at(capture, stretch.start), |(_, own)| own);
            self.ahead.push_back((stretch, own));
        }
        self.open = self.stretches.open().map(|open| {
            let known = self.open.filter(|(known, _)| known.start == open.start);
            (open, known.map_or_else(|| self.own_edges.is_at(capture, open.start), |(_, own)| own))
        });
    }

    fn is_known_at(&self, last: Tick) -> bool {
        // Of a stretch that reaches so far, neither end can lie on the other side of what is at this tick.
        let reach = [self.enter, self.leave].map(|order| order.certain_from.max(1 - order.possible_from));
        let reach = reach.into_iter().max().unwrap_or(0);
        self.stretches.known() > last.offset(reach.saturating_add(1))
    }

    /// Takes the stretches near an event, and forgets those before it.
    fn pass_to(&mut self, event: Tick) {
        let (slack, farthest) = (self.leave.possible_from.min(0), 1 - self.enter.possible_from.min(0));
        while self.reached <= event.offset(farthest) {
            let Some((next, own)) = self.ahead.pop_front() else { break };
            // Pieces of one that may be broken off: that one is doubtful itself.
            if next.recorded || next.start == next.end {
                self.near.push_back((next, own));
            }
            if next.recorded {
                self.reached = next.end;
            }
        }
        while self.near.front().is_some_and(|(first, _)| first.end.since(event) < slack) {
            self.near.pop_front();
        }
    }

    fn holds(&mut self, capture: &Capture, event: Tick, from: Tick, to: Tick) -> Option<bool> {
        self.pass_to(event);
        let farthest = 1 - self.enter.possible_from.min(0);
        let mut possible = false;
        let is_near = |(stretch, _): &&(Stretch, bool)| stretch.start <= event.offset(farthest);
        for (stretch, own) in self.near.iter().chain(&self.open).take_while(is_near) {
            let (entered, left) = (from.since(stretch.start), stretch.end.since(to));
            let begins = entered >= self.enter.certain_from || (entered == 0 && *own);
            if begins && left >= self.leave.certain_from && stretch.recorded && !stretch.doubtful {
                return Some(true);
            }
            let enters = entered >= self.enter.possible_from || begins;
            possible |= enters && left >= self.leave.possible_from;
        }
        let unknown = |signal: &Signal| capture.is_unknown_within(*signal, from..to.offset(1));
        if possible || self.unknown.iter().any(unknown) { None } else { Some(false) }
    }
}

/// Whether an edge of an event is the very edge that begins a stretch.
#[derive(Debug)]
struct OwnEdges {
    /// The line of both, and the others that the condition looks at.
    own: Option<(Signal, Vec<Signal>)>,
    order: Precedence,
}

impl OwnEdges {
    fn new(
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
        let own = one(first).or(one(second));
        let own = own.map(|own| (own, all.iter().copied().filter(|signal| *signal != own).collect()));
        OwnEdges { own, order }
    }

    fn is_at(&self, capture: &Capture, tick: Tick) -> bool {
        let Some((own, others)) = &self.own else { return false };
        let around = self.order.around(tick).unwrap_or(tick..tick.offset(1));
        let moves = |signal: &Signal, range| capture.trace(*signal).edges(range).next().is_some();
        let mut here = capture.trace(*own).edges(tick..tick.offset(1));
        let is_known =
            here.next().is_some_and(|edge| edge.from != Level::Unknown && edge.to != Level::Unknown);
        is_known && !others.iter().any(|other| moves(other, around.clone()))
    }
}

/// What must not be strictly between two events.
#[derive(Debug)]
struct Between {
    marks: Events,
    /// From an event to what may be between.
    after: Together,
    /// From what may be between to an event.
    before: Together,
    /// The last of them that certainly came before the present event, and those after it.
    passed: VecDeque<Hit>,
    end: Tick,
}

impl Between {
    fn is_known_at(&self, last: Tick) -> bool {
        let reach = self.before.certain_from.max(1 - self.before.possible_from);
        self.marks.known() > last.offset(reach.saturating_add(1))
    }

    /// Takes the marks up to an event, and forgets those that another one certainly follows before it.
    fn pass_to(&mut self, event: Tick) {
        while let Pulled::Some(hit) = self.marks.party.peek()
            && hit.tick <= event
        {
            self.marks.party.pass();
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
    }

    fn happens(&mut self, event: Tick, from: Tick, to: Tick) -> Option<bool> {
        self.pass_to(event);
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
            let Pulled::Some(hit) = self.marks.party.get(place) else { break };
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
