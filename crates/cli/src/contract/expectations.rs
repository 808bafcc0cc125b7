//! What is expected besides timing, and whether it was so.

use deep_tap::expect::{
    Broken, Detail, Deviation, DeviationKind, Judged, Met, OrderResult, Pause, StateChange, Stay,
};
use deep_tap::quantity::Time;
use serde::Serialize;

use super::limits::verdict;
use super::measures::Interval;

/// One expectation. What was found has keys of its own for each kind.
#[derive(Serialize)]
pub(crate) struct MetRow<'a> {
    name: &'a str,
    verdict: &'static str,
    #[serde(flatten)]
    found: Found<'a>,
}

#[derive(Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
enum Found<'a> {
    Messages(JudgedRow<'a>),
    Transfers(JudgedRow<'a>),
    Exchange(JudgedRow<'a>),
    Follow(Box<FollowRow<'a>>),
    Order(OrderRow<'a>),
    /// Of a kind that is newer than this output.
    Other,
}

#[derive(Serialize)]
struct JudgedRow<'a> {
    seen: u64,
    passed: u64,
    failed: u64,
    inconclusive: u64,
    possible: u64,
    cut_off: u64,
    besides: u64,
    at_s: Option<Time>,
    deviations: Vec<DeviationRow<'a>>,
    pauses: Vec<PauseRow<'a>>,
}

#[derive(Serialize)]
struct DeviationRow<'a> {
    /// Which occurrence, from 0.
    occurrence: u64,
    begins_s: Time,
    verdict: &'static str,
    deviation: &'static str,
    /// Which value or step, from 0.
    place: u64,
    step: Option<&'a str>,
    expected: Option<&'a str>,
    found: Option<&'a str>,
    at_s: Time,
}

#[derive(Serialize)]
struct PauseRow<'a> {
    before_step: &'a str,
    count: u64,
    shortest_s: Interval,
    longest_s: Interval,
}

#[derive(Serialize)]
struct FollowRow<'a> {
    #[serde(flatten)]
    judged: JudgedRow<'a>,
    shortest_s: Option<Interval>,
    longest_s: Option<Interval>,
}

#[derive(Serialize)]
struct OrderRow<'a> {
    begins_in: Option<&'a str>,
    begins_wrong: bool,
    transitions: u64,
    broken: u64,
    breaks: Vec<BreakRow<'a>>,
    allowed: Vec<TransitionRow<'a>>,
    stays: Vec<StayRow<'a>>,
}

#[derive(Serialize)]
struct BreakRow<'a> {
    from_state: &'a str,
    to_state: &'a str,
    at_s: Time,
    stayed_s: Option<Interval>,
    lasted_s: Option<Interval>,
}

#[derive(Serialize)]
struct TransitionRow<'a> {
    from_state: &'a str,
    to_state: &'a str,
    count: u64,
}

#[derive(Serialize)]
struct StayRow<'a> {
    state: &'a str,
    count: u64,
    shortest_s: Option<Interval>,
    longest_s: Option<Interval>,
    total_s: f64,
}

/// The word for a deviation.
pub(crate) fn deviation_kind(of: DeviationKind) -> &'static str {
    match of {
        DeviationKind::Differs => "differs",
        DeviationKind::Missing => "missing",
        DeviationKind::TooMuch => "too-much",
        DeviationKind::Pause => "pause",
        DeviationKind::NotCertain => "not-certain",
        _ => "other",
    }
}

impl<'a> From<&'a Judged> for JudgedRow<'a> {
    fn from(of: &'a Judged) -> Self {
        let counts = of.counts;
        let deviation = |of: &'a Deviation| DeviationRow {
            occurrence: of.occurrence,
            begins_s: of.begins,
            verdict: verdict(of.verdict),
            deviation: deviation_kind(of.kind),
            place: of.place,
            step: of.step.as_deref(),
            expected: of.expected.as_deref(),
            found: of.found.as_deref(),
            at_s: of.at,
        };
        let pause = |of: &'a Pause| PauseRow {
            before_step: &of.before,
            count: of.count,
            shortest_s: of.shortest.into(),
            longest_s: of.longest.into(),
        };
        JudgedRow {
            seen: counts.seen,
            passed: counts.passed,
            failed: counts.failed,
            inconclusive: counts.inconclusive,
            possible: counts.possible,
            cut_off: counts.unpaired,
            besides: of.besides,
            at_s: of.begins,
            deviations: of.deviations.iter().map(deviation).collect(),
            pauses: of.pauses.iter().map(pause).collect(),
        }
    }
}

impl<'a> From<&'a OrderResult> for OrderRow<'a> {
    fn from(of: &'a OrderResult) -> Self {
        let broken = |b: &'a Broken| BreakRow {
            from_state: &b.from,
            to_state: &b.to,
            at_s: b.at,
            stayed_s: b.stayed.map(Into::into),
            lasted_s: b.lasted.map(Into::into),
        };
        let transition =
            |t: &'a StateChange| TransitionRow { from_state: &t.from, to_state: &t.to, count: t.count };
        let stay = |s: &'a Stay| StayRow {
            state: &s.state,
            count: s.count,
            shortest_s: s.shortest.map(Into::into),
            longest_s: s.longest.map(Into::into),
            total_s: s.total,
        };
        OrderRow {
            begins_in: of.begins.as_deref(),
            begins_wrong: of.begins_wrong,
            transitions: of.transitions,
            broken: of.broken,
            breaks: of.found.iter().map(broken).collect(),
            allowed: of.allowed.iter().map(transition).collect(),
            stays: of.stays.iter().map(stay).collect(),
        }
    }
}

impl<'a> From<&'a Met> for MetRow<'a> {
    fn from(of: &'a Met) -> Self {
        let found = match &of.found {
            Detail::Messages(judged) => Found::Messages(judged.into()),
            Detail::Transfers(judged) => Found::Transfers(judged.into()),
            Detail::Exchange(judged) => Found::Exchange(judged.into()),
            Detail::Follow(result) => Found::Follow(Box::new(FollowRow {
                judged: (&result.judged).into(),
                shortest_s: result.took.map(|(shortest, _)| shortest.into()),
                longest_s: result.took.map(|(_, longest)| longest.into()),
            })),
            Detail::Order(order) => Found::Order(order.into()),
            _ => Found::Other,
        };
        MetRow { name: &of.name, verdict: verdict(of.verdict), found }
    }
}
