//! Checking limits over a whole capture.

use rayon::prelude::*;

use super::bound::BoundLimit;
use super::judge::Verdict;
use super::result::{LimitResult, Reason};
use super::tally::Tally;
use super::worth_trying::just_above;
use crate::capture::Capture;
use crate::error::{ErrorKind, Result};
use crate::known::Rule;

/// Checks one limit over a whole capture. Where a tick is too long for a duration in its events, it is
/// inconclusive ([`Reason::TooSlow`]).
///
/// # Errors
/// When the limit cannot be expressed in exact ticks of this capture, or a bus whose frames it looks at
/// cannot be decoded.
pub fn check(capture: &Capture, limit: &BoundLimit, rule: Rule) -> Result<LimitResult> {
    let Some(settled) = limit.settled(capture) else {
        return Ok(Tally::new(capture, limit.limit.required).result(limit, rule));
    };
    let mut tally = Tally::new(capture, limit.limit.required);
    match settled.walk(capture, rule, &mut tally) {
        Ok(()) => Ok(tally.result(&settled, rule)),
        Err(error) if error.kind() == ErrorKind::TooSlow => {
            let mut result = tally.result(&settled, rule);
            (result.verdict, result.reason) = (Verdict::Inconclusive, Some(Reason::TooSlow));
            result.worth_trying = limit.shortest_duration().and_then(|time| just_above(capture, time));
            Ok(result)
        }
        Err(error) if error.kind() == ErrorKind::NotShown => {
            let mut result = tally.result(&settled, rule);
            (result.verdict, result.reason) = (Verdict::Inconclusive, Some(Reason::NotShown));
            Ok(result)
        }
        Err(error) => Err(error),
    }
}

/// Checks several limits over a whole capture, on all cores; the results are in their order.
///
/// # Errors
/// As [`check`], for the first limit that cannot be checked.
pub fn check_all<'a>(
    capture: &Capture,
    limits: impl IntoIterator<Item = &'a BoundLimit>,
    rule: Rule,
) -> Result<Vec<LimitResult>> {
    let limits: Vec<&BoundLimit> = limits.into_iter().collect();
    limits.into_par_iter().with_max_len(1).map(|limit| check(capture, limit, rule)).collect()
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
