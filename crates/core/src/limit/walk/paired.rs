//! Limits on intervals between paired events: what each pair says.

use std::ops::ControlFlow;

use super::restricted::Restriction;
use super::{CertainPair, Holding, Take, Walk};
use crate::event::{Certainty, ConditionProgram, Hit, TimedProgram};
use crate::known::BEYOND;
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::pair::{Following, Nearest, Pairs, Partner, Preceding, Pulled, Settling, Successive, Together};
use crate::time::Tick;

impl Walk<'_> {
    /// `delay`, `recovery` and `hold`: the partner follows.
    pub(super) fn following<S: Take>(
        &self,
        from: &TimedProgram,
        to: &TimedProgram,
        superseded: bool,
        sink: &mut S,
    ) -> ControlFlow<()> {
        if self.must_answer || self.hides.partner {
            return self.following_with_waits(from, to, superseded, sink);
        }
        let (mut starts, mut answers) = (self.party(from), self.party(to));
        let mut pairing = Following::new(self.together, superseded, self.capture.len());
        let settle = &mut Settle::new(self, sink);
        pairing.advance(&mut starts, &mut answers, settle).map_continue(drop)
    }

    /// The same where it matters how long a start was not answered.
    #[cold]
    #[inline(never)]
    fn following_with_waits<S: Take>(
        &self,
        from: &TimedProgram,
        to: &TimedProgram,
        superseded: bool,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (mut starts, mut answers) = (self.party(from), self.party(to));
        let mut pairing = Following::new(self.together, superseded, self.capture.len());
        let settle = &mut Settle::new(self, sink);
        let mut waits = Waits { settle, waiting: None };
        pairing.advance(&mut starts, &mut answers, &mut waits).map_continue(drop)?;
        waits.over(Hit { tick: Tick(self.capture.len()), certainty: Certainty::Certain })
    }

    /// `setup` and `removal`: the partner comes before.
    pub(super) fn preceding<S: Take>(
        &self,
        data: &TimedProgram,
        reference: &TimedProgram,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (mut events, mut partners) = (self.party(reference), self.party(data));
        let settle = &mut Settle::new(self, sink);
        Preceding::new(self.together, self.capture.len())
            .advance(&mut events, &mut partners, settle)
            .map_continue(drop)
    }

    /// `skew`: the nearest partner on either side.
    pub(super) fn nearest<S: Take>(
        &self,
        from: &TimedProgram,
        to: &TimedProgram,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (mut events, mut partners) = (self.party(from), self.party(to));
        let settle = &mut Settle::new(self, sink);
        Nearest::new(self.capture.len()).advance(&mut events, &mut partners, settle).map_continue(drop)
    }

    /// `settle`: the last partner before the next event. `before` is the order of the two.
    pub(super) fn settling<S: Take>(
        &self,
        from: &TimedProgram,
        data: &TimedProgram,
        before: Together,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let (mut starts, mut changes) = (self.party(from), self.party(data));
        let len = self.capture.len();
        let mut pairing = Settling::new(self.together, before, self.hides.partner, len);
        let settle = &mut Settle::new(self, sink);
        let mut waits = Waits { settle, waiting: None };
        pairing.advance(&mut starts, &mut changes, &mut waits).map_continue(drop)?;
        waits.over(Hit { tick: Tick(len), certainty: Certainty::Certain })
    }

    /// `period`: from each event to the next, where the condition holds all the way.
    pub(super) fn period<S: Take>(
        &self,
        event: &TimedProgram,
        condition: Option<&ConditionProgram>,
        sink: &mut S,
    ) -> ControlFlow<()> {
        if self.hides.anchor {
            self.cut_periods(event, condition.is_some(), sink);
        }
        let mut events = self.party(event);
        let mut holding = Holding::new(condition, self.capture, self.order);
        let holds = |from, to| holding.all_the_way(from, to);
        let settle = &mut Settle::new(self, sink);
        Successive::default().advance(&mut events, holds, settle).map_continue(drop)
    }

    /// Tells what is seen before the first event and after the last, or with a condition, which may not hold,
    /// the longest of all.
    fn cut_periods<S: Take>(&self, event: &TimedProgram, restricted: bool, sink: &mut S) {
        let mut marks = self.party(event);
        let (end, mut last) = (Tick(self.capture.len()), Tick(0));
        while let Pulled::Some(mark) = marks.peek() {
            marks.pass();
            if last == Tick(0) || restricted {
                sink.cut(mark.tick.since(last));
            }
            last = mark.tick;
        }
        sink.cut(end.since(last));
    }

    /// An event whose last partner may lie beyond the record: whether one of these comes too late already.
    fn too_late_already(&self, event: Hit, partners: &[Partner]) -> Option<Occurrence> {
        let ticks = partners.iter().map(|partner| partner.ticks).min()?;
        let last = partners.iter().max_by_key(|partner| partner.ticks)?;
        if last.ticks <= self.judge.pass_to {
            return None;
        }
        let certain = event.is_certain()
            && partners.iter().any(|partner| partner.certain)
            && ticks >= self.judge.fail_from
            && !self.hides.condition;
        let (mut verdict, mut doubt) = match certain && !self.open_events {
            true => (Verdict::Fail, None),
            false => (Verdict::Inconclusive, Some(self.straddling(last.ticks))),
        };
        if self.unknown_within(event.tick, last.tick) {
            (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
        }
        let measured = Measured::Interval { ticks: last.ticks, partners: (ticks, BEYOND) };
        let (start, end) = (last.tick.min(event.tick), last.tick.max(event.tick));
        Some(Occurrence { start, end, measured, verdict, doubt, certain })
    }

    /// Decides one event that has these possible partners, the likeliest first.
    pub(super) fn settle<S: Take>(&self, event: Hit, partners: &[Partner], sink: &mut S) -> ControlFlow<()> {
        let recorded = event.is_recorded();
        let Some(shown) = partners.iter().find(|p| p.recorded && p.ticks >= 0).or(partners.first()) else {
            return if recorded {
                sink.found(Visited::Unpaired(event.tick))
            } else {
                ControlFlow::Continue(())
            };
        };
        let happened = event.is_certain() && partners.iter().any(|p| p.certain);
        let certain = happened && !self.hides.condition;
        let definite = certain && !self.open_events;
        let verdicts = || partners.iter().map(|p| self.judge.decide(p.ticks));
        let mut doubt = None;
        let mut verdict = if verdicts().all(|v| v == Verdict::Pass) {
            Verdict::Pass
        } else if definite && verdicts().all(|v| v == Verdict::Fail) {
            Verdict::Fail
        } else {
            // One that hides before the next event is no question of order.
            let seen = match partners {
                [seen, hidden] if self.hides.partner && !hidden.recorded => std::slice::from_ref(seen),
                all => all,
            };
            doubt = Some(match (happened, seen) {
                (true, [only]) if certain && seen.len() < partners.len() => {
                    match self.judge.decide(only.ticks) {
                        Verdict::Inconclusive => self.straddling(only.ticks),
                        _ => Doubt::Hidden,
                    }
                }
                (true, [only]) if certain => self.straddling(only.ticks),
                (true, _) if !certain => Doubt::Hidden,
                _ => Doubt::Order,
            });
            Verdict::Inconclusive
        };
        let (start, end) = (shown.tick.min(event.tick), shown.tick.max(event.tick));
        if self.unknown_within(start, end) {
            (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
        }
        let all = partners.iter().map(|p| p.ticks);
        let ticks = shown.ticks;
        let partners = (all.clone().min().unwrap_or(ticks), all.max().unwrap_or(ticks));
        let measured = Measured::Interval { ticks, partners };
        sink.found(Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt, certain }))
    }
}

/// Decides pairs as they come.
struct Settle<'w, 'a, S> {
    walk: &'w Walk<'a>,
    restriction: Option<Restriction<'w>>,
    sink: &'w mut S,
}

impl<'w, 'a, S: Take> Settle<'w, 'a, S> {
    fn new(walk: &'w Walk<'a>, sink: &'w mut S) -> Self {
        Settle { walk, restriction: Restriction::of(walk), sink }
    }
}

impl<S: Take> Settle<'_, '_, S> {
    /// The partners that count; `None` where an event has some, and none of them does.
    fn allowed(&mut self, event: Hit, partners: &[Partner]) -> Option<Vec<Partner>> {
        let restriction = self.restriction.as_mut()?;
        let mut sure = true;
        let mut allowed = Vec::with_capacity(partners.len());
        for partner in partners {
            let allows = restriction.allows(event.tick, partner.tick);
            sure &= allows == Some(true);
            if allows != Some(false) {
                allowed.push(*partner);
            }
        }
        // Where the true one may be one that does not count, there may be no pair.
        if !sure {
            allowed.iter_mut().for_each(|partner| partner.certain = false);
        }
        (partners.is_empty() || !allowed.is_empty()).then_some(allowed)
    }
}

impl<S: Take> Pairs for Settle<'_, '_, S> {
    #[inline(always)]
    fn certain(&mut self, event: Tick, partner: Tick) -> ControlFlow<()> {
        let (start, end) = (event.min(partner), event.max(partner));
        let walk = self.walk;
        let restricted = self.restriction.is_some();
        if walk.unknown.is_empty() && !walk.open_events && !walk.hides.condition && !restricted {
            let verdict = walk.judge.decide(end.since(start));
            let open = verdict == Verdict::Inconclusive;
            let doubt = if open { Some(walk.straddling(end.since(start))) } else { None };
            return self.sink.certain(CertainPair { start, end, verdict, doubt });
        }
        let event = Hit { tick: event, certainty: Certainty::Certain };
        let ticks = end.since(start);
        let partner = Partner { tick: partner, ticks, certain: true, recorded: true };
        self.open(event, &[partner])
    }

    fn open(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        if self.restriction.is_none() {
            return self.walk.settle(event, partners, self.sink);
        }
        match self.allowed(event, partners) {
            Some(allowed) => self.walk.settle(event, &allowed, self.sink),
            None => {
                // A hidden edge may make one of it that counts, or a hidden partner one that is nearer.
                let longest = partners.iter().map(|partner| partner.ticks).max().unwrap_or(0);
                self.sink.cut(longest);
                if self.walk.hides.partner {
                    self.sink.waited(longest);
                }
                ControlFlow::Continue(())
            }
        }
    }
}

/// Decides pairs as they come, and waits that nothing answered.
struct Waits<'s, 'w, 'a, S> {
    settle: &'s mut Settle<'w, 'a, S>,
    /// A start that has no answer.
    waiting: Option<Hit>,
}

impl<S: Take> Waits<'_, '_, '_, S> {
    /// A wait is over, with another start or the end of the record: too long is a violation.
    fn over(&mut self, end: Hit) -> ControlFlow<()> {
        let Some(start) = self.waiting.take() else { return ControlFlow::Continue(()) };
        let Settle { walk, restriction, sink } = &mut *self.settle;
        let ticks = end.tick.since(start.tick);
        let sure = start.is_certain() && end.is_certain() && !walk.open_events && !walk.hides.any();
        let fails = || walk.must_answer && walk.judge.decide(ticks) == Verdict::Fail;
        let mut counts =
            || restriction.as_mut().is_none_or(|all| all.allows(start.tick, end.tick) == Some(true));
        if !sure || !fails() || !counts() || walk.unknown_within(start.tick, end.tick) {
            sink.waited(ticks);
            return sink.found(Visited::Unpaired(start.tick));
        }
        // It lasted as long at least.
        let measured = Measured::Interval { ticks, partners: (ticks, BEYOND) };
        let (start, end, verdict) = (start.tick, end.tick, Verdict::Fail);
        sink.found(Visited::Occurrence(Occurrence {
            start,
            end,
            measured,
            verdict,
            doubt: None,
            certain: true,
        }))
    }
}

impl<S: Take> Pairs for Waits<'_, '_, '_, S> {
    fn certain(&mut self, event: Tick, partner: Tick) -> ControlFlow<()> {
        self.over(Hit { tick: event, certainty: Certainty::Certain })?;
        self.settle.certain(event, partner)
    }

    fn open(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        self.over(event)?;
        if partners.is_empty() && event.is_recorded() {
            self.waiting = Some(event);
            return ControlFlow::Continue(());
        }
        self.settle.open(event, partners)
    }

    fn unended(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        self.over(event)?;
        let settle = &mut *self.settle;
        let mut allowed = settle.allowed(event, partners);
        let partners = match (&settle.restriction, &mut allowed) {
            (None, _) => partners,
            (Some(_), None) => &[],
            // A later one, beyond the record, may be none that counts.
            (Some(_), Some(allowed)) => {
                allowed.iter_mut().for_each(|partner| partner.certain = false);
                allowed
            }
        };
        match settle.walk.too_late_already(event, partners) {
            Some(occurrence) => settle.sink.found(Visited::Occurrence(occurrence)),
            None => {
                self.waiting = event.is_recorded().then_some(event);
                ControlFlow::Continue(())
            }
        }
    }
}
