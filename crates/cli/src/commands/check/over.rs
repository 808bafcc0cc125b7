//! The same limits over several captures: the worst of each.

use std::path::Path;

use deep_tap::limit::{LimitResult, OverRuns, Runs, Verdict, overall};
use deep_tap::quantity::Time;
use deep_tap::{Error, ErrorKind};

use super::checked::{Checked, answer, mark, outcome};
use super::expectations;
use super::table::{cells, explanation, narrow_cells};
use crate::Outcome;
use crate::contract::limits::OverRow;
use crate::errors::Failure;
use crate::next::{next, path_word};
use crate::output::Grid;
use crate::words::counted;

/// The results of several captures.
#[derive(Default)]
pub(crate) struct Over {
    names: Vec<String>,
    runs: Runs,
    tick: Option<Time>,
    /// Each with its violations, where these are listed.
    pub(crate) each: Vec<Checked>,
}

impl Over {
    /// Adds the results of one capture by its name.
    ///
    /// # Errors
    /// When they are not of the same limits as those before.
    pub(crate) fn add_results(
        &mut self,
        name: &str,
        tick: Time,
        results: Vec<LimitResult>,
    ) -> Result<(), Failure> {
        let same = |over: &OverRuns, result: &LimitResult| {
            (&over.result.reference, &over.result.symbol) == (&result.reference, &result.symbol)
        };
        let before = self.results();
        let fits = before.len() == results.len() && before.iter().zip(&results).all(|(a, b)| same(a, b));
        if !self.runs.is_empty() && !fits {
            let first = &self.names[0];
            let error =
                Error::new(ErrorKind::Setup, format!("{name} has other limits than {first} in its setup"));
            let help = "check captures of the same setup together, or give one for all with --setup";
            return Err(error.with_help(help).into());
        }
        self.names.push(name.to_string());
        // The coarsest digits are honest for all.
        self.tick = self.tick.max(Some(tick));
        self.runs.add(results);
        Ok(())
    }

    pub(crate) fn add(&mut self, checked: Checked) -> Result<(), Failure> {
        self.add_results(&checked.file, checked.tick, checked.results.clone())?;
        self.each.push(checked);
        Ok(())
    }

    fn results(&self) -> &[OverRuns] {
        self.runs.results()
    }

    /// Of every limit over all captures, and of every expectation in each.
    fn verdicts(&self) -> impl Iterator<Item = Verdict> + Clone {
        let met = self.each.iter().flat_map(|checked| checked.expectations.iter().map(|met| met.verdict));
        self.results().iter().map(|over| over.result.verdict).chain(met)
    }

    pub(crate) fn outcome(&self) -> Outcome {
        outcome(self.verdict())
    }

    pub(crate) fn answer(&self) -> String {
        answer(self.verdicts())
    }

    /// The table of the worst of each limit.
    pub(crate) fn grid(&self) -> String {
        let captures = self.captures();
        let header = ["part", "limit", "what", "required", "worst", "in", "at", "margin", "seen", "verdict"];
        let mut grid = Grid::new(&header, &[4, 6, 7, 8]);
        let mut narrow = Grid::new(&["limit", "required", "worst", "at", "verdict"], &[2, 3]);
        let tick = self.tick.unwrap_or(Time::ZERO);
        for over in self.results() {
            let run = self.names.get(over.worst_run).filter(|_| over.result.worst.is_some());
            let name = run.cloned().unwrap_or_else(|| "-".to_string());
            let failed = match over.failed_runs {
                0 => String::new(),
                failed => format!(" in {failed} of {captures}"),
            };
            let violated = if failed.is_empty() { String::new() } else { format!("; violated{failed}") };
            let mark = mark(over.result.verdict);
            let (cells_of_narrow, remark) = narrow_cells(tick, &over.result);
            narrow.row_with_remark(cells_of_narrow, mark, &format!("{remark}, worst in {name}{violated}"));
            let mut cells = Vec::from(cells(tick, &over.result));
            cells.insert(5, name);
            if let Some(verdict) = cells.last_mut() {
                verdict.push_str(&failed);
            }
            grid.row_with_mark(cells, mark);
        }
        if grid.fits() { grid.text() } else { narrow.text() }
    }

    /// How many captures there are, in words.
    pub(crate) fn captures(&self) -> String {
        counted(self.names.len(), "capture")
    }

    pub(crate) fn text(&self) -> String {
        let mut text = format!("{}          over {}\n\n{}\n", self.answer(), self.captures(), self.grid());
        let notes: Vec<String> = self.results().iter().filter_map(|over| explanation(&over.result)).collect();
        if !notes.is_empty() {
            text.push_str(&format!("\n{}\n", notes.join("\n")));
        }
        for checked in self.each.iter().filter(|checked| !checked.expectations.is_empty()) {
            let met = expectations::text(&checked.expectations, checked.tick, checked.violations.is_some());
            text.push_str(&format!("\n{}\n{}", checked.file, met.trim_start_matches('\n')));
        }
        for checked in &self.each {
            let list = checked.list_text();
            if !list.is_empty() {
                text.push_str(&format!("\n{}\n{}", checked.file, list.trim_start_matches('\n')));
            }
        }
        let worst = self.results().iter().find(|over| over.failed_runs > 0);
        if let Some(name) = worst.and_then(|over| self.names.get(over.worst_run)) {
            let name = path_word(Path::new(name));
            text.push_str(&format!("\n{}\n", next("check", format!("{name} --all"))));
        }
        text
    }

    /// The worst of each limit as programs read it.
    pub(crate) fn worst_rows(&self) -> Vec<OverRow<'_>> {
        self.results().iter().map(|over| OverRow::new(over, &self.names)).collect()
    }

    pub(crate) fn verdict(&self) -> Verdict {
        overall(self.verdicts())
    }
}
