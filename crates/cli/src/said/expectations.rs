//! What became of what is expected besides timing.

use deep_tap::expect::{Broken, Detail, Met, OrderResult, PayloadResult, Stay};
use deep_tap::limit::Verdict;
use deep_tap::quantity::Time;
use serde::{Serialize, Serializer};

use super::measures::SaidMeasure;

#[derive(Serialize)]
struct SaidMet<'a> {
    name: &'a str,
    verdict: Verdict,
    found: SaidDetail<'a>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
enum SaidDetail<'a> {
    Payload(SaidPayload),
    Order(SaidOrder<'a>),
    /// Of a kind that is newer than this output.
    Other,
}

#[derive(Serialize)]
struct SaidPayload {
    verdict: Verdict,
    expected: u64,
    matched: u64,
    difference: Option<SaidDifference>,
    extra: u64,
    begins: Option<Time>,
}

#[derive(Serialize)]
struct SaidDifference {
    place: u64,
    expected: Option<u64>,
    found: Option<u64>,
    at: Time,
}

#[derive(Serialize)]
struct SaidOrder<'a> {
    verdict: Verdict,
    transitions: u64,
    broken: u64,
    found: Vec<SaidBroken<'a>>,
    stays: Vec<SaidStay<'a>>,
}

#[derive(Serialize)]
struct SaidBroken<'a> {
    from: Option<&'a str>,
    to: &'a str,
    at: Time,
}

#[derive(Serialize)]
struct SaidStay<'a> {
    state: &'a str,
    count: u64,
    shortest: Option<SaidMeasure>,
    longest: Option<SaidMeasure>,
    total: f64,
}

impl From<&PayloadResult> for SaidPayload {
    fn from(of: &PayloadResult) -> Self {
        let PayloadResult { verdict, expected, matched, extra, begins, .. } = *of;
        let difference = of.difference.map(|d| SaidDifference {
            place: d.place,
            expected: d.expected,
            found: d.found,
            at: d.at,
        });
        SaidPayload { verdict, expected, matched, difference, extra, begins }
    }
}

impl<'a> From<&'a OrderResult> for SaidOrder<'a> {
    fn from(of: &'a OrderResult) -> Self {
        let broken = |b: &'a Broken| SaidBroken { from: b.from.as_deref(), to: &b.to, at: b.at };
        let stay = |s: &'a Stay| SaidStay {
            state: &s.state,
            count: s.count,
            shortest: s.shortest.map(Into::into),
            longest: s.longest.map(Into::into),
            total: s.total,
        };
        SaidOrder {
            verdict: of.verdict,
            transitions: of.transitions,
            broken: of.broken,
            found: of.found.iter().map(broken).collect(),
            stays: of.stays.iter().map(stay).collect(),
        }
    }
}

impl<'a> From<&'a Met> for SaidMet<'a> {
    fn from(of: &'a Met) -> Self {
        let found = match &of.found {
            Detail::Payload(payload) => SaidDetail::Payload(payload.into()),
            Detail::Order(order) => SaidDetail::Order(order.into()),
            _ => SaidDetail::Other,
        };
        SaidMet { name: &of.name, verdict: of.verdict, found }
    }
}

/// What became of several.
pub(crate) fn each<S: Serializer>(met: &[Met], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(met.iter().map(SaidMet::from))
}
