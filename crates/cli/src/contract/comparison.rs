//! What differs between two records. Values of a limit are in its unit.

use deep_tap::compare::{BusComparison, Known, LimitComparison, OneLimit, RecordComparison, Shift, Spread};
use deep_tap::quantity::{Quantity, Time};
use serde::Serialize;

use super::limits::verdict;

/// The columns of a table of what was compared.
pub(crate) const ITEM_COLUMNS: &[&str] =
    &["item", "name", "differs", "in_a", "in_b", "how", "a_at_s", "b_at_s"];

/// Two records compared.
#[derive(Serialize)]
pub(crate) struct ComparedRows<'a> {
    file_a: String,
    file_b: String,
    /// What time zero is in both, in words.
    zero: &'a str,
    a_zero_s: Time,
    b_zero_s: Time,
    differences: usize,
    items: Vec<ItemRow<'a>>,
    limits: Vec<LimitRow<'a>>,
    buses: Vec<BusRow<'a>>,
    remarks: &'a [String],
}

/// One thing that was compared.
#[derive(Serialize)]
pub(crate) struct ItemRow<'a> {
    pub(crate) item: &'static str,
    pub(crate) name: &'a str,
    pub(crate) differs: bool,
    pub(crate) in_a: &'a str,
    pub(crate) in_b: &'a str,
    pub(crate) how: &'a str,
    pub(crate) a_at_s: Option<Time>,
    pub(crate) b_at_s: Option<Time>,
}

#[derive(Serialize)]
struct LimitRow<'a> {
    name: &'a str,
    what: &'a str,
    unit: String,
    differs: bool,
    a: Option<OneRow>,
    b: Option<OneRow>,
    moved: Vec<MovedRow>,
}

#[derive(Serialize)]
struct OneRow {
    verdict: &'static str,
    margin: Option<Quantity>,
    spread: Option<SpreadRow>,
}

#[derive(Serialize)]
struct SpreadRow {
    seen: u64,
    possible: u64,
    smallest: KnownRow,
    percentile_50: KnownRow,
    percentile_99: KnownRow,
    largest: KnownRow,
}

#[derive(Serialize)]
struct KnownRow {
    value: Quantity,
    lo: Quantity,
    hi: Option<Quantity>,
}

#[derive(Serialize)]
struct MovedRow {
    number: &'static str,
    /// Negative where it became smaller.
    at_least: f64,
}

#[derive(Serialize)]
struct BusRow<'a> {
    bus: &'a str,
    differs: bool,
    /// `frames` or `transfers`.
    compared: &'static str,
    count_a: u64,
    count_b: u64,
    matched: u64,
    missing: u64,
    extra: u64,
    replaced: u64,
    at_the_ends: u64,
    earliest_s: Option<Time>,
    latest_s: Option<Time>,
    unread: Option<&'a str>,
}

impl<'a> ComparedRows<'a> {
    /// Of these two files.
    pub(crate) fn new(files: (String, String), found: &'a RecordComparison, items: Vec<ItemRow<'a>>) -> Self {
        ComparedRows {
            file_a: files.0,
            file_b: files.1,
            zero: &found.alignment.zero,
            a_zero_s: found.alignment.at.0,
            b_zero_s: found.alignment.at.1,
            differences: found.differences(),
            items,
            limits: found.limits.iter().map(LimitRow::from).collect(),
            buses: found.buses.iter().map(BusRow::from).collect(),
            remarks: &found.remarks,
        }
    }

    pub(crate) fn rows(&self) -> &[ItemRow<'a>] {
        &self.items
    }
}

impl<'a> From<&'a LimitComparison> for LimitRow<'a> {
    fn from(of: &'a LimitComparison) -> Self {
        let any = of.a.as_ref().or(of.b.as_ref());
        let unit = any.map(|one| one.result.unit);
        let moved = |(number, shift): &(&'static str, Shift)| {
            let least = shift.least.to_f64();
            MovedRow { number, at_least: if shift.up { least } else { -least } }
        };
        LimitRow {
            name: &of.name,
            what: &of.what,
            unit: unit.map_or(String::new(), |unit| unit.to_string()),
            differs: of.differs(),
            a: of.a.as_ref().map(OneRow::from),
            b: of.b.as_ref().map(OneRow::from),
            moved: of.moved.iter().map(moved).collect(),
        }
    }
}

impl From<&OneLimit> for OneRow {
    fn from(of: &OneLimit) -> Self {
        OneRow {
            verdict: verdict(of.result.verdict),
            margin: of.result.margin,
            spread: of.spread.as_ref().map(SpreadRow::from),
        }
    }
}

impl From<&Spread> for SpreadRow {
    fn from(of: &Spread) -> Self {
        let known = |Known { value, lo, hi }: Known| KnownRow { value, lo, hi };
        SpreadRow {
            seen: of.count,
            possible: of.possible,
            smallest: known(of.least),
            percentile_50: known(of.median),
            percentile_99: known(of.percentile_99),
            largest: known(of.most),
        }
    }
}

impl<'a> From<&'a BusComparison> for BusRow<'a> {
    fn from(of: &'a BusComparison) -> Self {
        BusRow {
            bus: &of.name,
            differs: of.differs(),
            compared: of.of,
            count_a: of.counts.0,
            count_b: of.counts.1,
            matched: of.matched,
            missing: of.missing,
            extra: of.extra,
            replaced: of.replaced,
            at_the_ends: of.at_the_ends,
            earliest_s: of.later.map(|(least, _)| least),
            latest_s: of.later.map(|(_, most)| most),
            unread: of.unread.as_deref(),
        }
    }
}
