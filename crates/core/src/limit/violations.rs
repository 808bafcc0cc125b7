//! Every violation of a limit, and those that follow each other.

use std::ops::ControlFlow;

use super::bound::BoundLimit;
use super::judge::Verdict;
use super::occurrence::{Occurrence, Visited};
use crate::capture::Capture;
use crate::error::Result;
use crate::known::Rule;
use crate::quantity::Rational;

/// The violations of one limit in a capture.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Violations {
    /// How many there are.
    pub count: u64,
    /// Each of them, in order of time, up to as many as were asked for.
    pub found: Vec<Occurrence>,
    /// The same in streaks, in order of time, up to as many.
    pub streaks: Vec<Streak>,
}

/// Violations in a row: no occurrence between them is anything else.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Streak {
    /// The first of them.
    pub first: Occurrence,
    /// The last of them.
    pub last: Occurrence,
    /// The one farthest beyond the limit.
    pub worst: Occurrence,
    /// How many they are.
    pub count: u64,
}

/// Lists the violations of a limit, and keeps `most` of them.
///
/// # Errors
/// As [`check`](super::check()).
pub fn violations(capture: &Capture, limit: &BoundLimit, rule: Rule, most: usize) -> Result<Violations> {
    let mut all = Violations::default();
    let mut open: Option<(Streak, Option<Rational>)> = None;
    let margin = |occurrence: &Occurrence| {
        let value = occurrence.value(capture.base())?;
        limit.limit.required.margin(value.to_rational())
    };
    let close = |open: &mut Option<(Streak, Option<Rational>)>, streaks: &mut Vec<Streak>| {
        if let Some((streak, _)) = open.take()
            && streaks.len() < most
        {
            streaks.push(streak);
        }
    };
    limit.occurrences(capture, rule, &mut |found| {
        let Visited::Occurrence(occurrence) = found else { return ControlFlow::Continue(()) };
        if occurrence.verdict != Verdict::Fail {
            close(&mut open, &mut all.streaks);
            return ControlFlow::Continue(());
        }
        all.count += 1;
        if all.found.len() < most {
            all.found.push(occurrence);
        }
        let by = margin(&occurrence);
        match &mut open {
            Some((streak, worst)) => {
                streak.count += 1;
                streak.last = occurrence;
                if by < *worst {
                    (streak.worst, *worst) = (occurrence, by);
                }
            }
            None => {
                let (first, last, worst) = (occurrence, occurrence, occurrence);
                open = Some((Streak { first, last, worst, count: 1 }, by));
            }
        }
        ControlFlow::Continue(())
    })?;
    close(&mut open, &mut all.streaks);
    Ok(all)
}
