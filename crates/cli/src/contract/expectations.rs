//! What is expected besides timing, and whether it was so.

use deep_tap::expect::{Broken, Detail, Met, OrderResult, PayloadResult, Stay, TransfersResult};
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
    Payload(PayloadRow),
    Transfers(TransfersRow<'a>),
    Order(OrderRow<'a>),
    /// Of a kind that is newer than this output.
    Other,
}

#[derive(Serialize)]
struct PayloadRow {
    expected: u64,
    matched: u64,
    extra: u64,
    at_s: Option<Time>,
    difference: Option<Difference>,
}

#[derive(Serialize)]
struct Difference {
    /// Which value of those expected, from 0.
    place: u64,
    expected: Option<u64>,
    found: Option<u64>,
    at_s: Time,
}

#[derive(Serialize)]
struct TransfersRow<'a> {
    expected: u64,
    matched: u64,
    extra: u64,
    at_s: Option<Time>,
    transfer_difference: Option<TransferDifferenceRow<'a>>,
}

#[derive(Serialize)]
struct TransferDifferenceRow<'a> {
    /// Which transfer of those expected, from 0.
    place: u64,
    /// The tests that it should meet.
    tests: Option<&'a str>,
    /// What came.
    transfer: Option<&'a str>,
    at_s: Time,
}

#[derive(Serialize)]
struct OrderRow<'a> {
    transitions: u64,
    broken: u64,
    breaks: Vec<BreakRow<'a>>,
    stays: Vec<StayRow<'a>>,
}

#[derive(Serialize)]
struct BreakRow<'a> {
    from_state: Option<&'a str>,
    to_state: &'a str,
    at_s: Time,
}

#[derive(Serialize)]
struct StayRow<'a> {
    state: &'a str,
    count: u64,
    shortest_s: Option<Interval>,
    longest_s: Option<Interval>,
    total_s: f64,
}

impl From<&PayloadResult> for PayloadRow {
    fn from(of: &PayloadResult) -> Self {
        let PayloadResult { expected, matched, extra, begins, .. } = *of;
        let difference = of.difference.map(|d| Difference {
            place: d.place,
            expected: d.expected,
            found: d.found,
            at_s: d.at,
        });
        PayloadRow { expected, matched, extra, at_s: begins, difference }
    }
}

impl<'a> From<&'a TransfersResult> for TransfersRow<'a> {
    fn from(of: &'a TransfersResult) -> Self {
        let TransfersResult { expected, matched, extra, begins, .. } = *of;
        let transfer_difference = of.difference.as_ref().map(|difference| TransferDifferenceRow {
            place: difference.place,
            tests: difference.expected.as_deref(),
            transfer: difference.found.as_deref(),
            at_s: difference.at,
        });
        TransfersRow { expected, matched, extra, at_s: begins, transfer_difference }
    }
}

impl<'a> From<&'a OrderResult> for OrderRow<'a> {
    fn from(of: &'a OrderResult) -> Self {
        let broken = |b: &'a Broken| BreakRow { from_state: b.from.as_deref(), to_state: &b.to, at_s: b.at };
        let stay = |s: &'a Stay| StayRow {
            state: &s.state,
            count: s.count,
            shortest_s: s.shortest.map(Into::into),
            longest_s: s.longest.map(Into::into),
            total_s: s.total,
        };
        OrderRow {
            transitions: of.transitions,
            broken: of.broken,
            breaks: of.found.iter().map(broken).collect(),
            stays: of.stays.iter().map(stay).collect(),
        }
    }
}

impl<'a> From<&'a Met> for MetRow<'a> {
    fn from(of: &'a Met) -> Self {
        let found = match &of.found {
            Detail::Payload(payload) => Found::Payload(payload.into()),
            Detail::Transfers(transfers) => Found::Transfers(transfers.into()),
            Detail::Order(order) => Found::Order(order.into()),
            _ => Found::Other,
        };
        MetRow { name: &of.name, verdict: verdict(of.verdict), found }
    }
}
