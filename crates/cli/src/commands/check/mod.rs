//! `check`: the datasheet limits against captures.

mod all;
mod expectations;
mod junit;
mod occurrences;
mod over;
mod table;

use std::path::{Path, PathBuf};

use deep_tap::expect::Met;
use deep_tap::known::Rule;
use deep_tap::limit::{self, BoundLimit, LimitResult, Verdict};
use deep_tap::setup::Setup;
use deep_tap::time::{Rate, Time};
use deep_tap::{Error, ErrorKind};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::errors::Failure;
use crate::load::{Loaded, load, setup_of, tell_damage};
use crate::output::{Out, Pending, write_table};
use all::Listed;
use junit::Suite;
use occurrences::Rows;
pub(crate) use over::Over;
pub(crate) use table::verdict_text as outcome_text;

/// The verdicts on a record, as JSON has them: times in seconds, shares in percent, rates in samples per
/// second.
#[derive(Serialize)]
pub(crate) struct Checked {
    file: String,
    source: String,
    rate: Rate,
    tick: Time,
    rule: Rule,
    history: Vec<String>,
    pub(crate) verdict: Verdict,
    pub(crate) results: Vec<LimitResult>,
    /// What became of what was expected besides timing.
    expectations: Vec<Met>,
    /// Limits left out because a pin they need is not wired.
    not_wired: Vec<String>,
    /// Every violation, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    violations: Option<Vec<Listed>>,
}

pub(crate) fn run(args: &args::Check, out: &mut Out) -> Result<Outcome, Failure> {
    let rule = match args.rule {
        args::Rule::Proven => Rule::Proven,
        args::Rule::Measured => Rule::Measured,
    };
    let source = |file: &PathBuf| args::Source { file: file.clone(), setup: args.setup.clone() };
    // What cannot be written should be known before hours of checking.
    let mut junit =
        args.junit.as_deref().map(|path| Pending::create(path, args.table.replace)).transpose()?;
    let mut rows =
        args.occurrences.as_deref().map(|path| Rows::create(path, args.table.replace)).transpose()?;
    let mut over = Over::default();
    let mut suite = Suite::new();
    let mut single = None;
    for file in &args.files {
        let loaded = load(&source(file))?;
        let mut checked = check(&loaded, file, &args.only, rule)?;
        if let Some(rows) = &mut rows {
            rows.add(&loaded, file, &args.only, rule)?;
        }
        if args.all {
            checked.list(&loaded, &args.only, rule)?;
        }
        suite.add(&checked);
        tell_damage(&loaded.capture);
        if args.files.len() == 1 {
            single = Some((checked, loaded));
        } else {
            over.add(checked)?;
        }
    }
    if let Some(file) = &mut junit {
        suite.write(file.file())?;
    }
    let outcome = match &single {
        Some((checked, loaded)) => {
            let text = || checked.text(&loaded.capture, args.setup.as_deref());
            let table = || if args.all { checked.all_rows() } else { checked.rows() };
            write_table(&args.table, out, checked, table, text)?;
            outcome(checked.verdict)
        }
        None => {
            let table = || if args.all { over.all_rows() } else { over.rows() };
            write_table(&args.table, out, &over, table, || over.text())?;
            over.outcome()
        }
    };
    if let Some(file) = junit {
        file.finish()?;
    }
    if let Some(rows) = rows {
        rows.finish()?;
    }
    Ok(outcome)
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
fn wanted<'a>(setup: &'a Setup, only: &[String]) -> impl Iterator<Item = &'a BoundLimit> {
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
