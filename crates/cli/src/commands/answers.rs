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
use crate::errors::Failure;
use crate::load::{load, parse_time, tell_damage};
use crate::output::{Out, write_table};
use deep_tap::quantity::estimate;

/// What was found, as JSON has it: times in seconds.
#[derive(Serialize)]
struct Found<'a> {
    file: String,
    request: &'a str,
    answer: &'a str,
    within: Option<Time>,
    requests: u64,
    answered: u64,
    shortest: Option<Took>,
    mean: Option<Estimate>,
    longest: Option<Took>,
    /// The instants of requests without an answer, up to a thousand.
    missing: Vec<Time>,
}

/// How long one answer took, and what is known of that.
#[derive(Serialize)]
struct Took {
    request_at: Option<Time>,
    took: Time,
    from: Time,
    to: Option<Time>,
}

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
    write_table(&args.table, out, &found, || rows(&found), || text(capture, &seen, &found))?;
    tell_damage(capture);
    Ok(if seen.requests == 0 || seen.answered() < seen.requests { Outcome::Violated } else { Outcome::Done })
}

fn compiled(option: &str, text: &str, scope: &Scope, capture: &Capture) -> Result<TimedProgram, Failure> {
    let program = Program::compile(text, scope)?.at(capture.base());
    Ok(program.map_err(|error| error.about(format!("--{option}")))?)
}

fn found<'a>(args: &'a args::Answers, capture: &Capture, seen: &Answers, within: Option<Time>) -> Found<'a> {
    let base = capture.base();
    let took = |measure: Measure| Took {
        request_at: measure.at,
        took: measure.value,
        from: measure.bounds.lo,
        to: measure.bounds.hi,
    };
    Found {
        file: args.source.file.display().to_string(),
        request: &args.request,
        answer: &args.answer,
        within,
        requests: seen.requests,
        answered: seen.answered(),
        shortest: seen.took.min().map(took),
        mean: seen.took.mean(),
        longest: seen.took.max().map(took),
        missing: seen.missing.iter().map(|tick| base.time_of(*tick)).collect(),
    }
}

fn rows(found: &Found<'_>) -> Vec<Vec<String>> {
    let head =
        ["requests", "answered", "shortest_s", "mean_s", "longest_s", "longest_from_s", "longest_to_s"];
    let seconds = |time: Option<Time>| time.map_or(String::new(), |time| format!("{:e}", time.to_f64()));
    let row = vec![
        found.requests.to_string(),
        found.answered.to_string(),
        seconds(found.shortest.as_ref().map(|took| took.took)),
        found.mean.map_or(String::new(), |mean| format!("{:e}", mean.value)),
        seconds(found.longest.as_ref().map(|took| took.took)),
        seconds(found.longest.as_ref().map(|took| took.from)),
        seconds(found.longest.as_ref().and_then(|took| took.to)),
    ];
    vec![head.map(str::to_string).to_vec(), row]
}

/// Missing answers that are listed.
const MOST_LISTED: usize = 10;

fn text(capture: &Capture, seen: &Answers, found: &Found<'_>) -> String {
    let tick = capture.base().tick();
    let mut text =
        format!("{} requests, {} answered          {}\n", found.requests, found.answered, found.file);
    for (name, took) in [("soonest", &found.shortest), ("latest", &found.longest)] {
        let Some(took) = took else { continue };
        let known = match took.to {
            Some(to) if took.from == to => String::new(),
            Some(to) => format!(", {} to {}", took.from.rounded(tick), to.rounded(tick)),
            None => format!(", {} or more", took.from.rounded(tick)),
        };
        let asked = took.request_at.map_or(String::new(), |at| at.rounded(tick));
        text.push_str(&format!("{name:<10}{}{known}, asked at {asked}\n", took.took.rounded(tick)));
    }
    if let Some(mean) = found.mean {
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
