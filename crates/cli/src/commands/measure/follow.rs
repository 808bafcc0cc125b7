//! Each value that was asked for, and what showed.

use deep_tap::draw::TransferCurve;
use deep_tap::expect::{Detail, DeviationKind, Expected, FollowResult, FollowTarget, FollowedValue};
use deep_tap::job::Job;
use deep_tap::limit::Verdict;
use deep_tap::quantity::{Quantity, Rational, Time, signed, uncertain};
use deep_tap::{Error, ErrorKind, suggest};
use serde::Serialize;

use crate::args;
use crate::contract::expectations::deviation_kind;
use crate::contract::limits::verdict;
use crate::contract::measures::Interval;
use crate::contract::{Document, Rows};
use crate::errors::Failure;
use crate::output::{Grid, Mark, Out, write_table};
use crate::picture;

/// Width of the picture.
const WIDTH: u32 = 900;
/// Most lines of the text.
const MOST_LINES: usize = 40;

/// What followed what.
#[derive(Serialize)]
struct Said<'a> {
    file: String,
    name: &'a str,
    verdict: &'static str,
    /// The unit of what is expected and found: `V`, or nothing.
    unit: &'static str,
    at_least_s: Option<Time>,
    within_s: Option<Time>,
    shortest_s: Option<Interval>,
    longest_s: Option<Interval>,
    values: Vec<Row>,
}

/// One value.
#[derive(Serialize)]
struct Row {
    asked_at_s: Option<Time>,
    asked: Option<u64>,
    expected: Option<f64>,
    found: Option<f64>,
    at_s: Option<Time>,
    took_s: Option<f64>,
    took_lo_s: Option<f64>,
    took_hi_s: Option<f64>,
    verdict: &'static str,
    deviation: Option<&'static str>,
}

const COLUMNS: &[&str] = &[
    "asked_at_s",
    "asked",
    "expected",
    "found",
    "at_s",
    "took_s",
    "took_lo_s",
    "took_hi_s",
    "verdict",
    "deviation",
];

impl From<&FollowedValue> for Row {
    fn from(of: &FollowedValue) -> Self {
        let number = |value: Option<Rational>| value.map(Rational::to_f64);
        let took = of.took;
        Row {
            asked_at_s: of.asked_at,
            asked: of.asked,
            expected: number(of.expected),
            found: number(of.found),
            at_s: of.at,
            took_s: took.map(|took| took.value.to_f64()),
            took_lo_s: took.map(|took| took.bounds.lo.to_f64()),
            took_hi_s: took.and_then(|took| took.bounds.hi).map(Time::to_f64),
            verdict: verdict(of.verdict),
            deviation: of.kind.map(deviation_kind),
        }
    }
}

/// Lists the values of a section `[[follow]]`, and draws them where that is asked for.
pub(super) fn run(args: &args::Measure, loaded: &Job, name: &str, out: &mut Out) -> Result<(), Failure> {
    let setup = loaded.setup()?;
    let all = || setup.expectations.iter().filter(|expected| matches!(expected.what, Expected::Follow(_)));
    let Some(expectation) = all().find(|expected| expected.name == name) else {
        let known = all().map(|expected| expected.name.as_str());
        let error = Error::new(ErrorKind::Unknown, format!("--follow: no [[follow]] is called '{name}'"));
        return Err(error.with_help(suggest(name, known, "[[follow]]")).into());
    };
    let met = expectation.check(&loaded.capture)?;
    let (Detail::Follow(result), Expected::Follow(follow)) = (&met.found, &expectation.what) else {
        return Ok(());
    };
    let tolerance = match follow.to {
        FollowTarget::Voltage(_, tolerance) => Some(tolerance),
        _ => None,
    };
    if let Some(path) = &args.picture {
        let title = format!("{}: {name}", args.file.display());
        let curve = TransferCurve::of(result, tolerance);
        picture::save(&curve.draw(&title, WIDTH), path, args.ground, args.table.replace)?;
    }
    let said = Said {
        file: args.file.display().to_string(),
        name,
        verdict: verdict(met.verdict),
        unit: if result.is_voltage { "V" } else { "" },
        at_least_s: follow.at_least,
        within_s: Some(follow.within),
        shortest_s: result.took.map(|(shortest, _)| shortest.into()),
        longest_s: result.took.map(|(_, longest)| longest.into()),
        values: result.values.iter().map(Row::from).collect(),
    };
    let document = Document::new("followed", &said);
    let rows = |rows: &mut Rows| rows.each(&said.values);
    write_table(&args.table, out, &document, COLUMNS, rows, || text(&said, met.verdict, result, loaded))
}

fn text(said: &Said<'_>, verdict: Verdict, result: &FollowResult, loaded: &Job) -> String {
    let tick = loaded.capture.base().tick();
    let counts = result.judged.counts;
    let took = result.took.map_or(String::new(), |(shortest, longest)| {
        let length = |measure: deep_tap::measure::Measure| {
            uncertain(Quantity::Time(measure.value), measure.bounds.map(Quantity::Time), tick)
        };
        format!("took {} to {}, required {}\n", length(shortest), length(longest), result.required)
    });
    let mut text = format!(
        "{}: {verdict}, {} values asked for, {} as expected          {}\n{took}",
        said.name, counts.seen, counts.passed, said.file
    );
    let mut grid =
        Grid::new(&["asked at", "asked", "expected", "found", "at", "took", "verdict"], &[0, 1, 2, 3, 4, 5]);
    let order = |value: &&FollowedValue| value.verdict == Verdict::Fail;
    // What is wrong comes first; the others as many as fit.
    let wrong = result.values.iter().filter(order);
    let right = result.values.iter().filter(|value| !order(value));
    let shown: Vec<&FollowedValue> = wrong.chain(right).take(MOST_LINES).collect();
    for value in &shown {
        let at = |at: Option<Time>| at.map_or("-".to_string(), |at| signed(at.into(), tick.into()));
        let number = |value: Option<Rational>| value.map_or("-".to_string(), |value| result.show(value));
        let took = value.took.map_or("-".to_string(), |took| took.value.rounded(tick));
        let mark = if value.verdict == Verdict::Fail { Mark::Bad } else { Mark::None };
        let verdict = match (value.verdict, value.kind) {
            (Verdict::NotSeen, _) => "cut off".to_string(),
            (verdict, Some(kind)) => format!("{verdict}: {}", words(kind)),
            (verdict, None) => verdict.to_string(),
        };
        grid.row_with_mark(
            vec![
                at(value.asked_at),
                value.asked.map_or("-".to_string(), |asked| format!("0x{asked:02X}")),
                number(value.expected),
                number(value.found),
                at(value.at),
                took,
                verdict,
            ],
            mark,
        );
    }
    text.push_str(&format!("\n{}\n", grid.text()));
    let more = result.values.len() - shown.len();
    if more > 0 {
        text.push_str(&format!(
            "  and {more} more, none of which fails; --format csv has every single one\n"
        ));
    }
    text
}

fn words(kind: DeviationKind) -> &'static str {
    match kind {
        DeviationKind::Differs => "another value",
        DeviationKind::Missing => "did not show",
        DeviationKind::TooMuch => "not asked for",
        DeviationKind::Pause => "not in time",
        _ => "not certain",
    }
}
