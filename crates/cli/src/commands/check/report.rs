//! The verdicts as programs read them: one form, of however many captures.

use deep_tap::known::Rule;
use deep_tap::limit::Verdict;
use deep_tap::quantity::{Rate, Time};
use serde::Serialize;

use super::checked::Checked;
use crate::contract::expectations::MetRow;
use crate::contract::limits::{self, OverRow, ResultRow, Violation};
use crate::contract::{InFile, Rows};
use crate::errors::Failure;

/// The verdicts on captures.
#[derive(Serialize)]
pub(crate) struct Verdicts<'a> {
    rule: Rule,
    verdict: &'static str,
    captures: Vec<OfCapture<'a>>,
    /// The worst result of each limit over the captures, where there are several.
    worst: Vec<OverRow<'a>>,
}

/// Those on one capture.
#[derive(Serialize)]
struct OfCapture<'a> {
    file: &'a str,
    source: &'a str,
    /// RFC 3339.
    made: Option<&'a str>,
    sampled: bool,
    /// Of a sampled record.
    rate_hz: Option<Rate>,
    tick_s: Time,
    history: &'a [String],
    verdict: &'static str,
    results: Vec<ResultRow<'a>>,
    expectations: Vec<MetRow<'a>>,
    /// What the verdicts rest on, in words.
    assumptions: Vec<String>,
    not_wired: &'a [String],
    pins_not_wired: &'a [String],
    /// Every violation, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    violations: Option<Vec<Violation<'a>>>,
}

impl<'a> From<&'a Checked> for OfCapture<'a> {
    fn from(of: &'a Checked) -> Self {
        OfCapture {
            file: &of.file,
            source: &of.source,
            made: of.made.as_deref(),
            sampled: of.sampled,
            rate_hz: of.sampled.then_some(of.rate),
            tick_s: of.tick,
            history: &of.history,
            verdict: limits::verdict(of.verdict),
            results: of.results.iter().map(Into::into).collect(),
            expectations: of.expectations.iter().map(Into::into).collect(),
            assumptions: of.assumptions(),
            not_wired: &of.not_wired,
            pins_not_wired: &of.pins_not_wired,
            violations: of.violations.is_some().then(|| of.violation_rows().collect()),
        }
    }
}

impl<'a> Verdicts<'a> {
    /// Of one capture.
    pub(crate) fn one(checked: &'a Checked) -> Self {
        Verdicts::of(checked.rule, checked.verdict, std::slice::from_ref(checked), Vec::new())
    }

    /// Of several, and the worst of each limit.
    pub(crate) fn of(rule: Rule, verdict: Verdict, each: &'a [Checked], worst: Vec<OverRow<'a>>) -> Self {
        let captures = each.iter().map(Into::into).collect();
        Verdicts { rule, verdict: limits::verdict(verdict), captures, worst }
    }
}

/// Whether a table has a row for each limit, or for each violation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Of {
    Limits,
    Violations,
}

impl Of {
    pub(crate) fn columns(self) -> &'static [&'static str] {
        match self {
            Of::Limits => limits::COLUMNS,
            Of::Violations => limits::VIOLATION_COLUMNS,
        }
    }

    pub(crate) fn rows(self, each: &[Checked], rows: &mut Rows) -> Result<(), Failure> {
        each.iter().try_for_each(|checked| {
            let file = checked.file.as_str();
            match self {
                Of::Limits => {
                    let results = checked.results.iter().map(ResultRow::from);
                    results.into_iter().try_for_each(|row| rows.row(&InFile { file, row: &row }))
                }
                Of::Violations => {
                    checked.violation_rows().try_for_each(|row| rows.row(&InFile { file, row: &row }))
                }
            }
        })
    }
}
