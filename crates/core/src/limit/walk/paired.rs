//! Limits on intervals between paired events: what each pair says.

use std::collections::VecDeque;
use std::ops::{ControlFlow, Range};

use super::given::{Given, Held, NextStretch, Wanted};
use super::plan::{Plan, Terms};
use super::restricted::Restriction;
use super::{Scene, Take};
use crate::capture::Capture;
use crate::error::Result;
use crate::event::{Certainty, ConditionProgram, Hit, MarkWord};
use crate::known::{BEYOND, Precedence};
use crate::limit::bound::BoundLimit;
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::pair::{Batch, Pairs, Partner, Pulled, Supply, Unanswered};
use crate::time::Tick;

/// Pairs whose verdict has to wait.
#[derive(Debug)]
pub(super) struct Pending {
    /// Which pairs count.
    restriction: Option<Restriction>,
    /// Those of which that is not known yet.
    pairs: VecDeque<Pair>,
    /// Whether starts wait for an answer until the next one.
    waits: bool,
    /// A start that has no answer, and a one for each plan under which it waits.
    waiting: Option<(Hit, u32)>,
}

#[derive(Debug)]
enum Pair {
    Certain(Tick, Tick),
    Open(Hit, Vec<Partner>),
    Unended(Hit, Vec<Partner>),
}

impl Pair {
    fn event(&self) -> Tick {
        match self {
            Pair::Certain(event, _) => *event,
            Pair::Open(event, _) | Pair::Unended(event, _) => event.tick,
        }
    }

    /// The last tick that has a part in it.
    fn last(&self) -> Tick {
        match self {
            Pair::Certain(event, partner) => *event.max(partner),
            Pair::Open(event, partners) | Pair::Unended(event, partners) => {
                partners.iter().map(|partner| partner.tick).chain([event.tick]).max().unwrap_or_default()
            }
        }
    }
}

impl Pending {
    pub(super) fn new(
        limit: &BoundLimit,
        capture: &Capture,
        terms: &Terms,
        waits: bool,
        wanted: &mut Wanted,
    ) -> Result<Self> {
        let restriction = Restriction::of(limit, capture, terms, wanted)?;
        Ok(Pending { restriction, pairs: VecDeque::new(), waits, waiting: None })
    }

    /// No event before this tick is to come: what only earlier ones needed is forgotten.
    pub(super) fn pass_to(&mut self, next: Tick) {
        let Some(restriction) = &mut self.restriction else { return };
        let pending = self.pairs.front().map(Pair::event);
        let waiting = self.waiting.map(|(start, _)| start.tick);
        restriction.pass_to(pending.into_iter().chain(waiting).fold(next, Tick::min));
    }

    pub(super) fn take(&mut self, given: &Given, capture: &Capture) {
        if let Some(restriction) = &mut self.restriction {
            restriction.take(given, capture);
        }
    }
}

/// Decides pairs as they come, and waits that nothing answered.
pub(super) struct Settle<'r, S> {
    scene: Scene<'r>,
    pending: &'r mut Pending,
    sink: &'r mut S,
}

impl<'r, S: Take> Settle<'r, S> {
    pub(super) fn new(scene: Scene<'r>, pending: &'r mut Pending, sink: &'r mut S) -> Self {
        Settle { scene, pending, sink }
    }

    /// Decides those that had to wait, as far as their restriction is known by now; at the end of the record also
    /// a start that still has no answer.
    pub(super) fn finish(&mut self, ended: bool) -> ControlFlow<()> {
        self.decide_pending()?;
        if !ended {
            return ControlFlow::Continue(());
        }
        self.over(Hit { tick: Tick(self.scene.capture.len()), certainty: Certainty::Certain })
    }

    fn decide_pending(&mut self) -> ControlFlow<()> {
        while let Some(restriction) = &self.pending.restriction
            && let Some(pair) = self.pending.pairs.pop_front_if(|pair| restriction.is_known_at(pair.last()))
        {
            match pair {
                Pair::Certain(event, partner) => self.restricted(event, partner)?,
                Pair::Open(event, partners) => self.settle_open(event, &partners)?,
                Pair::Unended(event, partners) => self.settle_unended(event, &partners)?,
            }
        }
        ControlFlow::Continue(())
    }

    /// A pair that certainly belongs together, if it counts.
    fn restricted(&mut self, event: Tick, partner: Tick) -> ControlFlow<()> {
        let allowed = |restriction: &mut Restriction| restriction.allows(self.scene.capture, event, partner);
        if self.pending.restriction.as_mut().map(allowed) == Some(Some(true)) {
            return self.settle_certain(event, partner);
        }
        let ticks = event.since(partner).abs();
        let event = Hit { tick: event, certainty: Certainty::Certain };
        self.settle_open(
            event,
            &[Partner { tick: partner, ticks, certain: true, recorded: true, hidden: false }],
        )
    }

    #[inline(always)]
    fn settle_certain(&mut self, event: Tick, partner: Tick) -> ControlFlow<()> {
        if self.pending.waiting.is_some() {
            self.over(Hit { tick: event, certainty: Certainty::Certain })?;
        }
        self.scene.certain(event.min(partner), event.max(partner), self.sink)
    }

    fn settle_open(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        self.over(event)?;
        if partners.is_empty() && event.is_recorded() && self.pending.waits {
            self.pending.waiting = Some((event, u32::MAX));
            return ControlFlow::Continue(());
        }
        for (number, plan) in self.scene.plans.iter().enumerate() {
            // As nearly always: what one plan decides by is what all do.
            if number == 0 && partners.iter().all(|partner| !partner.hidden) {
                return self.settle_allowed(event, partners, 0..self.scene.plans.len());
            }
            with_hidden(plan, partners, |partners| self.settle_allowed(event, partners, number..number + 1))?;
        }
        ControlFlow::Continue(())
    }

    /// Decides an event for some plans by those of its partners that count.
    fn settle_allowed(&mut self, event: Hit, partners: &[Partner], plans: Range<usize>) -> ControlFlow<()> {
        let allowed = self.allowed(event, partners);
        let partners = match &allowed {
            Allowed::All => partners,
            Allowed::Some(allowed) => allowed,
            Allowed::None => {
                // A hidden edge may make one of it that counts, or a hidden partner one that is nearer.
                let longest = partners.iter().map(|partner| partner.ticks).max().unwrap_or(0);
                self.sink.cut(longest);
                for number in plans.filter(|number| self.scene.plans[*number].hides.partner) {
                    self.sink.waited(number, longest);
                }
                return ControlFlow::Continue(());
            }
        };
        for number in plans {
            if let Some(found) = self.scene.decided(&self.scene.plans[number], event, partners) {
                self.sink.found(number, found)?;
            }
        }
        ControlFlow::Continue(())
    }

    fn settle_unended(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        self.over(event)?;
        let mut waiting = 0;
        for (number, plan) in self.scene.plans.iter().enumerate() {
            let late = with_hidden(plan, partners, |partners| {
                let allowed = self.allowed(event, partners);
                let partners = match &allowed {
                    Allowed::All => partners,
                    Allowed::None => &[],
                    Allowed::Some(allowed) => allowed,
                };
                // A later one, beyond the record, may be none that counts.
                let restricted = self.pending.restriction.is_some();
                too_late_already(self.scene, plan, event, partners, restricted)
            });
            match late {
                Some(occurrence) => self.sink.found(number, Visited::Occurrence(occurrence))?,
                None => waiting |= 1 << number,
            }
        }
        self.pending.waiting = (waiting != 0 && event.is_recorded()).then_some((event, waiting));
        ControlFlow::Continue(())
    }

    /// The partners that count.
    fn allowed(&mut self, event: Hit, partners: &[Partner]) -> Allowed {
        let Some(restriction) = &mut self.pending.restriction else { return Allowed::All };
        let mut sure = true;
        let mut allowed = Vec::with_capacity(partners.len());
        for partner in partners {
            let allows = restriction.allows(self.scene.capture, event.tick, partner.tick);
            sure &= allows == Some(true);
            if allows != Some(false) {
                allowed.push(*partner);
            }
        }
        // Where the true one may be one that does not count, there may be no pair.
        if !sure {
            allowed.iter_mut().for_each(|partner| partner.certain = false);
        }
        match partners.is_empty() || !allowed.is_empty() {
            true => Allowed::Some(allowed),
            false => Allowed::None,
        }
    }

    /// A wait is over, with another start or the end of the record: too long is a violation.
    fn over(&mut self, end: Hit) -> ControlFlow<()> {
        let Some((start, under)) = self.pending.waiting.take() else { return ControlFlow::Continue(()) };
        let Scene { capture, plans, .. } = self.scene;
        let ticks = end.tick.since(start.tick);
        let sure = start.is_certain() && end.is_certain();
        let fails = |plan: &Plan| sure && fails_unanswered(plan, ticks);
        let any = plans.iter().any(fails);
        let restriction = self.pending.restriction.as_mut().filter(|_| any);
        let counts = restriction.is_none_or(|all| all.allows(capture, start.tick, end.tick) == Some(true));
        let counts = any && counts && !self.scene.unknown_within(start.tick, end.tick);
        for (number, plan) in plans.iter().enumerate().filter(|(number, _)| under >> number & 1 == 1) {
            if !counts || !fails(plan) {
                self.sink.waited(number, ticks);
                self.sink.found(number, Visited::Unpaired(start.tick))?;
                continue;
            }
            // It lasted as long at least.
            let measured = Measured::Interval { ticks, partners: (ticks, BEYOND) };
            let (start, end, verdict) = (start.tick, end.tick, Verdict::Fail);
            let occurrence = Occurrence { start, end, measured, verdict, doubt: None, certain: true };
            self.sink.found(number, Visited::Occurrence(occurrence))?;
        }
        ControlFlow::Continue(())
    }
}

impl<S: Take> Pairs for Settle<'_, S> {
    #[inline(always)]
    fn certain(&mut self, event: Tick, partner: Tick) -> ControlFlow<()> {
        if self.pending.restriction.is_none() {
            return self.settle_certain(event, partner);
        }
        self.pending.pairs.push_back(Pair::Certain(event, partner));
        self.decide_pending()
    }

    fn all_certain(&mut self, batch: &Batch) -> ControlFlow<()> {
        if let Some(first) = batch.in_order().next().filter(|_| self.pending.waiting.is_some()) {
            self.over(Hit { tick: first.event(), certainty: Certainty::Certain })?;
        }
        let (restriction, Scene { plans, unknown, .. }) = (&self.pending.restriction, self.scene);
        let too_long = |wait: &Unanswered| plans.iter().any(|plan| fails_unanswered(plan, wait.ticks()));
        if restriction.is_some()
            || !unknown.is_empty()
            || (plans.iter().any(|plan| plan.must_answer) && batch.waits().iter().any(too_long))
        {
            return self.one_by_one(batch);
        }
        self.sink.all_certain(batch)
    }

    fn open(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        if self.pending.restriction.is_none() {
            return self.settle_open(event, partners);
        }
        self.pending.pairs.push_back(Pair::Open(event, partners.to_vec()));
        self.decide_pending()
    }

    fn unended(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        if self.pending.restriction.is_none() {
            return self.settle_unended(event, partners);
        }
        self.pending.pairs.push_back(Pair::Unended(event, partners.to_vec()));
        self.decide_pending()
    }
}

/// Whether a wait of so many ticks that nothing answered is a violation, if it counts.
fn fails_unanswered(plan: &Plan, ticks: i64) -> bool {
    !plan.open_events && !plan.hides.any() && plan.must_answer && plan.judge.decide(ticks) == Verdict::Fail
}

/// Which of the partners of an event count.
enum Allowed {
    All,
    Some(Vec<Partner>),
    /// There are some, and none of them does.
    None,
}

/// Asks about partners, without those that are possible only where the lines of partners may hide pulses, for a plan
/// by which they may not.
fn with_hidden<T>(plan: &Plan, partners: &[Partner], ask: impl FnOnce(&[Partner]) -> T) -> T {
    if plan.hides.partner || partners.iter().all(|partner| !partner.hidden) {
        return ask(partners);
    }
    let seen: Vec<Partner> = partners.iter().filter(|partner| !partner.hidden).copied().collect();
    ask(&seen)
}

/// An event whose last partner may lie beyond the record: whether one of these comes too late already. Of partners that
/// are `restricted`, none is certain.
fn too_late_already(
    scene: Scene<'_>,
    plan: &Plan,
    event: Hit,
    partners: &[Partner],
    restricted: bool,
) -> Option<Occurrence> {
    let ticks = partners.iter().map(|partner| partner.ticks).min()?;
    let last = partners.iter().max_by_key(|partner| partner.ticks)?;
    if last.ticks <= plan.judge.pass_to {
        return None;
    }
    let certain = event.is_certain()
        && !restricted
        && partners.iter().any(|partner| partner.certain)
        && ticks >= plan.judge.fail_from
        && !plan.hides.condition;
    let (mut verdict, mut doubt) = match certain && !plan.open_events {
        true => (Verdict::Fail, None),
        false => (Verdict::Inconclusive, Some(plan.straddling(last.ticks))),
    };
    if scene.unknown_within(event.tick, last.tick) {
        (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
    }
    let measured = Measured::Interval { ticks: last.ticks, partners: (ticks, BEYOND) };
    let (start, end) = (last.tick.min(event.tick), last.tick.max(event.tick));
    Some(Occurrence { start, end, measured, verdict, doubt, certain })
}

/// Where a condition holds all the way from one tick to another, asked with rising ticks.
#[derive(Debug)]
pub(super) struct Holding {
    stretches: Held,
    order: Precedence,
}

impl Holding {
    pub(super) fn new(wanted: &mut Wanted, condition: &ConditionProgram, order: Precedence) -> Self {
        Holding { stretches: wanted.stretches(condition, false), order }
    }

    pub(super) fn take(&mut self, given: &Given) {
        self.stretches.take(given);
    }

    /// Nothing that ends before this tick will be asked for.
    pub(super) fn pass_to(&mut self, to: Tick) {
        let before = to.offset(-self.reach());
        while let NextStretch::Is(stretch) = self.stretches.peek()
            && stretch.end < before
        {
            self.stretches.pass();
        }
    }

    /// An edge of the condition that is this far from an end is in order with it.
    fn reach(&self) -> i64 {
        self.order.reach().map_or(0, |reach| i64::try_from(reach).unwrap_or(i64::MAX / 4) + 1)
    }

    /// `None` where the order of edges at the ends leaves it open.
    pub(super) fn all_the_way(&mut self, from: Tick, to: Tick) -> Pulled<Option<bool>> {
        let reach = self.reach();
        let stretch = loop {
            match self.stretches.peek() {
                NextStretch::Is(stretch) if stretch.end < to.offset(-reach) => self.stretches.pass(),
                NextStretch::Is(stretch) => break stretch,
                NextStretch::NoneBefore(known) if known <= to.offset(reach) => return Pulled::NotYet,
                NextStretch::NoneBefore(_) if let Some(open) = self.stretches.open() => break open,
                NextStretch::NoneBefore(_) | NextStretch::None => return Pulled::Some(Some(false)),
            }
        };
        let covers = |inward: i64| {
            let begins = stretch.start <= from.offset(inward) || (inward < 0 && !stretch.begins);
            begins && (stretch.end >= to.offset(-inward) || (inward < 0 && !stretch.ends))
        };
        Pulled::Some(match (covers(-reach), covers(reach)) {
            (true, _) => Some(true),
            (false, true) => None,
            (false, false) => Some(false),
        })
    }
}

/// How far events with no other one after or before them are from the ends of the record; where a condition must hold,
/// which may not, also from each other.
#[derive(Debug)]
pub(super) struct Cuts {
    place: usize,
    marks: Supply<MarkWord>,
    last: Tick,
    restricted: bool,
}

impl Cuts {
    pub(super) fn new(place: usize, restricted: bool) -> Self {
        Cuts { place, marks: Supply::default(), last: Tick(0), restricted }
    }

    pub(super) fn tell(&mut self, given: &Given, end: Option<u64>, sink: &mut impl Take) {
        if let Some(piece) = given.marks.get(self.place) {
            self.marks.add(&piece.items, piece.known);
        }
        while let Pulled::Some(word) = self.marks.pull() {
            let mut left = word.all();
            while left != 0 {
                let tick = Tick(word.start.0 + u64::from(left.trailing_zeros()));
                if self.last == Tick(0) || self.restricted {
                    sink.cut(tick.since(self.last));
                    left &= left - 1;
                } else {
                    // Of the others, the last is all that counts.
                    left = if left.is_power_of_two() { 0 } else { 1 << left.ilog2() };
                }
                self.last = tick;
            }
        }
        if let Some(len) = end {
            sink.cut(Tick(len).since(self.last));
        }
    }
}
