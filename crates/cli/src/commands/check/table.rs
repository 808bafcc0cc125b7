//! The verdict table.

use std::path::Path;

use deep_tap::capture::Capture;
use deep_tap::known::Rule;
use deep_tap::limit::{Doubt, LimitResult, Reason, Verdict, WorthTrying};

use super::checked::{Checked, answer, mark};
use super::expectations;
use crate::next::{look, next, path_word};
use crate::output::{Grid, folded};
use deep_tap::quantity::{Rate, Time, resolution, signed, uncertain};

impl Checked {
    pub(crate) fn text(&self, capture: &Capture, setup: Option<&Path>) -> String {
        let mut text = self.body();
        let advice = self.advice(capture, setup);
        if !advice.is_empty() {
            text.push_str(&format!("\n{}\n", advice.join("\n")));
        }
        text
    }

    /// The verdicts and what has to be said of them.
    pub(crate) fn body(&self) -> String {
        let met = self.expectations.iter().map(|met| met.verdict);
        let answer = answer(self.results.iter().map(|r| r.verdict).chain(met));
        let kind = if self.sampled {
            format!("{}, tick {}", self.rate, self.tick)
        } else {
            format!("exact, tick {}", self.tick)
        };
        let mut text = format!("{answer}          {}, {kind}\n", self.file);
        if self.rule == Rule::Measured {
            text.push_str("rule: the counted value is taken for the true one, without its uncertainty\n");
        }
        if let Some(made) = &self.made {
            text.push_str(&format!("made: {made}\n"));
        }
        for step in &self.history {
            text.push_str(&format!("history: {step}\n"));
        }
        if !self.results.is_empty() {
            text.push_str(&format!("\n{}\n", self.grid(self.tick).text()));
        }
        if !self.expectations.is_empty() {
            text.push_str(&expectations::text(&self.expectations, self.tick, self.violations.is_some()));
        }
        text.push_str(&self.list_text());
        if !self.pins_not_wired.is_empty() {
            text.push_str(&format!("\nnot wired: {}", self.pins_not_wired.join(", ")));
            text.push_str(&match self.not_wired.is_empty() {
                true => "; no limit needs them\n".to_string(),
                false => format!("; left out for that: {}\n", self.not_wired.join(", ")),
            });
        }
        let mut notes: Vec<String> = self.results.iter().filter_map(explanation).collect();
        let never = self.results.iter().filter(|r| r.verdict == Verdict::NotSeen && r.counts.unpaired == 0);
        let (unknown, never): (Vec<String>, Vec<String>) =
            never.map(LimitResult::name).partition(|name| self.unrecorded.contains(name));
        if !unknown.is_empty() {
            notes.push(format!(
                "not seen, which is not a pass, since a line of theirs is unknown all through: {}",
                unknown.join(", ")
            ));
        }
        if !never.is_empty() {
            notes.push(format!(
                "not seen, which is not a pass, since its events never occurred: {}",
                never.join(", ")
            ));
        }
        if !notes.is_empty() {
            let notes: Vec<String> = notes.iter().map(|note| folded(note)).collect();
            text.push_str(&format!("\n{}\n", notes.join("\n")));
        }
        if self.results.iter().any(|result| result.counts.possible > 0) {
            let told = "(+N): so many more are not certain to have happened; they make no limit pass or fail, but may leave it open";
            text.push_str(&format!("\n{}", folded(told)));
        }
        for assumption in self.assumptions() {
            text.push_str(&format!("\n{}", folded(&assumption)));
        }
        if !text.ends_with('\n') {
            text.push('\n');
        }
        text
    }

    /// The limits; where that is too wide, what each is about stands below it.
    fn grid(&self, tick: Time) -> Grid {
        let mut grid = Grid::new(
            &["part", "limit", "what", "required", "worst", "at", "margin", "seen", "verdict"],
            &[4, 5, 6, 7],
        );
        for result in &self.results {
            grid.row_with_mark(cells(tick, result).into(), mark(result.verdict));
        }
        if grid.fits() {
            return grid;
        }
        let mut narrow = Grid::new(&["limit", "required", "worst", "at", "verdict"], &[2, 3]);
        for result in &self.results {
            let (cells, remark) = narrow_cells(tick, result);
            narrow.row_with_remark(cells, mark(result.verdict), &remark);
        }
        narrow
    }

    /// What to do next.
    fn advice(&self, capture: &Capture, setup: Option<&Path>) -> Vec<String> {
        let mut lines = Vec::new();
        let setup = setup.map_or(String::new(), |setup| format!(" --setup {}", path_word(setup)));
        let file = path_word(Path::new(&self.file));
        if let Some(failed) = self.results.iter().find(|r| r.verdict == Verdict::Fail)
            && let Some(at) = failed.at
        {
            lines.extend(look(&format!("{file}{setup}"), at.rounded(capture.base().tick())));
        }
        if let Some(at) = expectations::first_failure(&self.expectations).filter(|_| lines.is_empty()) {
            lines.extend(look(&format!("{file}{setup}"), at.rounded(capture.base().tick())));
        }
        let rates = self.results.iter().filter_map(rate_worth_trying);
        let rates = rates.filter(|_| !capture.origin().rates.is_empty());
        if let (Some(rate), Some(own)) = (rates.max(), capture.attachments().first()) {
            let open: Vec<String> = self
                .results
                .iter()
                .filter(|r| rate_worth_trying(r).is_some())
                .map(LimitResult::name)
                .collect();
            let output =
                format!("{}.dtap", rate.to_string().replace(" S/s", "").replace("S/s", "").replace(' ', ""));
            // The capture knows its setup's name, not where it lies; but it is a setup, too.
            let setup = if Path::new(&own.name).exists() { path_word(Path::new(&own.name)) } else { file };
            let changed = format!("{setup} --rate '{rate}' --output {output}    for {}", open.join(", "));
            lines.push(next("capture", changed));
        }
        lines
    }
}

/// A row of the verdict table.
pub(crate) fn cells(tick: Time, result: &LimitResult) -> [String; 9] {
    let dash = || "-".to_string();
    let known = result.measured.zip(result.bounds);
    let margin = result
        .margin
        .zip(known)
        .map(|(margin, (measured, bounds))| signed(margin, resolution(measured, bounds, tick)));
    [
        result.reference.clone(),
        result.symbol.clone(),
        result.what.clone(),
        result.required.to_string(),
        known.map_or_else(dash, |(measured, bounds)| uncertain(measured, bounds, tick)),
        result.at.map_or_else(dash, |at| signed(at.into(), tick.into())),
        margin.unwrap_or_else(dash),
        match result.counts.possible {
            0 => result.counts.seen.to_string(),
            possible => format!("{} (+{possible})", result.counts.seen),
        },
        verdict_text(result),
    ]
}

/// The same for a narrow table, and what stands below the row.
pub(crate) fn narrow_cells(tick: Time, result: &LimitResult) -> (Vec<String>, String) {
    let [_, _, what, required, worst, at, margin, seen, verdict] = cells(tick, result);
    // What to try is said again below the table.
    let verdict = verdict.split(": ").next().unwrap_or_default().to_string();
    let margin = if margin == "-" { String::new() } else { format!("margin {margin}, ") };
    (vec![result.name(), required, worst, at, verdict], format!("{what}; {margin}seen {seen}"))
}

pub(crate) fn verdict_text(result: &LimitResult) -> String {
    let counts = &result.counts;
    match result.verdict {
        Verdict::Pass => "pass".to_string(),
        Verdict::Fail => format!("FAIL ({} of {})", counts.failed, counts.seen),
        Verdict::NotSeen => "not seen".to_string(),
        Verdict::Inconclusive => match result.worth_trying {
            Some(worth @ WorthTrying::Rate { .. }) => format!("inconclusive: {worth}"),
            _ => "inconclusive".to_string(),
        },
    }
}

/// The rate that a limit left open is worth another record at.
pub(crate) fn rate_worth_trying(result: &LimitResult) -> Option<Rate> {
    match result.worth_trying {
        Some(WorthTrying::Rate { rate, .. }) => Some(rate),
        _ => None,
    }
}

/// Why a limit has no plain answer, in a sentence.
pub(crate) fn explanation(result: &LimitResult) -> Option<String> {
    let counts = &result.counts;
    let text = match result.verdict {
        Verdict::NotSeen if counts.unpaired > 0 => {
            format!(
                "not seen, which is not a pass: begun {} times in this record, never completed",
                counts.unpaired
            )
        }
        Verdict::Inconclusive => {
            let why = match result.reason {
                Some(Reason::TooSlow) => "a duration in its events is not longer than a tick",
                Some(Reason::NotShown) => "a sampled record does not show whether a line is driven or floats",
                Some(Reason::HiddenPulses) => "what was seen passes, but pulses may hide between two samples",
                Some(Reason::Composite) => {
                    "its events have states, or a past on lines that may hide pulses (state their 'shortest'), which a \
                     sampled record cannot prove; --rule measured takes them as they are seen"
                }
                Some(Reason::Occurrence(Doubt::Unknown)) => {
                    "a level is unknown (x, z, or lost) within the occurrence"
                }
                Some(Reason::Occurrence(Doubt::Order)) => "two edges are so close that their order is open",
                Some(Reason::Occurrence(Doubt::Hidden)) => "pulses may hide between two samples of its lines",
                Some(Reason::Occurrence(Doubt::Resolution)) | None => "the limit lies within the uncertainty",
            };
            let rest = result.worth_trying.map_or(String::new(), |worth| format!("; {worth}"));
            match result.reason {
                Some(Reason::Composite) => format!("inconclusive: {why}"),
                Some(Reason::TooSlow | Reason::HiddenPulses | Reason::NotShown) => {
                    format!("inconclusive: {why}{rest}")
                }
                _ if counts.inconclusive == 0 => {
                    format!("inconclusive: {} may have happened or not: {why}{rest}", counts.possible)
                }
                _ => format!("inconclusive in {} of {}: {why}{rest}", counts.inconclusive, counts.seen),
            }
        }
        Verdict::NotSeen | Verdict::Pass | Verdict::Fail => return None,
    };
    Some(format!("{}.{}: {text}", result.reference, result.symbol))
}
