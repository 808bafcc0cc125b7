//! The same limits over several captures.

use super::judge::Verdict;
use super::result::{Counts, LimitResult, Statistics};

/// One limit over several captures.
#[derive(Clone, Debug, PartialEq)]
pub struct OverRuns {
    /// The limit over all occurrences of all captures; its worst occurrence is the worst of all.
    pub result: LimitResult,
    /// The capture that has the worst occurrence, counted from 0 in the order they were added.
    pub worst_run: usize,
    /// How many captures have a violation.
    pub failed_runs: u64,
}

/// Gathers the results of the same limits over several captures.
///
/// The verdict over all is the worst over all occurrences, as for a single capture; so a limit that
/// one capture does not show at all is judged by the others.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Runs {
    limits: Vec<OverRuns>,
    runs: usize,
}

impl Runs {
    /// Adds the results of one capture, of the same limits in the same order each time.
    pub fn add(&mut self, results: Vec<LimitResult>) {
        let run = self.runs;
        self.runs += 1;
        for (place, result) in results.into_iter().enumerate() {
            let failed_runs = u64::from(result.verdict == Verdict::Fail);
            match self.limits.get_mut(place) {
                None => self.limits.push(OverRuns { result, worst_run: run, failed_runs }),
                Some(over) => {
                    over.failed_runs += failed_runs;
                    over.join(result, run);
                }
            }
        }
    }

    /// How many captures there were.
    pub fn len(&self) -> usize {
        self.runs
    }

    /// Whether there was none.
    pub fn is_empty(&self) -> bool {
        self.runs == 0
    }

    /// Each limit over all captures, in their order.
    pub fn results(&self) -> &[OverRuns] {
        &self.limits
    }
}

impl OverRuns {
    fn join(&mut self, other: LimitResult, run: usize) {
        let rank = |result: &LimitResult| match result.verdict {
            Verdict::Fail => 3,
            Verdict::Inconclusive => 2,
            Verdict::Pass => 1,
            Verdict::NotSeen => 0,
        };
        let counts = sum(self.result.counts, other.counts);
        let statistics = joined(&self.result, &other);
        let (ours, theirs) = (rank(&self.result), rank(&other));
        let nearer = match (self.result.margin, other.margin) {
            (Some(ours), Some(theirs)) => theirs < ours,
            _ => false,
        };
        if theirs > ours || (theirs == ours && nearer) {
            (self.result, self.worst_run) = (other, run);
        }
        (self.result.counts, self.result.statistics) = (counts, statistics);
    }
}

fn sum(a: Counts, b: Counts) -> Counts {
    Counts {
        seen: a.seen + b.seen,
        passed: a.passed + b.passed,
        failed: a.failed + b.failed,
        inconclusive: a.inconclusive + b.inconclusive,
        possible: a.possible + b.possible,
        unpaired: a.unpaired + b.unpaired,
    }
}

fn joined(a: &LimitResult, b: &LimitResult) -> Option<Statistics> {
    let (Some(first), Some(second)) = (a.statistics, b.statistics) else {
        return a.statistics.or(b.statistics);
    };
    let (n, m) = (a.counts.seen as f64, b.counts.seen as f64);
    Some(Statistics {
        min: if second.min < first.min { second.min } else { first.min },
        mean: (first.mean * n + second.mean * m) / (n + m),
        max: if second.max > first.max { second.max } else { first.max },
    })
}
