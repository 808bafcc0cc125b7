//! `answers`: requests, what answers them, how soon, and which have no answer.

use deep_tap::capture::Capture;
use deep_tap::event::{Program, Scope, TimedProgram};
use deep_tap::measure::{self, Answers, Measure};
use deep_tap::quantity::Estimate;
use deep_tap::quantity::Time;
use deep_tap::{Error, ErrorKind};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::{self, Document};
use crate::errors::Failure;
use crate::load::{load, parse_time, tell_damage};
use crate::output::{Out, write_table};
use deep_tap::quantity::estimate;

/// What was found.
#[derive(Serialize)]
struct Found<'a> {
    file: String,
    request: &'a str,
    answer: &'a str,
    within_s: Option<Time>,
    requests: u64,
    answered: u64,
    #[serde(serialize_with = "contract::measures::some")]
    shortest_s: Option<Measure>,
    mean_s: Option<Estimate>,
    #[serde(serialize_with = "contract::measures::some")]
    longest_s: Option<Measure>,
    /// The instants of requests without an answer, up to a thousand.
    missing_at_s: Vec<Time>,
}

const COLUMNS: &[&str] = &[
    "file",
    "request",
    "answer",
    "within_s",
    "requests",
    "answered",
    "shortest_s.value",
    "mean_s.value",
    "longest_s.value",
    "longest_s.lo",
    "longest_s.hi",
    "longest_s.at_s",
];

pub(crate) fn run(args: &args::Answers, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let scope = loaded.scope();
    let request = compiled("request", &args.request, &scope, capture)?;
    let answer = compiled("answer", &args.answer, &scope, capture)?;
    let within = args.within.as_deref().map(|text| parse_time("within", text)).transpose()?;
    if within.is_some_and(|within| within <= Time::ZERO) {
        let error = Error::new(ErrorKind::Quantity, "--within: nothing is answered before it is asked");
        return Err(error.with_help("give a time above zero, such as '350 us'").into());
    }
    let seen = measure::answers(capture, &request, &answer, within);
    let found = found(args, capture, &seen, within);
    let document = Document::new("answers", &found);
    let text = || text(capture, &seen, &found);
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.row(&found), text)?;
    tell_damage(capture);
    Ok(if seen.requests == 0 || seen.answered() < seen.requests { Outcome::Violated } else { Outcome::Done })
}

fn compiled(option: &str, text: &str, scope: &Scope, capture: &Capture) -> Result<TimedProgram, Failure> {
    let program = Program::compile(text, scope)?.at(capture.base());
    Ok(program.map_err(|error| error.about(format!("--{option}")))?)
}

fn found<'a>(args: &'a args::Answers, capture: &Capture, seen: &Answers, within: Option<Time>) -> Found<'a> {
    let base = capture.base();
    Found {
        file: args.source.file.display().to_string(),
        request: &args.request,
        answer: &args.answer,
        within_s: within,
        requests: seen.requests,
        answered: seen.answered(),
        shortest_s: seen.took.min(),
        mean_s: seen.took.mean(),
        longest_s: seen.took.max(),
        missing_at_s: seen.missing.iter().map(|tick| base.time_of(*tick)).collect(),
    }
}

/// Missing answers that are listed.
const MOST_LISTED: usize = 10;

fn text(capture: &Capture, seen: &Answers, found: &Found<'_>) -> String {
    let tick = capture.base().tick();
    let mut text =
        format!("{} requests, {} answered          {}\n", found.requests, found.answered, found.file);
    for (name, took) in [("soonest", found.shortest_s), ("latest", found.longest_s)] {
        let Some(took) = took else { continue };
        let from = took.bounds.lo;
        let known = match took.bounds.hi {
            Some(to) if from == to => String::new(),
            Some(to) => format!(", {} to {}", from.rounded(tick), to.rounded(tick)),
            None => format!(", {} or more", from.rounded(tick)),
        };
        let asked = took.at.map_or(String::new(), |at| at.rounded(tick));
        text.push_str(&format!("{name:<10}{}{known}, asked at {asked}\n", took.value.rounded(tick)));
    }
    if let Some(mean) = found.mean_s {
        text.push_str(&format!("{:<10}{}\n", "mean", estimate(mean, "s")));
    }
    if !seen.missing.is_empty() {
        text.push_str("\nwithout an answer, asked at:\n");
        for at in seen.missing.iter().take(MOST_LISTED) {
            text.push_str(&format!("  {}\n", capture.base().text_of(*at)));
        }
        if seen.missing.len() > MOST_LISTED {
            text.push_str("  … JSON has more of them\n");
        }
    }
    text
}
