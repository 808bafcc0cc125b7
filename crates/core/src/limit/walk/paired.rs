//! Limits on intervals between paired events: what each pair says.

use std::ops::ControlFlow;

use super::{CertainPair, Holding, Take, Walk};
use crate::event::{Certainty, ConditionProgram, Hit, TimedProgram};
use crate::known::BEYOND;
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::pair::{Following, Nearest, Pairs, Partner, Preceding, Pulled, Successive};
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
        let settle = &mut Settle { walk: self, sink };
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
        let settle = &mut Settle { walk: self, sink };
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
        let settle = &mut Settle { walk: self, sink };
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
        let settle = &mut Settle { walk: self, sink };
        Nearest::new(self.capture.len()).advance(&mut events, &mut partners, settle).map_continue(drop)
    }

    /// `period`: from each event to the next, where the condition holds all the way.
    pub(super) fn period<S: Take>(
        &self,
        event: &TimedProgram,
        condition: Option<&ConditionProgram>,
        sink: &mut S,
    ) -> ControlFlow<()> {
        if self.hides.anchor {
            self.cut_periods(event, sink);
        }
        let mut events = self.party(event);
        let mut holding = Holding::new(condition, self.capture, self.order);
        let holds = |from, to| holding.all_the_way(from, to);
        let settle = &mut Settle { walk: self, sink };
        Successive::default().advance(&mut events, holds, settle).map_continue(drop)
    }

    /// Tells what is seen before the first event and after the last.
    fn cut_periods<S: Take>(&self, event: &TimedProgram, sink: &mut S) {
        let mut marks = self.party(event);
        let (end, mut last) = (Tick(self.capture.len()), Tick(0));
        while let Pulled::Some(mark) = marks.peek() {
            marks.pass();
            if last == Tick(0) {
                sink.cut(mark.tick.since(last));
            }
            last = mark.tick;
        }
        sink.cut(end.since(last));
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
            doubt = Some(match (happened, partners) {
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
    sink: &'w mut S,
}

impl<S: Take> Pairs for Settle<'_, '_, S> {
    #[inline(always)]
    fn certain(&mut self, event: Tick, partner: Tick) -> ControlFlow<()> {
        let (start, end) = (event.min(partner), event.max(partner));
        let walk = self.walk;
        if walk.unknown.is_empty() && !walk.open_events && !walk.hides.condition {
            let verdict = walk.judge.decide(end.since(start));
            let open = verdict == Verdict::Inconclusive;
            let doubt = if open { Some(walk.straddling(end.since(start))) } else { None };
            return self.sink.certain(CertainPair { start, end, verdict, doubt });
        }
        let event = Hit { tick: event, certainty: Certainty::Certain };
        let ticks = end.since(start);
        let partner = Partner { tick: partner, ticks, certain: true, recorded: true };
        self.walk.settle(event, &[partner], self.sink)
    }

    fn open(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        self.walk.settle(event, partners, self.sink)
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
        let Settle { walk, sink } = &mut *self.settle;
        let ticks = end.tick.since(start.tick);
        let sure = start.is_certain() && end.is_certain() && !walk.open_events && !walk.hides.any();
        let fails = || walk.must_answer && walk.judge.decide(ticks) == Verdict::Fail;
        if !sure || !fails() || walk.unknown_within(start.tick, end.tick) {
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
}
