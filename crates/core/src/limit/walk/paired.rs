//! Limits on intervals between paired events: what each pair says.

use std::ops::ControlFlow;

use super::{CertainPair, Holding, Take, Walk};
use crate::event::{Certainty, ConditionProgram, Hit, TimedProgram};
use crate::limit::judge::Verdict;
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::pair::{Following, Nearest, Pairs, Partner, Preceding, Successive};
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
        let (mut starts, mut answers) = (self.party(from), self.party(to));
        let mut pairing = Following::new(self.together, superseded, self.capture.len());
        let settle = &mut Settle { walk: self, sink };
        pairing.advance(&mut starts, &mut answers, settle).map_continue(drop)
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
        Preceding::new(self.together).advance(&mut events, &mut partners, settle).map_continue(drop)
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
        Nearest::new(self.together).advance(&mut events, &mut partners, settle).map_continue(drop)
    }

    /// `period`: from each event to the next, where the condition holds all the way.
    pub(super) fn period<S: Take>(
        &self,
        event: &TimedProgram,
        condition: Option<&ConditionProgram>,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let mut events = self.party(event);
        let mut holding = Holding::new(condition, self.capture);
        let holds = |from, to| holding.all_the_way(from, to);
        let settle = &mut Settle { walk: self, sink };
        Successive::default().advance(&mut events, holds, settle).map_continue(drop)
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
        let definite =
            event.certainty == Certainty::Certain && !self.open_events && partners.iter().any(|p| p.certain);
        let verdicts = || partners.iter().map(|p| self.judge.decide(p.ticks));
        let mut doubt = None;
        let mut verdict = if verdicts().all(|v| v == Verdict::Pass) {
            Verdict::Pass
        } else if definite && verdicts().all(|v| v == Verdict::Fail) {
            Verdict::Fail
        } else {
            let straddles = definite && partners.len() == 1;
            doubt = Some(if straddles { Doubt::Resolution } else { Doubt::Order });
            Verdict::Inconclusive
        };
        if !recorded && verdict == Verdict::Pass {
            return ControlFlow::Continue(());
        }
        let (start, end) = (shown.tick.min(event.tick), shown.tick.max(event.tick));
        if self.unknown_within(start, end) {
            (verdict, doubt) = (Verdict::Inconclusive, Some(Doubt::Unknown));
        }
        let all = partners.iter().map(|p| p.ticks);
        let ticks = shown.ticks;
        let partners = (all.clone().min().unwrap_or(ticks), all.max().unwrap_or(ticks));
        let measured = Measured::Interval { ticks, partners };
        sink.found(Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt }))
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
        if self.walk.unknown.is_empty() && !self.walk.open_events {
            let verdict = self.walk.judge.decide(end.since(start));
            return self.sink.certain(CertainPair { start, end, verdict });
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
