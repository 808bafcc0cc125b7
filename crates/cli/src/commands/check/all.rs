//! Every violation, one by one, or in streaks where many follow each other.

use deep_tap::job::Job;
use deep_tap::known::{Rule, Span};
use deep_tap::limit::{LimitResult, Occurrence, Streak, violations};
use deep_tap::quantity::{Bounds, Rational, Time};
use deep_tap::quantity::{Quantity, Unit};

use super::checked::{Checked, Listed, Told};
use crate::contract::limits::Violation;
use crate::errors::Failure;
use crate::output::Grid;
use crate::words::counted;
use deep_tap::quantity::{resolution, signed, uncertain};

/// Most violations of a limit that are kept.
const MOST: usize = 1_000_000;
/// Most lines that a limit gets in the text.
const MOST_LINES: usize = 40;

impl Checked {
    /// Lists the violations of the limits that have some.
    pub(super) fn list(&mut self, loaded: &Job, only: &[String], rule: Rule) -> Result<(), Failure> {
        let capture = &loaded.capture;
        let base = capture.base();
        let mut all = Vec::new();
        for (place, (bound, result)) in loaded.limits(only)?.into_iter().zip(&self.results).enumerate() {
            if result.counts.failed == 0 {
                continue;
            }
            let found = violations(capture, bound, rule, MOST)?;
            let span = bound.span(capture, rule);
            let told = |occurrence: &Occurrence| Told::of(loaded, result, occurrence, &span);
            let streak =
                |s: &Streak| (Told { at: told(&s.first).at, ..told(&s.worst) }, told(&s.last), s.count);
            all.push(Listed {
                result: place,
                count: found.count,
                occurrences: found.found.iter().map(told).collect(),
                streaks: found.streaks.iter().map(streak).collect(),
                seen: seen(result, base.tick()),
            });
        }
        self.violations = Some(all);
        Ok(())
    }

    /// The violations as text: a line for each, or for each streak.
    pub(super) fn list_text(&self) -> String {
        let mut text = String::new();
        for listed in self.violations.iter().flatten() {
            let result = &self.results[listed.result];
            text.push_str(&format!(
                "\n{}.{}, required {}: {}; {}\n",
                result.reference,
                result.symbol,
                result.required,
                counted(listed.count, "violation"),
                listed.seen
            ));
            let rows = listed.streaks.iter().any(|(_, _, count)| *count > 1);
            let mut grid = match rows {
                true => Grid::new(&["", "at", "up to", "in a row", "worst", "margin"], &[1, 2, 3, 4, 5]),
                false => Grid::new(&["", "at", "value", "margin"], &[1, 2, 3]),
            };
            for (first, last, count) in listed.streaks.iter().take(MOST_LINES) {
                let mut cells = vec![" ".to_string(), signed(first.at.into(), first.tick.into())];
                match count {
                    1 if rows => cells.extend([String::new(), String::new()]),
                    1 => {}
                    _ => cells.extend([signed(last.at.into(), last.tick.into()), count.to_string()]),
                }
                cells.extend([first.text(), first.margin_text()]);
                grid.row(cells);
            }
            text.push_str(&format!("{}\n", grid.text()));
            if listed.streaks.len() > MOST_LINES {
                let more = listed.streaks.len() - MOST_LINES;
                text.push_str(&format!("  and {more} more lines; --format csv has every single one\n"));
            }
        }
        text
    }

    /// The violations as programs read them.
    pub(super) fn violation_rows(&self) -> impl Iterator<Item = Violation<'_>> {
        self.violations.iter().flatten().flat_map(|listed| {
            let result = &self.results[listed.result];
            listed.occurrences.iter().map(|told| Violation::new(result, told.at, told.value, told.bounds))
        })
    }
}

/// What all occurrences together were.
fn seen(result: &LimitResult, tick: Time) -> String {
    let Some(statistics) = &result.statistics else { return String::new() };
    let digits = match result.unit {
        Unit::Time => Quantity::Time(tick),
        unit => unit.of(Rational::new(1, 1000).unwrap_or(Rational::ZERO)),
    };
    let typical = result.typical.map_or(String::new(), |typical| format!("typical {typical}, "));
    let (min, max) = (statistics.min.rounded(digits), statistics.max.rounded(digits));
    match result.counts.seen {
        1 => format!("{typical}seen once, {min}"),
        seen => format!("{typical}seen {seen} times, {min} to {max}"),
    }
}

impl Told {
    /// What is said of an occurrence of a limit.
    pub(crate) fn of(loaded: &Job, result: &LimitResult, occurrence: &Occurrence, span: &Span) -> Self {
        let base = loaded.capture.base();
        let value = occurrence.value(base);
        let bounds = occurrence.bounds(span);
        let margin = value.and_then(|value| result.required.margin(value.to_rational()));
        Told {
            at: base.time_of(occurrence.start),
            value,
            bounds,
            margin: margin.map(|margin| result.unit.of(margin)),
            tick: base.tick(),
        }
    }

    fn known(&self) -> Option<(Quantity, Bounds<Quantity>)> {
        self.value.zip(self.bounds)
    }

    pub(crate) fn text(&self) -> String {
        self.known().map_or("-".to_string(), |(value, bounds)| uncertain(value, bounds, self.tick))
    }

    pub(crate) fn margin_text(&self) -> String {
        let known = self.margin.zip(self.known());
        known.map_or("-".to_string(), |(margin, (value, bounds))| {
            signed(margin, resolution(value, bounds, self.tick))
        })
    }
}
