//! Checking limits over a whole capture.

use std::borrow::Cow;

use rayon::prelude::*;

use super::bound::BoundLimit;
use super::count::Count;
use super::judge::Verdict;
use super::result::{LimitResult, Reason};
use super::walk::{Given, Plan, Run, Stored, Wanted};
use super::worth_trying::just_above;
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result};
use crate::known::{Precision, Rule};

/// Checks one limit over a whole capture. Where a tick is too long for a duration in its events, it is
/// inconclusive ([`Reason::TooSlow`]).
///
/// # Errors
/// When the limit cannot be expressed in exact ticks of this capture, or a bus whose frames it looks at
/// cannot be decoded.
pub fn check(capture: &Capture, limit: &BoundLimit, rule: Rule) -> Result<LimitResult> {
    let mut results = check_all(capture, [limit], rule)?;
    results.pop().ok_or_else(|| Error::new(ErrorKind::Limits, "there is no limit to be checked"))
}

/// Checks several limits over a whole capture, on all cores; the results are in their order. What several of them
/// look at is found once.
///
/// # Errors
/// As [`check`], for the first limit that cannot be checked.
pub fn check_all<'a>(
    capture: &Capture,
    limits: impl IntoIterator<Item = &'a BoundLimit>,
    rule: Rule,
) -> Result<Vec<LimitResult>> {
    let mut wanted = Wanted::default();
    let limits = limits.into_iter().map(|limit| Checked::new(capture, limit, rule, &mut wanted));
    let mut limits = limits.collect::<Result<Vec<Checked<'_>>>>()?;
    let parallel = capture.edge_count() > WORTH_THREADS;
    let mut stored = Stored::new(&wanted, capture, rule);
    loop {
        let given = stored.next(parallel);
        if parallel {
            limits.par_iter_mut().with_max_len(1).for_each(|limit| limit.take(capture, &given));
        } else {
            limits.iter_mut().for_each(|limit| limit.take(capture, &given));
        }
        if given.ended {
            return Ok(limits.into_iter().map(|limit| limit.result(capture, rule)).collect());
        }
    }
}

/// Fewest edges of a record whose limits are worth several threads.
const WORTH_THREADS: u64 = 10_000;

/// A limit that is being checked, or the reason why that cannot be.
struct Checked<'l> {
    limit: Cow<'l, BoundLimit>,
    count: Count,
    state: std::result::Result<Run, LimitResult>,
}

impl<'l> Checked<'l> {
    fn new(capture: &Capture, limit: &'l BoundLimit, rule: Rule, wanted: &mut Wanted) -> Result<Self> {
        let settled = limit.settled(capture);
        let bound = settled.clone().unwrap_or(Cow::Borrowed(limit));
        let plan = Plan::of(&bound, &Precision::of(capture, rule))?;
        let count = Count::new(capture.base(), limit.limit.required, std::slice::from_ref(&plan));
        let state = match &settled {
            None => Err(count.result((0, &plan), &bound, capture, rule)),
            Some(settled) => match Run::new(settled, capture, rule, vec![plan.clone()], wanted) {
                Ok(run) => Ok(run),
                Err(error) => {
                    Err(beyond(error, capture, &bound, count.result((0, &plan), &bound, capture, rule))?)
                }
            },
        };
        Ok(Checked { limit: bound, count, state })
    }

    fn take(&mut self, capture: &Capture, given: &Given) {
        if let Ok(run) = &mut self.state {
            // It never says stop.
            let _ = run.advance(capture, given, &mut self.count);
        }
    }

    fn result(self, capture: &Capture, rule: Rule) -> LimitResult {
        match self.state {
            Ok(run) => self.count.result((0, &run.plans[0]), &self.limit, capture, rule),
            Err(result) => result,
        }
    }
}

/// The result of a limit whose events a record like this cannot show, where this is the one without an occurrence.
///
/// # Errors
/// Another error than that.
pub(super) fn beyond(
    error: Error,
    capture: &Capture,
    limit: &BoundLimit,
    unseen: LimitResult,
) -> Result<LimitResult> {
    let (reason, worth_trying) = match error.kind() {
        ErrorKind::TooSlow => {
            let worth = limit.shortest_duration().and_then(|time| just_above(capture, time));
            (Reason::TooSlow, worth.or(unseen.worth_trying))
        }
        ErrorKind::NotShown => (Reason::NotShown, unseen.worth_trying),
        _ => return Err(error),
    };
    Ok(LimitResult { verdict: Verdict::Inconclusive, reason: Some(reason), worth_trying, ..unseen })
}

/// The verdict over several: one fail is a fail, otherwise one inconclusive is inconclusive,
/// otherwise one not seen is not seen, otherwise pass. With none at all, not seen.
pub fn overall(verdicts: impl IntoIterator<Item = Verdict>) -> Verdict {
    let rank = |v: &Verdict| match v {
        Verdict::Fail => 3,
        Verdict::Inconclusive => 2,
        Verdict::NotSeen => 1,
        Verdict::Pass => 0,
    };
    verdicts.into_iter().max_by_key(rank).unwrap_or(Verdict::NotSeen)
}
