//! Limits and their results. Values are in the limit's unit.

use deep_tap::limit::{
    Chance, Counts, Doubt, LimitResult, Occurrence, OverRuns, Reason, Required, Verdict, WorthTrying,
};
use deep_tap::quantity::{Bounds, Quantity, Rate, Time};
use serde::Serialize;

/// The columns of a table of results.
pub(crate) const COLUMNS: &[&str] = &[
    "file",
    "reference",
    "part",
    "symbol",
    "what",
    "kind",
    "limit_group",
    "unit",
    "min",
    "typ",
    "max",
    "outside",
    "verdict",
    "reason",
    "worst.value",
    "worst.lo",
    "worst.hi",
    "worst.at_s",
    "worst.margin",
    "seen",
    "passed",
    "failed",
    "inconclusive",
    "possible",
    "unpaired",
    "smallest",
    "mean",
    "largest",
    "advice.rate_hz",
    "advice.chance_percent",
    "shortest_pulse_s",
];

/// The result of one limit.
#[derive(Serialize)]
pub(crate) struct ResultRow<'a> {
    reference: &'a str,
    part: &'a str,
    symbol: &'a str,
    what: &'a str,
    kind: String,
    limit_group: Option<&'a str>,
    unit: String,
    #[serde(flatten)]
    required: RequiredEnds,
    typ: Option<Quantity>,
    verdict: &'static str,
    reason: Option<&'static str>,
    worst: Option<Worst>,
    #[serde(flatten)]
    counts: CountsRow,
    smallest: Option<Quantity>,
    mean: Option<f64>,
    largest: Option<Quantity>,
    advice: Option<Advice>,
    /// No line of it is taken to have had a pulse this short between two samples.
    shortest_pulse_s: Option<Time>,
}

/// What is required: from `min` to `max`, or anything but that.
#[derive(Serialize)]
pub(crate) struct RequiredEnds {
    min: Option<Quantity>,
    max: Option<Quantity>,
    outside: bool,
}

/// The worst occurrence.
#[derive(Serialize)]
struct Worst {
    at_s: Option<Time>,
    #[serde(flatten)]
    value: Value,
    margin: Option<Quantity>,
    certain: bool,
}

/// A value as counted, and between which others the true one lies.
#[derive(Serialize)]
struct Value {
    value: Option<Quantity>,
    lo: Option<Quantity>,
    hi: Option<Quantity>,
}

impl Value {
    fn new(value: Option<Quantity>, bounds: Option<Bounds<Quantity>>) -> Self {
        Value { value, lo: bounds.map(|b| b.lo), hi: bounds.and_then(|b| b.hi) }
    }
}

#[derive(Serialize)]
struct CountsRow {
    seen: u64,
    passed: u64,
    failed: u64,
    inconclusive: u64,
    possible: u64,
    unpaired: u64,
}

/// What is worth trying for a limit that is left undecided.
#[derive(Serialize)]
struct Advice {
    rate_hz: Option<Rate>,
    chance_percent: Option<f64>,
    /// Whether the instrument is slower than that.
    beyond_instrument: bool,
    text: String,
}

/// A limit over several captures: its worst result, and where that was.
#[derive(Serialize)]
pub(crate) struct OverRow<'a> {
    file: Option<&'a str>,
    #[serde(flatten)]
    result: ResultRow<'a>,
    failed_captures: u64,
}

/// One violation: its beginning and its value.
#[derive(Serialize)]
pub(crate) struct Violation<'a> {
    reference: &'a str,
    symbol: &'a str,
    unit: String,
    at_s: Time,
    #[serde(flatten)]
    value: Value,
    margin: Option<Quantity>,
}

/// The columns of a table of violations.
pub(crate) const VIOLATION_COLUMNS: &[&str] =
    &["file", "reference", "symbol", "unit", "at_s", "value", "lo", "hi", "margin"];

impl<'a> Violation<'a> {
    pub(crate) fn new(
        of: &'a LimitResult,
        at_s: Time,
        value: Option<Quantity>,
        bounds: Option<Bounds<Quantity>>,
    ) -> Self {
        let margin = value.and_then(|value| of.required.margin(value.to_rational()));
        Violation {
            reference: &of.reference,
            symbol: &of.symbol,
            unit: of.unit.to_string(),
            at_s,
            value: Value::new(value, bounds),
            margin: margin.map(|margin| of.unit.of(margin)),
        }
    }
}

/// The word for a verdict.
pub(crate) fn verdict(of: Verdict) -> &'static str {
    match of {
        Verdict::Pass => "pass",
        Verdict::Fail => "fail",
        Verdict::Inconclusive => "inconclusive",
        Verdict::NotSeen => "not-seen",
    }
}

fn reason(of: Reason) -> &'static str {
    match of {
        Reason::Occurrence(Doubt::Resolution) => "resolution",
        Reason::Occurrence(Doubt::Order) => "order",
        Reason::Occurrence(Doubt::Unknown) => "unknown-level",
        Reason::Occurrence(Doubt::Hidden) | Reason::HiddenPulses => "hidden-pulses",
        Reason::TooSlow => "too-slow",
        Reason::NotShown => "drive-not-shown",
        Reason::Composite => "several-parts",
    }
}

impl From<Required> for RequiredEnds {
    fn from(Required { min, max, clear }: Required) -> Self {
        RequiredEnds { min, max, outside: clear }
    }
}

impl From<Counts> for CountsRow {
    fn from(of: Counts) -> Self {
        let Counts { seen, passed, failed, inconclusive, possible, unpaired } = of;
        CountsRow { seen, passed, failed, inconclusive, possible, unpaired }
    }
}

impl From<WorthTrying> for Advice {
    fn from(worth: WorthTrying) -> Self {
        let (rate_hz, chance) = match worth {
            WorthTrying::Rate { rate, chance } => (Some(rate), chance),
            WorthTrying::Beyond { needed, .. } => (Some(needed), None),
            _ => (None, None),
        };
        Advice {
            rate_hz,
            chance_percent: chance.map(|chance| Chance::share(chance) * 100.0),
            beyond_instrument: matches!(worth, WorthTrying::Beyond { .. }),
            text: worth.to_string(),
        }
    }
}

impl<'a> From<&'a LimitResult> for ResultRow<'a> {
    fn from(of: &'a LimitResult) -> Self {
        let worst = |worst: Occurrence| Worst {
            at_s: of.at,
            value: Value::new(of.measured, of.bounds),
            margin: of.margin,
            certain: worst.certain,
        };
        ResultRow {
            reference: &of.reference,
            part: &of.part,
            symbol: &of.symbol,
            what: &of.what,
            kind: of.kind.to_string(),
            limit_group: of.group.as_deref(),
            unit: of.unit.to_string(),
            required: of.required.into(),
            typ: of.typical,
            verdict: verdict(of.verdict),
            reason: of.reason.map(reason),
            worst: of.worst.map(worst),
            counts: of.counts.into(),
            smallest: of.statistics.map(|s| s.min),
            mean: of.statistics.map(|s| s.mean),
            largest: of.statistics.map(|s| s.max),
            advice: of.worth_trying.map(Into::into),
            shortest_pulse_s: of.granted,
        }
    }
}

impl<'a> OverRow<'a> {
    /// The captures by their numbers in the runs.
    pub(crate) fn new(over: &'a OverRuns, files: &'a [String]) -> Self {
        let worst = files.get(over.worst_run).filter(|_| over.result.worst.is_some());
        OverRow {
            file: worst.map(String::as_str),
            result: (&over.result).into(),
            failed_captures: over.failed_runs,
        }
    }
}
