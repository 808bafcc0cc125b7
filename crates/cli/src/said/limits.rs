//! Limits and what became of them.

use deep_tap::limit::{
    Chance, Counts, Doubt, LimitResult, Measured, Occurrence, OverRuns, Reason, Required, Statistics,
    WorthTrying,
};
use deep_tap::quantity::{Bounds, Frequency, Quantity, Rate, Time, Voltage};
use serde::{Serialize, Serializer};

/// The verdict on one limit.
#[derive(Serialize)]
struct SaidResult<'a> {
    reference: &'a str,
    part: &'a str,
    symbol: &'a str,
    what: &'a str,
    kind: String,
    group: Option<&'a str>,
    unit: String,
    required: SaidRequired,
    typical: Option<Quantity>,
    verdict: deep_tap::limit::Verdict,
    reason: Option<SaidReason>,
    worst: Option<SaidOccurrence>,
    bounds: Option<Bounds<Quantity>>,
    at: Option<Time>,
    measured: Option<Quantity>,
    margin: Option<Quantity>,
    counts: SaidCounts,
    statistics: Option<SaidStatistics>,
    worth_trying: Option<SaidWorth>,
    /// No pulse this short is taken to have hidden between two samples.
    taken_for_granted: Option<Time>,
}

/// The required range, in the unit of the limit.
#[derive(Serialize)]
pub(super) struct SaidRequired {
    min: Option<Quantity>,
    max: Option<Quantity>,
    /// Whether values must be outside of it.
    clear: bool,
}

impl From<Required> for SaidRequired {
    fn from(Required { min, max, clear }: Required) -> Self {
        SaidRequired { min, max, clear }
    }
}

/// Why a limit is inconclusive.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
enum SaidReason {
    Occurrence(SaidDoubt),
    HiddenPulses,
    TooSlow,
    NotShown,
    Composite,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
enum SaidDoubt {
    Resolution,
    Order,
    Unknown,
    Hidden,
}

/// One place where a limit applies, in ticks of its record.
#[derive(Serialize)]
struct SaidOccurrence {
    start: u64,
    end: u64,
    measured: SaidMeasured,
    verdict: deep_tap::limit::Verdict,
    doubt: Option<SaidDoubt>,
    certain: bool,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
enum SaidMeasured {
    Interval {
        ticks: i64,
        partners: (i64, i64),
    },
    Share {
        part: i64,
        period: i64,
    },
    Bits {
        bits: u32,
        ticks: i64,
        nominal: Frequency,
    },
    Voltage {
        voltage: Voltage,
        error: Voltage,
    },
    /// From a reference to a change.
    Offset {
        ticks: i64,
    },
    Quiet,
    /// Of a kind that is newer than this output.
    Other,
}

#[derive(Serialize)]
struct SaidCounts {
    seen: u64,
    passed: u64,
    failed: u64,
    inconclusive: u64,
    possible: u64,
    unpaired: u64,
}

#[derive(Serialize)]
struct SaidStatistics {
    min: Quantity,
    mean: f64,
    max: Quantity,
}

/// What is worth trying where a limit is open: a rate with the chance that it decides the worst occurrence,
/// or why there is none.
#[derive(Serialize, Default)]
struct SaidWorth {
    rate: Option<Rate>,
    chance: Option<f64>,
    /// Above what the instrument has.
    beyond: bool,
    says: String,
}

/// One limit over several captures.
#[derive(Serialize)]
struct SaidOver<'a> {
    #[serde(flatten)]
    result: SaidResult<'a>,
    worst_run: usize,
    failed_runs: u64,
}

impl From<Doubt> for SaidDoubt {
    fn from(doubt: Doubt) -> Self {
        match doubt {
            Doubt::Resolution => SaidDoubt::Resolution,
            Doubt::Order => SaidDoubt::Order,
            Doubt::Unknown => SaidDoubt::Unknown,
            Doubt::Hidden => SaidDoubt::Hidden,
        }
    }
}

impl From<Reason> for SaidReason {
    fn from(reason: Reason) -> Self {
        match reason {
            Reason::Occurrence(doubt) => SaidReason::Occurrence(doubt.into()),
            Reason::HiddenPulses => SaidReason::HiddenPulses,
            Reason::TooSlow => SaidReason::TooSlow,
            Reason::NotShown => SaidReason::NotShown,
            Reason::Composite => SaidReason::Composite,
        }
    }
}

impl From<Measured> for SaidMeasured {
    fn from(measured: Measured) -> Self {
        match measured {
            Measured::Interval { ticks, partners } => SaidMeasured::Interval { ticks, partners },
            Measured::Share { part, period } => SaidMeasured::Share { part, period },
            Measured::Bits { bits, ticks, nominal } => SaidMeasured::Bits { bits, ticks, nominal },
            Measured::Voltage { voltage, error } => SaidMeasured::Voltage { voltage, error },
            Measured::Offset { ticks } => SaidMeasured::Offset { ticks },
            Measured::Quiet => SaidMeasured::Quiet,
            _ => SaidMeasured::Other,
        }
    }
}

impl From<Occurrence> for SaidOccurrence {
    fn from(of: Occurrence) -> Self {
        SaidOccurrence {
            start: of.start.0,
            end: of.end.0,
            measured: of.measured.into(),
            verdict: of.verdict,
            doubt: of.doubt.map(Into::into),
            certain: of.certain,
        }
    }
}

impl From<Counts> for SaidCounts {
    fn from(of: Counts) -> Self {
        let Counts { seen, passed, failed, inconclusive, possible, unpaired } = of;
        SaidCounts { seen, passed, failed, inconclusive, possible, unpaired }
    }
}

impl From<Statistics> for SaidStatistics {
    fn from(Statistics { min, mean, max }: Statistics) -> Self {
        SaidStatistics { min, mean, max }
    }
}

impl From<WorthTrying> for SaidWorth {
    fn from(worth: WorthTrying) -> Self {
        let says = worth.to_string();
        match worth {
            WorthTrying::Rate { rate, chance } => SaidWorth {
                rate: Some(rate),
                chance: chance.map(Chance::share),
                says,
                ..SaidWorth::default()
            },
            WorthTrying::Beyond { needed, .. } => {
                SaidWorth { rate: Some(needed), beyond: true, says, ..SaidWorth::default() }
            }
            _ => SaidWorth { says, ..SaidWorth::default() },
        }
    }
}

impl<'a> From<&'a LimitResult> for SaidResult<'a> {
    fn from(of: &'a LimitResult) -> Self {
        SaidResult {
            reference: &of.reference,
            part: &of.part,
            symbol: &of.symbol,
            what: &of.what,
            kind: of.kind.to_string(),
            group: of.group.as_deref(),
            unit: of.unit.to_string(),
            required: of.required.into(),
            typical: of.typical,
            verdict: of.verdict,
            reason: of.reason.map(Into::into),
            worst: of.worst.map(Into::into),
            bounds: of.bounds,
            at: of.at,
            measured: of.measured,
            margin: of.margin,
            counts: of.counts.into(),
            statistics: of.statistics.map(Into::into),
            worth_trying: of.worth_trying.map(Into::into),
            taken_for_granted: of.granted,
        }
    }
}

/// The verdict on one limit.
pub(crate) fn one<S: Serializer>(result: &LimitResult, serializer: S) -> Result<S::Ok, S::Error> {
    SaidResult::from(result).serialize(serializer)
}

/// The verdicts on several.
pub(crate) fn each<S: Serializer>(results: &[LimitResult], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(results.iter().map(SaidResult::from))
}

/// The verdicts over several captures.
pub(crate) fn over<S: Serializer>(results: &[OverRuns], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(results.iter().map(|over| SaidOver {
        result: SaidResult::from(&over.result),
        worst_run: over.worst_run,
        failed_runs: over.failed_runs,
    }))
}
