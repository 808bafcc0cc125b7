//! The verdicts on one record.

use std::path::Path;

use deep_tap::expect::Met;
use deep_tap::known::Rule;
use deep_tap::limit::{self, BoundLimit, LimitResult, Verdict};
use deep_tap::quantity::Quantity;
use deep_tap::quantity::{Rate, Time};
use deep_tap::setup::Setup;
use deep_tap::{Error, ErrorKind};
use serde::Serialize;

use crate::Outcome;
use crate::errors::Failure;
use crate::load::{Loaded, setup_of};
use crate::output::Mark;

/// The verdicts on a record, as JSON has them: times in seconds, shares in percent, rates in samples per
/// second.
#[derive(Serialize)]
pub(crate) struct Checked {
    pub(super) file: String,
    pub(super) source: String,
    pub(super) rate: Rate,
    pub(super) tick: Time,
    pub(super) rule: Rule,
    pub(super) history: Vec<String>,
    pub(crate) verdict: Verdict,
    pub(crate) results: Vec<LimitResult>,
    /// What became of what was expected besides timing.
    pub(super) expectations: Vec<Met>,
    /// Limits left out because a pin they need is not wired.
    pub(super) not_wired: Vec<String>,
    /// Every violation, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) violations: Option<Vec<Listed>>,
}

/// The violations of one limit.
#[derive(Serialize)]
pub(super) struct Listed {
    pub(super) part: String,
    pub(super) limit: String,
    pub(super) count: u64,
    pub(super) occurrences: Vec<Told>,
    #[serde(skip)]
    pub(super) streaks: Vec<(Told, Told, u64)>,
    #[serde(skip)]
    pub(super) required: String,
    #[serde(skip)]
    pub(super) seen: String,
}

/// One violation: when it begins, and its value.
#[derive(Clone, Serialize)]
pub(super) struct Told {
    pub(super) at: Time,
    pub(super) value: Option<Quantity>,
    pub(super) lo: Option<Quantity>,
    pub(super) hi: Option<Quantity>,
    pub(super) margin: Option<Quantity>,
    #[serde(skip)]
    pub(super) tick: Time,
}

/// Checks the limits of a record's setup, or those of them that are named.
pub(crate) fn check(loaded: &Loaded, file: &Path, only: &[String], rule: Rule) -> Result<Checked, Failure> {
    let setup = setup_of(loaded, file)?;
    let capture = &loaded.capture;
    for name in only {
        let expected = setup.expectations.iter().any(|e| e.name == *name);
        if !expected && !setup.limits().any(|l| matches(l, name)) {
            let known: Vec<String> =
                setup.limits().map(|l| format!("{}.{}", l.reference, l.limit.symbol)).collect();
            let error =
                Error::new(ErrorKind::Unknown, format!("--only: there is no limit, part or group '{name}'"));
            return Err(error.with_help(format!("there are: {}", known.join(", "))).into());
        }
    }
    if setup.limits().next().is_none() && setup.expectations.is_empty() {
        let error = Error::new(ErrorKind::Setup, "the setup binds no limits, so there is nothing to check");
        let help = "add a section like: [[part]] with limits = \"parts/ex-mem8.toml\", reference = \"U5\" and its pins";
        return Err(error.with_help(help).into());
    }
    let results = limit::check_all(capture, wanted(setup, only), rule)?;
    let expected = setup.expectations.iter().filter(|e| only.is_empty() || only.contains(&e.name));
    let expectations = expected.map(|e| e.check(capture)).collect::<Result<Vec<Met>, _>>()?;
    let verdicts = results.iter().map(|r| r.verdict).chain(expectations.iter().map(|met| met.verdict));
    let verdict = limit::overall(verdicts);
    let not_wired =
        setup.parts.iter().flat_map(|p| p.not_wired.iter().map(|s| format!("{}.{s}", p.reference)));
    Ok(Checked {
        file: file.display().to_string(),
        source: capture.origin().source.clone(),
        rate: capture.base().rate(),
        tick: capture.base().tick(),
        rule,
        history: capture.history().to_vec(),
        verdict,
        results,
        expectations,
        not_wired: not_wired.collect(),
        violations: None,
    })
}

/// Whether a limit is meant by a name: its symbol, its part's reference, both, or its group.
fn matches(limit: &BoundLimit, name: &str) -> bool {
    let (part, symbol) = (&limit.reference, &limit.limit.symbol);
    let both = || name.strip_prefix(part.as_str()).and_then(|rest| rest.strip_prefix('.')) == Some(symbol);
    name == part || name == symbol || limit.limit.group.as_deref() == Some(name) || both()
}

/// The limits of a setup, or those of them that are named.
pub(super) fn wanted<'a>(setup: &'a Setup, only: &[String]) -> impl Iterator<Item = &'a BoundLimit> {
    setup.limits().filter(move |l| only.is_empty() || only.iter().any(|name| matches(l, name)))
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
    loaded: &'a Loaded,
    file: &Path,
    name: &str,
) -> Result<(&'a BoundLimit, LimitResult), Failure> {
    let setup = setup_of(loaded, file)?;
    let mut found = setup.limits().filter(|limit| matches(limit, name));
    let name_of = |limit: &BoundLimit| format!("{}.{}", limit.reference, limit.limit.symbol);
    match (found.next(), found.next()) {
        (Some(limit), None) => Ok((limit, limit::check(&loaded.capture, limit, Rule::Proven)?)),
        (Some(first), Some(second)) => {
            let error = Error::new(ErrorKind::Unknown, format!("--limit: '{name}' is more than one limit"));
            let help = format!("name one of them: {}, {} …", name_of(first), name_of(second));
            Err(error.with_help(help).into())
        }
        (None, _) => {
            let known: Vec<String> = setup.limits().map(name_of).collect();
            let error = Error::new(ErrorKind::Unknown, format!("--limit: there is no limit '{name}'"));
            Err(error.with_help(deep_tap::suggest(name, known.iter().map(String::as_str), "limit")).into())
        }
    }
}

/// How a verdict is set off.
pub(crate) fn mark(verdict: Verdict) -> Mark {
    match verdict {
        Verdict::Fail => Mark::Bad,
        Verdict::Inconclusive | Verdict::NotSeen => Mark::Open,
        Verdict::Pass => Mark::None,
    }
}
