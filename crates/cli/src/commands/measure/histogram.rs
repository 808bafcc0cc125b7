//! Histograms: of intervals, and of the values of a limit with the limit drawn in.

use std::path::Path;

use deep_tap::draw::{Drawing, Histogram};
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{self, LimitResult, Reason};
use deep_tap::quantity::Rational;
use deep_tap::quantity::Unit;
use deep_tap::{Error, ErrorKind};
use serde::{Serialize, Serializer};

use super::series::Series;
use crate::args;
use crate::commands::check::{checked_limit, outcome_text};
use crate::contract::limits::ResultRow;
use crate::contract::{self, Document, Rows, histograms};
use crate::errors::Failure;
use crate::output::{Grid, Out, write_table};
use crate::picture;

/// Most bins of a histogram.
const MOST_BINS: usize = 40;
/// Width of its picture.
const WIDTH: u32 = 900;

/// The values of a limit, in its unit.
#[derive(Serialize)]
struct Said {
    file: String,
    #[serde(flatten, serialize_with = "row")]
    result: LimitResult,
    percentile_1: Option<f64>,
    percentile_50: Option<f64>,
    percentile_99: Option<f64>,
    deviation: Option<f64>,
    #[serde(serialize_with = "contract::histograms::one")]
    histogram: Histogram,
}

/// Saves the histograms of several series, one below the other: of a line, those of its pulses and of its periods.
pub(super) fn save(args: &args::Measure, path: &Path, all: &[Series]) -> Result<(), Failure> {
    let drawn = |series: &Series| {
        let line = args.lines.first().map_or(String::new(), |line| format!("{line} "));
        let title = format!("{}: {line}{}", args.file.display(), series.what);
        series.histogram.as_ref().map(|histogram| histogram.draw(&title, WIDTH))
    };
    let drawings: Vec<Drawing> = all.iter().filter_map(drawn).collect();
    if drawings.is_empty() {
        let error = Error::new(ErrorKind::Unknown, "there are no intervals to make a picture of");
        return Err(error.with_help("look with deep-tap show at what the lines do").into());
    }
    picture::save(&Drawing::stacked(drawings), path, args.ground, args.table.replace)
}

/// The values of a limit.
pub(super) fn of_limit(args: &args::Measure, loaded: &Job, name: &str, out: &mut Out) -> Result<(), Failure> {
    let capture = &loaded.capture;
    let (bound, result) = checked_limit(loaded, name)?;
    let all = limit::values(capture, bound, Rule::Proven, 0)?;
    let (values, step) = (&all.distribution, all.step);
    let histogram = Histogram::of_limit(&all, &result.required, MOST_BINS);
    let in_unit = |count: f64| {
        let share = if result.unit == Unit::Percent { 100.0 } else { 1.0 };
        count * step.to_f64() * share
    };
    let percentile = |percent| values.percentile(percent).map(|count| in_unit(count as f64));
    let said = Said {
        file: args.file.display().to_string(),
        percentile_1: percentile(1.0),
        percentile_50: percentile(50.0),
        percentile_99: percentile(99.0),
        deviation: values.deviation().map(in_unit),
        histogram,
        result,
    };
    if let Some(path) = &args.picture {
        let title = format!(
            "{}: {} of {}, {}",
            said.file, said.result.symbol, said.result.reference, said.result.what
        );
        picture::save(&said.histogram.draw(&title, WIDTH), path, args.ground, args.table.replace)?;
    }
    let document = Document::new("limit-values", &said);
    let rows = |rows: &mut Rows| rows.each(histograms::rows(&said.histogram));
    write_table(&args.table, out, &document, histograms::COLUMNS, rows, || text(args, loaded, &said))
}

fn text(args: &args::Measure, loaded: &Job, said: &Said) -> String {
    let result = &said.result;
    let mut text = format!(
        "{}.{}, {}: {}          {}\n\n",
        result.reference,
        result.symbol,
        result.what,
        outcome_text(result),
        args.file.display()
    );
    let tick = loaded.capture.base().tick();
    let digits = |value: deep_tap::quantity::Quantity| match result.unit {
        Unit::Time => value.rounded(tick.into()),
        unit => value.rounded(unit.of(Rational::new(1, 1000).unwrap_or(Rational::ZERO))),
    };
    let Some(statistics) = result.statistics else {
        text.push_str(match result.reason {
            Some(Reason::TooSlow | Reason::NotShown) => "a record like this cannot show its events\n",
            _ => "its events never occurred\n",
        });
        return text;
    };
    let value = |number: Option<f64>| {
        number.map_or("-".to_string(), |number| {
            let scaled = if result.unit == Unit::Percent { number / 100.0 } else { number };
            Rational::new((scaled * 1e15).round() as i128, 10i128.pow(15))
                .map_or("-".to_string(), |number| digits(result.unit.of(number)))
        })
    };
    let mut grid = Grid::new(
        &[
            "required",
            "typical",
            "seen",
            "smallest",
            "mean",
            "largest",
            "std. deviation",
            "1 %",
            "50 %",
            "99 %",
        ],
        &[2, 3, 4, 5, 6, 7, 8, 9],
    );
    grid.row(vec![
        result.required.to_string(),
        result.typical.map_or("-".to_string(), |typical| typical.to_string()),
        result.counts.seen.to_string(),
        digits(statistics.min),
        value(Some(statistics.mean)),
        digits(statistics.max),
        value(said.deviation),
        value(said.percentile_1),
        value(said.percentile_50),
        value(said.percentile_99),
    ]);
    text.push_str(&format!("{}\n", grid.text()));
    if args.histogram {
        text.push_str(&format!("\n{}", said.histogram));
    }
    text
}

fn row<S: Serializer>(of: &LimitResult, serializer: S) -> Result<S::Ok, S::Error> {
    ResultRow::from(of).serialize(serializer)
}
