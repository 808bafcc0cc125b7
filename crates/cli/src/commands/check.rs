//! `check`: the verdict table.

use std::path::Path;

use deep_tap::capture::Capture;
use deep_tap::limit::{self, BoundLimit, Deciding, Doubt, LimitResult, Reason, Rule, Verdict};
use deep_tap::time::{Rate, Time};
use deep_tap::{Error, ErrorKind};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::errors::Failure;
use crate::load::{Loaded, load, setup_of, tell_damage};
use crate::output::{Grid, Mark, Out, write_table};

/// The verdicts on a record, as JSON has them: times in seconds, rates in samples per second.
#[derive(Serialize)]
pub(crate) struct Checked {
    file: String,
    source: String,
    rate: Rate,
    tick: Time,
    rule: Rule,
    history: Vec<String>,
    pub(crate) verdict: Verdict,
    pub(crate) results: Vec<LimitResult>,
    /// Limits left out because a pin they need is not wired.
    not_wired: Vec<String>,
}

pub(crate) fn run(args: &args::Check, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let rule = match args.rule {
        args::Rule::Proven => Rule::Proven,
        args::Rule::Measured => Rule::Measured,
    };
    let checked = check(&loaded, &args.source.file, &args.only, rule)?;
    write_table(
        &args.table,
        out,
        &checked,
        || checked.rows(),
        || checked.text(&loaded.capture, &args.source),
    )?;
    tell_damage(&loaded.capture);
    Ok(checked.outcome())
}

/// Checks the limits of a record's setup, or those of them that are named.
pub(crate) fn check(loaded: &Loaded, file: &Path, only: &[String], rule: Rule) -> Result<Checked, Failure> {
    let setup = setup_of(loaded, file)?;
    let capture = &loaded.capture;
    let matches = |limit: &BoundLimit, name: &str| {
        let (part, symbol) = (&limit.reference, &limit.limit.symbol);
        name == part || name == symbol || name.split_once('.') == Some((part.as_str(), symbol.as_str()))
    };
    for name in only {
        if !setup.limits().any(|l| matches(l, name)) {
            let known: Vec<String> =
                setup.limits().map(|l| format!("{}.{}", l.reference, l.limit.symbol)).collect();
            let error = Error::new(ErrorKind::Unknown, format!("--only: there is no limit or part '{name}'"));
            return Err(error.with_help(format!("there are: {}", known.join(", "))).into());
        }
    }
    if setup.limits().next().is_none() {
        let error = Error::new(ErrorKind::Setup, "the setup binds no limits, so there is nothing to check");
        let help = "add a section like: [[part]] with limits = \"parts/ex-mem8.toml\", reference = \"U5\" and its pins";
        return Err(error.with_help(help).into());
    }
    let wanted = setup.limits().filter(|l| only.is_empty() || only.iter().any(|name| matches(l, name)));
    let results = limit::check_all(capture, wanted, rule)?;
    let not_wired =
        setup.parts.iter().flat_map(|p| p.not_wired.iter().map(|s| format!("{}.{s}", p.reference)));
    Ok(Checked {
        file: file.display().to_string(),
        source: capture.origin().source.clone(),
        rate: capture.base().rate(),
        tick: capture.base().tick(),
        rule,
        history: capture.history().to_vec(),
        verdict: limit::overall(results.iter().map(|r| r.verdict)),
        results,
        not_wired: not_wired.collect(),
    })
}

impl Checked {
    pub(crate) fn outcome(&self) -> Outcome {
        outcome(self.verdict)
    }

    pub(crate) fn text(&self, capture: &Capture, source: &args::Source) -> String {
        let answer = answer(self.results.iter().map(|r| r.verdict));
        let kind = if capture.resolution().sampled {
            format!("{}, tick {}", self.rate, self.tick)
        } else {
            format!("exact, tick {}", self.tick)
        };
        let mut text = format!("{answer}          {}, {kind}\n", self.file);
        if self.rule == Rule::Measured {
            text.push_str("rule: the counted value is taken for the true one, without its uncertainty\n");
        }
        for step in &self.history {
            text.push_str(&format!("history: {step}\n"));
        }
        let mut grid = Grid::new(
            &["part", "limit", "what", "required", "worst", "at", "margin", "seen", "verdict"],
            &[4, 5, 6, 7],
        );
        for result in &self.results {
            let mark = mark(result.verdict);
            grid.row_with_mark(cells(capture.base().tick(), result), mark);
        }
        text.push_str(&format!("\n{}\n", grid.text()));
        if !self.not_wired.is_empty() {
            text.push_str(&format!("\nleft out, since a pin is not wired: {}\n", self.not_wired.join(", ")));
        }
        let mut notes: Vec<String> = self.results.iter().filter_map(explanation).collect();
        let never = self.results.iter().filter(|r| r.verdict == Verdict::NotSeen && r.counts.unpaired == 0);
        let never: Vec<String> = never.map(|r| format!("{}.{}", r.reference, r.symbol)).collect();
        if !never.is_empty() {
            notes.push(format!(
                "not seen, which is not a pass, since its events never occurred: {}",
                never.join(", ")
            ));
        }
        if !notes.is_empty() {
            text.push_str(&format!("\n{}\n", notes.join("\n")));
        }
        let advice = self.advice(capture, source);
        if !advice.is_empty() {
            text.push_str(&format!("\n{}\n", advice.join("\n")));
        }
        text
    }

    /// What to do next.
    fn advice(&self, capture: &Capture, source: &args::Source) -> Vec<String> {
        let mut lines = Vec::new();
        let setup = source.setup.as_ref().map_or(String::new(), |s| format!(" --setup {}", s.display()));
        if let Some(failed) = self.results.iter().find(|r| r.verdict == Verdict::Fail)
            && let Some(at) = failed.at
        {
            let at = at.rounded(capture.base().tick()).replace(' ', "");
            lines.push(format!("next: deep-tap show {}{setup} --around {at}", self.file));
        }
        let rates = self.results.iter().filter_map(|r| match r.decided {
            Some(Deciding::Rate(rate)) if !capture.origin().rates.is_empty() => Some(rate),
            _ => None,
        });
        if let (Some(rate), Some(own)) = (rates.max(), capture.attachments().first()) {
            let open: Vec<String> = self
                .results
                .iter()
                .filter(|r| matches!(r.decided, Some(Deciding::Rate(_))))
                .map(|r| format!("{}.{}", r.reference, r.symbol))
                .collect();
            let output =
                format!("{}.dtap", rate.to_string().replace(" S/s", "").replace("S/s", "").replace(' ', ""));
            // The capture knows its setup's name, not where it lies.
            let folder = if Path::new(&own.name).exists() { "" } else { "FOLDER/" };
            lines.push(format!(
                "next: deep-tap capture {folder}{} --rate '{rate}' --output {output}    decides {}",
                own.name,
                open.join(", ")
            ));
        }
        lines
    }

    fn rows(&self) -> Vec<Vec<String>> {
        let header = [
            "part",
            "limit",
            "what",
            "kind",
            "min_s",
            "max_s",
            "verdict",
            "worst_s",
            "worst_lo_s",
            "worst_hi_s",
            "at_s",
            "margin_s",
            "seen",
            "passed",
            "failed",
            "inconclusive",
            "unpaired",
            "smallest_s",
            "mean_s",
            "largest_s",
            "decided_at_S_per_s",
        ];
        let mut rows = vec![header.iter().map(ToString::to_string).collect()];
        let number = |time: Option<Time>| time.map_or(String::new(), |t| format!("{:e}", t.to_f64()));
        for r in &self.results {
            let decided = match r.decided {
                Some(Deciding::Rate(rate)) => format!("{:e}", rate.to_f64()),
                _ => String::new(),
            };
            rows.push(vec![
                r.reference.clone(),
                r.symbol.clone(),
                r.what.clone(),
                r.kind.to_string(),
                number(r.required.min),
                number(r.required.max),
                r.verdict.to_string().to_lowercase(),
                number(r.measured),
                number(r.bounds.map(|b| b.lo)),
                number(r.bounds.map(|b| b.hi)),
                number(r.at),
                number(r.margin),
                r.counts.seen.to_string(),
                r.counts.passed.to_string(),
                r.counts.failed.to_string(),
                r.counts.inconclusive.to_string(),
                r.counts.unpaired.to_string(),
                number(r.statistics.map(|s| s.min)),
                r.statistics.map_or(String::new(), |s| format!("{:e}", s.mean)),
                number(r.statistics.map(|s| s.max)),
                decided,
            ]);
        }
        rows
    }
}

/// What a program that asks learns from a verdict.
pub(crate) fn outcome(verdict: Verdict) -> Outcome {
    match verdict {
        Verdict::Fail => Outcome::Violated,
        Verdict::Pass => Outcome::Done,
        Verdict::Inconclusive | Verdict::NotSeen => Outcome::Open,
    }
}

/// How many limits have which verdict.
pub(crate) fn answer(verdicts: impl Iterator<Item = Verdict> + Clone) -> String {
    let count = |verdict| verdicts.clone().filter(|v| *v == verdict).count();
    let counts = [
        (count(Verdict::Fail), "violated"),
        (count(Verdict::Inconclusive), "inconclusive"),
        (count(Verdict::Pass), "passed"),
        (count(Verdict::NotSeen), "not seen"),
    ];
    let told: Vec<String> =
        counts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
    told.join(", ")
}

/// How a verdict is set off.
pub(crate) fn mark(verdict: Verdict) -> Mark {
    match verdict {
        Verdict::Fail => Mark::Bad,
        Verdict::Inconclusive | Verdict::NotSeen => Mark::Open,
        Verdict::Pass => Mark::None,
    }
}

/// A row of the verdict table.
pub(crate) fn cells(tick: Time, result: &LimitResult) -> Vec<String> {
    let dash = || "-".to_string();
    let worst = match (result.bounds, result.measured) {
        (Some(bounds), Some(measured)) => {
            let (lo, hi) = (bounds.lo, bounds.hi);
            let below = measured.to_f64() - lo.to_f64();
            let above = hi.to_f64() - measured.to_f64();
            if lo == hi {
                measured.to_string()
            } else if (above - below).abs() < above * 1e-3 {
                format!("{} ± {}", measured.rounded(tick), outward(above))
            } else {
                // The lower bound is held at zero, or several partners are possible.
                format!("{} .. {}", lo.rounded(tenth(tick)), hi.rounded(tenth(tick)))
            }
        }
        _ => dash(),
    };
    let at = result.at.map_or_else(dash, |at| signed(at, tick));
    vec![
        result.reference.clone(),
        result.symbol.clone(),
        result.what.clone(),
        result.required.to_string(),
        worst,
        at,
        result.margin.map_or_else(dash, |m| signed(m, tick)),
        result.counts.seen.to_string(),
        verdict_text(result),
    ]
}

fn verdict_text(result: &LimitResult) -> String {
    let counts = &result.counts;
    match result.verdict {
        Verdict::Pass => "pass".to_string(),
        Verdict::Fail => format!("FAIL ({} of {})", counts.failed, counts.seen),
        Verdict::NotSeen => "not seen".to_string(),
        Verdict::Inconclusive => match result.decided {
            Some(Deciding::Rate(rate)) => format!("inconclusive: {rate} decides it"),
            _ => "inconclusive".to_string(),
        },
    }
}

/// Why a limit has no plain answer, in a sentence.
fn explanation(result: &LimitResult) -> Option<String> {
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
                Some(Reason::HiddenPulses) => {
                    "all pulses seen pass, but shorter ones could hide between two samples"
                }
                Some(Reason::Composite) => {
                    "its events are of several parts, or frames, which a sampled record cannot prove; \
                     --rule measured takes them as they are seen"
                }
                Some(Reason::Occurrence(Doubt::Unknown)) => {
                    "a level is unknown (x, z, or lost) within the occurrence"
                }
                Some(Reason::Occurrence(Doubt::Order)) => "two edges are so close that their order is open",
                Some(Reason::Occurrence(Doubt::Resolution)) | None => "the limit lies within the uncertainty",
            };
            let rest = match result.decided {
                Some(Deciding::Rate(rate)) => format!("; decided from {rate} on"),
                Some(Deciding::Beyond { needed, fastest }) => {
                    let needed = needed.to_f64() / 1e6;
                    format!("; {needed:.0} MS/s would decide it, but the instrument ends at {fastest}")
                }
                Some(Deciding::Never) => {
                    "; no rate decides it: the value is on the limit, within the skew".to_string()
                }
                None => String::new(),
            };
            match result.reason {
                Some(Reason::Composite) => format!("inconclusive: {why}"),
                _ => format!("inconclusive in {} of {}: {why}{rest}", counts.inconclusive, counts.seen),
            }
        }
        Verdict::NotSeen | Verdict::Pass | Verdict::Fail => return None,
    };
    Some(format!("{}.{}: {text}", result.reference, result.symbol))
}

fn tenth(tick: Time) -> Time {
    let tenth = deep_tap::time::Rational::new(1, 10).and_then(|t| tick.to_rational().checked_mul(t));
    tenth.map_or(tick, Time::from_rational)
}

/// With its sign, and as many digits as the resolution supports.
fn signed(time: Time, resolution: Time) -> String {
    let text = time.rounded(resolution);
    if text.starts_with('-') { text } else { format!("+{text}") }
}

/// An uncertainty in seconds with three digits, rounded away from zero.
fn outward(seconds: f64) -> String {
    let units = [(1.0, "s"), (1e-3, "ms"), (1e-6, "us"), (1e-9, "ns"), (1e-12, "ps")];
    let (scale, unit) = units.into_iter().find(|(scale, _)| seconds >= *scale).unwrap_or((1e-15, "fs"));
    let value = seconds / scale;
    let step = if value >= 100.0 {
        1.0
    } else if value >= 10.0 {
        0.1
    } else {
        0.01
    };
    // A hair less before rounding up, so that 10 stays 10.
    let value = ((value / step) - 1e-6).ceil() * step;
    let text = format!("{value:.2}");
    format!("{} {unit}", text.trim_end_matches('0').trim_end_matches('.'))
}
