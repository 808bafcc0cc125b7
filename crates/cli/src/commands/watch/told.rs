//! What is told of what is watched: a line for each violation, or a table that is renewed.

use deep_tap::limit::{LimitResult, Verdict, Violation, Watch};
use deep_tap::quantity::{Rational, Time, resolution, signed, uncertain};
use deep_tap::time::TimeBase;

use super::kept::{Keeper, Kept};
use crate::commands::check::{answer, cells, mark};
use crate::output::Grid;
use crate::words::counted;

/// A violation in a line.
pub(super) fn line(
    base: TimeBase,
    violation: &Violation,
    (name, required): &(String, String),
    kept: Kept,
) -> String {
    let tick = base.tick();
    let at = signed(base.time_of(violation.occurrence.start).into(), tick.into());
    let mut text = format!("{at}  {name}");
    if let Some((measured, bounds)) = violation.measured {
        text.push_str(&format!("  {}, required {required}", uncertain(measured, bounds, tick)));
        if let Some(margin) = violation.margin {
            text.push_str(&format!(", margin {}", signed(margin, resolution(measured, bounds, tick))));
        }
    }
    if kept == Kept::Will {
        text.push_str(", to be kept");
    }
    text
}

/// The verdict table, renewed: rows whose violations have become more stand out.
pub(super) struct Table {
    title: String,
    failed: Vec<u64>,
}

impl Table {
    pub(super) fn new(title: &str) -> Self {
        Table { title: title.to_string(), failed: Vec::new() }
    }

    pub(super) fn text(&mut self, watch: &Watch, violations: u64, keeper: &Keeper) -> String {
        let base = watch.base();
        let results = watch.results();
        let lasted = base.length_of(i64::try_from(watch.position().0).unwrap_or(i64::MAX));
        let lasted = lasted.rounded(Time::from_rational(rounding(lasted)));
        let mut grid =
            Grid::new(&["limit", "required", "worst", "at", "margin", "seen", "verdict"], &[2, 3, 4, 5]);
        for (number, result) in results.iter().enumerate() {
            grid.row_with_mark(self.row(number, result, base.tick()), mark(result.verdict));
        }
        self.failed = results.iter().map(|result| result.counts.failed).collect();
        let kept = match keeper.kept() {
            0 => String::new(),
            kept => format!(", {} kept", counted(kept, "capture")),
        };
        format!(
            "{}          {}, {lasted} at {}\n{} so far{kept}\n\n{}\n",
            answer(results.iter().map(|result| result.verdict)),
            self.title,
            base.rate(),
            counted(violations, "violation"),
            grid.text()
        )
    }

    fn row(&self, number: usize, result: &LimitResult, tick: Time) -> Vec<String> {
        let [_, _, _, required, worst, at, margin, seen, mut verdict] = cells(tick, result);
        let more = result.counts.failed.saturating_sub(self.failed.get(number).copied().unwrap_or(0));
        if result.verdict == Verdict::Fail && more > 0 {
            verdict.push_str(&format!("  +{more}"));
        }
        vec![result.name(), required, worst, at, margin, seen, verdict]
    }
}

/// A hundredth of a second while it is young, a second later.
fn rounding(lasted: Time) -> Rational {
    let rational = Rational::new(1, if lasted.to_f64() < 60.0 { 100 } else { 1 });
    rational.unwrap_or(Rational::ONE)
}
