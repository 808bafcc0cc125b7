//! The verdicts on one record.

use std::path::Path;

use deep_tap::expect::Met;
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{self, BoundLimit, LimitResult, Verdict};
use deep_tap::line::{Level, LineId};
use deep_tap::quantity::{Bounds, Quantity, Rate, Time};
use deep_tap::setup::{LevelSource, Setup, Watched};
use deep_tap::time::Tick;

use crate::Outcome;
use crate::errors::Failure;
use crate::output::Mark;

/// The verdicts on a record.
pub(crate) struct Checked {
    pub(super) file: String,
    pub(super) source: String,
    pub(super) sampled: bool,
    pub(super) rate: Rate,
    pub(super) tick: Time,
    pub(super) rule: Rule,
    /// When the record was made, as RFC 3339.
    pub(super) made: Option<String>,
    pub(super) history: Vec<String>,
    pub(crate) verdict: Verdict,
    pub(crate) results: Vec<LimitResult>,
    /// What was expected besides timing, and whether it was so.
    pub(crate) expectations: Vec<Met>,
    /// No line of a limit is taken to have had a pulse this short that hid between two samples.
    pub(super) granted: Option<Time>,
    /// What has to be said of lines that may have hidden pulses.
    pub(super) remarks: Vec<String>,
    /// Limits left out because a pin they need is not wired.
    pub(crate) not_wired: Vec<String>,
    pub(super) pins_not_wired: Vec<String>,
    /// Limits that look at a line which is unknown all through the record.
    pub(super) unrecorded: Vec<String>,
    /// Every violation, where that was asked for.
    pub(super) violations: Option<Vec<Listed>>,
}

/// The violations of one limit, by its place among the results.
pub(super) struct Listed {
    pub(super) result: usize,
    pub(super) count: u64,
    pub(super) occurrences: Vec<Told>,
    pub(super) streaks: Vec<(Told, Told, u64)>,
    pub(super) seen: String,
}

/// One violation: when it begins, and its value.
#[derive(Clone)]
pub(crate) struct Told {
    pub(crate) at: Time,
    pub(super) value: Option<Quantity>,
    pub(super) bounds: Option<Bounds<Quantity>>,
    pub(crate) margin: Option<Quantity>,
    pub(crate) tick: Time,
}

/// Checks the limits of a record's setup, or those of them that are named.
pub(crate) fn check(loaded: &Job, file: &Path, only: &[String], rule: Rule) -> Result<Checked, Failure> {
    if !only.is_empty() {
        loaded.limits(only).map_err(|error| error.about("--only"))?;
    }
    let verdicts = loaded.check(only, rule)?;
    let capture = &loaded.capture;
    let unknown = |line: LineId| {
        let trace = capture.trace(line);
        trace.edge_count() == 0 && !trace.is_empty() && trace.level_at(Tick(0)) == Level::Unknown
    };
    let limits = loaded.limits(only)?;
    let unrecorded = limits.into_iter().filter(|limit| {
        let signals = limit.signals();
        signals.iter().filter_map(|signal| signal.line()).any(unknown)
    });
    let unrecorded = unrecorded.map(BoundLimit::name).collect();
    Ok(Checked {
        unrecorded,
        file: file.display().to_string(),
        source: capture.origin().source.clone(),
        sampled: capture.resolution().sampled,
        rate: capture.base().rate(),
        tick: capture.base().tick(),
        rule,
        made: capture.origin().made.map(|made| made.to_string()),
        history: capture.history().to_vec(),
        verdict: verdicts.overall,
        results: verdicts.results,
        expectations: verdicts.expectations,
        granted: verdicts.granted,
        remarks: verdicts.remarks,
        not_wired: verdicts.not_wired,
        pins_not_wired: verdicts.pins_not_wired,
        violations: None,
    })
}

impl Checked {
    /// The verdicts on what was watched with a setup.
    pub(crate) fn watched(name: String, setup: &Setup, watched: Watched) -> Self {
        let Watched { results, remarks, record, .. } = watched;
        let left_out =
            |line: LineId| setup.lines.get(line.0).is_some_and(|line| line.source == LevelSource::LeftOut);
        let unrecorded = setup.limits().filter(|limit| {
            let signals = limit.signals();
            signals.iter().filter_map(|signal| signal.line()).any(left_out)
        });
        Checked {
            unrecorded: unrecorded.map(BoundLimit::name).collect(),
            file: name,
            source: record.origin().source.clone(),
            sampled: record.resolution().sampled,
            rate: record.base().rate(),
            tick: record.base().tick(),
            rule: Rule::Proven,
            made: record.origin().made.map(|made| made.to_string()),
            history: record.history().to_vec(),
            verdict: limit::overall(results.iter().map(|result| result.verdict)),
            granted: results.iter().filter_map(|result| result.granted).max(),
            results,
            expectations: Vec::new(),
            remarks,
            not_wired: setup.left_out(),
            pins_not_wired: setup.open_pins(),
            violations: None,
        }
    }

    /// What the verdicts rest on, in a sentence each.
    pub(crate) fn assumptions(&self) -> Vec<String> {
        let granted = self.granted.map(|time| {
            let time = time.rounded(self.tick);
            format!("taken for granted: no line has a pulse of {time} or less; state 'shortest' to have it checked")
        });
        granted.into_iter().chain(self.remarks.iter().cloned()).collect()
    }
}

/// What a program that asks learns from a verdict.
pub(crate) fn outcome(verdict: Verdict) -> Outcome {
    match verdict {
        Verdict::Fail => Outcome::Violated,
        Verdict::Pass => Outcome::Done,
        Verdict::Inconclusive | Verdict::NotSeen => Outcome::Open,
    }
}

/// How many limits have which verdict.
pub(crate) fn answer(verdicts: impl Iterator<Item = Verdict> + Clone) -> String {
    let count = |verdict| verdicts.clone().filter(|v| *v == verdict).count();
    let counts = [
        (count(Verdict::Fail), "violated"),
        (count(Verdict::Inconclusive), "inconclusive"),
        (count(Verdict::Pass), "passed"),
        (count(Verdict::NotSeen), "not seen"),
    ];
    let told: Vec<String> =
        counts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
    told.join(", ")
}

/// One limit of a record's setup by its name, with its result.
pub(crate) fn checked_limit<'a>(
    loaded: &'a Job,
    name: &str,
) -> Result<(&'a BoundLimit, LimitResult), Failure> {
    let limit = loaded.limit(name).map_err(|error| error.about("--limit"))?;
    Ok((limit, limit::check(&loaded.capture, limit, Rule::Proven)?))
}

/// How a verdict is set off.
pub(crate) fn mark(verdict: Verdict) -> Mark {
    match verdict {
        Verdict::Fail => Mark::Bad,
        Verdict::Inconclusive | Verdict::NotSeen => Mark::Open,
        Verdict::Pass => Mark::None,
    }
}
