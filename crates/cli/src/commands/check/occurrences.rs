//! Every occurrence of every limit as a table in a file.

use std::ops::ControlFlow;
use std::path::Path;

use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{BoundLimit, Verdict, Visited};
use deep_tap::quantity::Quantity;

use crate::errors::Failure;
use crate::tables::{Cell, Columns, Kind, TableFile};

const COLUMNS: Columns = &[
    ("file", Kind::Text),
    ("source", Kind::Text),
    ("part", Kind::Text),
    ("limit", Kind::Text),
    ("unit", Kind::Text),
    ("min", Kind::Number),
    ("max", Kind::Number),
    ("at_s", Kind::Number),
    ("value", Kind::Number),
    ("lo", Kind::Number),
    ("hi", Kind::Number),
    ("verdict", Kind::Text),
    ("certain", Kind::Text),
];

/// A table that is being written.
pub(super) struct Rows<'a>(TableFile<'a>);

impl<'a> Rows<'a> {
    pub(super) fn create(path: &'a Path, replace: bool) -> Result<Self, Failure> {
        TableFile::create("occurrences", path, COLUMNS, replace).map(Rows)
    }

    /// Adds all occurrences of a capture's limits.
    pub(super) fn add(
        &mut self,
        loaded: &Job,
        file: &Path,
        only: &[String],
        rule: Rule,
    ) -> Result<(), Failure> {
        let capture = &loaded.capture;
        let name = file.display().to_string();
        let number = |quantity: Option<Quantity>| Cell::Number(quantity.map(Quantity::to_f64));
        // Of the others the table says that the record is too slow.
        let shown = |bound: &&BoundLimit| bound.check_at(capture.base()).is_ok();
        for bound in loaded.limits(only)?.into_iter().filter(shown) {
            let limit = &bound.limit;
            let unit = limit.kind().unit().to_string();
            let span = bound.span(capture, rule);
            let mut failed = None;
            bound.occurrences(capture, rule, &mut |found| {
                let Visited::Occurrence(occurrence) = found else { return ControlFlow::Continue(()) };
                let bounds = occurrence.bounds(&span);
                let row = [
                    Cell::Text(&name),
                    Cell::Text(&capture.origin().source),
                    Cell::Text(&bound.reference),
                    Cell::Text(&limit.symbol),
                    Cell::Text(&unit),
                    number(limit.required.min),
                    number(limit.required.max),
                    Cell::Number(Some(capture.base().time_of(occurrence.start).to_f64())),
                    number(occurrence.value(capture.base())),
                    number(bounds.map(|b| b.lo)),
                    number(bounds.and_then(|b| b.hi)),
                    Cell::Text(word(occurrence.verdict)),
                    Cell::Text(if occurrence.certain { "yes" } else { "no" }),
                ];
                match self.0.row(&row) {
                    Ok(()) => ControlFlow::Continue(()),
                    Err(error) => {
                        failed = Some(error);
                        ControlFlow::Break(())
                    }
                }
            })?;
            if let Some(error) = failed {
                return Err(error);
            }
        }
        Ok(())
    }

    pub(super) fn finish(self) -> Result<(), Failure> {
        self.0.finish()
    }
}

fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Pass => "pass",
        Verdict::Fail => "fail",
        Verdict::Inconclusive => "inconclusive",
        Verdict::NotSeen => "not seen",
    }
}
