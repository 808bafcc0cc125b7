//! Limits and expectations of two records.

use super::spread::{Shift, Spread};
use super::{Pair, by_name};
use crate::error::Result;
use crate::expect::{Expectation, Met};
use crate::job::Job;
use crate::known::Rule;
use crate::limit::{BoundLimit, LimitResult, Verdict, check_all};
use crate::setup::Setup;
use crate::time::Tick;

/// A limit in both records.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct LimitComparison {
    /// As in `U5.tWP`.
    pub name: String,
    /// The datasheet's words.
    pub what: String,
    /// In the first record, if that is asked it.
    pub a: Option<OneLimit>,
    /// In the second one.
    pub b: Option<OneLimit>,
    /// OneOf numbers certainly moved beyond the tolerance: `least`, `median`, `percentile-99`, `most`. Where only a
    /// largest value is required, the smallest may be anything, and the other way round.
    pub moved: Vec<(&'static str, Shift)>,
}

/// A limit in one record.
#[derive(Clone, Debug)]
pub struct OneLimit {
    /// Its verdict, and what it rests on.
    pub result: LimitResult,
    /// Its values in numbers; `None` where it certainly never occurred, or has no values.
    pub spread: Option<Spread>,
}

impl LimitComparison {
    /// Whether the verdicts differ, a number moved, or only one record is asked.
    pub fn differs(&self) -> bool {
        self.verdict_differs() || !self.moved.is_empty()
    }

    /// Whether the verdicts differ, or only one record is asked.
    pub fn verdict_differs(&self) -> bool {
        let verdict = |of: &Option<OneLimit>| of.as_ref().map(|one| one.result.verdict);
        verdict(&self.a) != verdict(&self.b)
    }

    /// Where to look: the worst occurrence in the first record, and in the second.
    pub fn at(&self) -> (Option<Tick>, Option<Tick>) {
        let at =
            |of: &Option<OneLimit>| of.as_ref().and_then(|one| one.result.worst).map(|worst| worst.start);
        (at(&self.a), at(&self.b))
    }
}

/// An expectation in both records.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct MetComparison {
    /// Its name.
    pub name: String,
    /// What became of it in the first record, if that is asked it.
    pub a: Option<Met>,
    /// In the second one.
    pub b: Option<Met>,
}

impl MetComparison {
    /// Whether the verdicts differ, or only one record is asked.
    pub fn differs(&self) -> bool {
        let verdict = |of: &Option<Met>| of.as_ref().map(|met| met.verdict);
        verdict(&self.a) != verdict(&self.b)
    }
}

pub(super) fn compare(
    pair: &Pair<'_>,
    remarks: &mut Vec<String>,
) -> Result<(Vec<LimitComparison>, Vec<MetComparison>)> {
    let (a, b) = (results(pair.a)?, results(pair.b)?);
    let granted = a.iter().chain(&b).filter_map(|result| result.granted).max();
    if let Some(time) = granted {
        let tick = pair.a.capture.base().tick().max(pair.b.capture.base().tick());
        let time = time.rounded(tick);
        remarks.push(format!("taken for granted: no line of a limit has a pulse of {time} or less"));
    }
    let mut limits = Vec::new();
    for (first, second) in by_name(&a, &b, LimitResult::name) {
        let Some(any) = first.or(second) else { continue };
        if pair.ignores(&any.name()) || pair.ignores(&any.reference) {
            continue;
        }
        let (of_a, of_b) = (one(pair.a, first)?, one(pair.b, second)?);
        limits.push(LimitComparison {
            name: any.name(),
            what: any.what.clone(),
            moved: moved(pair, of_a.as_ref(), of_b.as_ref()),
            a: of_a,
            b: of_b,
        });
    }
    Ok((limits, expectations(pair, remarks)))
}

/// What became of the limits of a record.
fn results(job: &Job) -> Result<Vec<LimitResult>> {
    let limits = job.setup.iter().flat_map(Setup::limits);
    check_all(&job.capture, limits, Rule::Proven)
}

/// What became of what is expected; one that a record cannot be asked is left out, and said so.
fn expectations(pair: &Pair<'_>, remarks: &mut Vec<String>) -> Vec<MetComparison> {
    let of = |job: &'_ Job| -> Vec<Expectation> {
        job.setup.iter().flat_map(|setup| setup.expectations.clone()).collect()
    };
    let (a, b) = (of(pair.a), of(pair.b));
    let mut all = Vec::new();
    for (first, second) in by_name(&a, &b, |expected| expected.name.clone()) {
        let Some(name) = first.or(second).map(|expected| expected.name.clone()) else { continue };
        if pair.ignores(&name) {
            continue;
        }
        let met = |of: Option<&Expectation>, job: &Job| of.map(|of| of.check(&job.capture)).transpose();
        match (met(first, pair.a), met(second, pair.b)) {
            (Ok(a), Ok(b)) => all.push(MetComparison { name, a, b }),
            (Err(error), _) | (_, Err(error)) => remarks.push(format!("{name} is not compared: {error}")),
        }
    }
    all
}

fn one(job: &Job, result: Option<&LimitResult>) -> Result<Option<OneLimit>> {
    let Some(result) = result else { return Ok(None) };
    let bound: Option<&BoundLimit> =
        job.setup.iter().flat_map(Setup::limits).find(|limit| is_of(limit, result));
    let spread = match bound {
        Some(bound) if result.verdict != Verdict::NotSeen => Spread::of(&job.capture, bound)?,
        _ => None,
    };
    Ok(Some(OneLimit { result: result.clone(), spread }))
}

fn is_of(limit: &BoundLimit, result: &LimitResult) -> bool {
    limit.reference == result.reference && limit.limit.symbol == result.symbol
}

/// The numbers that certainly moved.
fn moved(pair: &Pair<'_>, a: Option<&OneLimit>, b: Option<&OneLimit>) -> Vec<(&'static str, Shift)> {
    let required = |one: Option<&OneLimit>| one.map(|one| one.result.required);
    let (a_required, b_required) = (required(a), required(b));
    let spreads = a.and_then(|one| one.spread.as_ref()).zip(b.and_then(|one| one.spread.as_ref()));
    let Some((a, b)) = spreads else { return Vec::new() };
    let required = [a_required, b_required].into_iter().flatten();
    let (from_below, from_above) = required.fold((false, false), |(below, above), required| {
        (below || required.min.is_some() || required.clear, above || required.max.is_some() || required.clear)
    });
    let numbers = [
        ("least", a.least, b.least, from_below),
        ("median", a.median, b.median, from_below || from_above),
        ("percentile-99", a.percentile_99, b.percentile_99, from_above),
        ("most", a.most, b.most, from_above),
    ];
    let shift = |(name, a, b, matters): (&'static str, super::Known, super::Known, bool)| {
        let shift = a.shift(&b, pair.tolerance(a.value)).filter(|_| matters)?;
        Some((name, shift))
    };
    numbers.into_iter().filter_map(shift).collect()
}
