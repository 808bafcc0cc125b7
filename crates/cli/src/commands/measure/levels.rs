//! `measure --levels`: which voltages the lines of a setup have, by moving the thresholds.

use std::ops::ControlFlow;

use deep_tap::bench::connect_for;
use deep_tap::line::Threshold;
use deep_tap::quantity::{Rational, Voltage};
use deep_tap::setup::{RecordOptions, Setup, SetupLine, SweptLevel, SweptLine};
use serde::{Serialize, Serializer};

use crate::Outcome;
use crate::args::{self, Changes};
use crate::connect::{catch_interrupt, interrupted};
use crate::contract::Document;
use crate::contract::lines::{SWEEP_COLUMNS, SweepStep, SweptRow};
use crate::errors::Failure;
use crate::load::parse_time;
use crate::output::{Grid, Mark, Out, progress_bar, write_table};

/// What the sweep says.
#[derive(Serialize)]
struct Said {
    setup: String,
    lines: Vec<SaidLine>,
}

#[derive(Serialize)]
struct SaidLine {
    #[serde(flatten, serialize_with = "swept")]
    swept: SweptLine,
    threshold_v: Option<Voltage>,
    proposal_v: Option<Voltage>,
    #[serde(skip)]
    stated: String,
    #[serde(skip)]
    proposed: Option<Threshold>,
    /// Whether the present threshold lies in the middle third of what the line does.
    fits: Option<bool>,
}

pub(crate) fn run(args: &args::Measure, out: &mut Out) -> Result<Outcome, Failure> {
    let changes = Changes { rate: args.rate.clone(), ..Changes::default() };
    let setup = changes.to(Setup::from_file(&args.file)?)?;
    let over = parse_time("over", &args.over)?;
    let options = RecordOptions { now: true, made: None };
    let mut instrument = connect_for(&setup, &args.file)?;
    catch_interrupt();
    let bar = progress_bar();
    bar.set_length(u64::from(args.steps));
    let swept = setup.sweep_levels(&mut *instrument, options, over, args.steps, &mut |step| {
        bar.set_message("moving the thresholds");
        bar.set_position(u64::from(step));
        if interrupted() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    bar.finish_and_clear();
    let lines = setup.lines.iter().zip(swept?).map(|(line, swept)| said(line, swept)).collect();
    let said = Said { setup: args.file.display().to_string(), lines };
    let document = Document::new("levels", &said);
    let steps = || said.lines.iter().flat_map(|line| SweepStep::each(&line.swept));
    write_table(&args.table, out, &document, SWEEP_COLUMNS, |rows| rows.each(steps()), || text(&said))?;
    let off = said.lines.iter().any(|line| line.fits == Some(false));
    Ok(if off { Outcome::Open } else { Outcome::Done })
}

fn said(line: &SetupLine, swept: SweptLine) -> SaidLine {
    let proposed = swept.proposal();
    let threshold = line.line.threshold.map(Threshold::voltage);
    SaidLine {
        threshold_v: threshold,
        proposal_v: proposed.map(Threshold::voltage),
        stated: line.line.threshold.map_or("-".to_string(), |t| t.to_string()),
        proposed,
        fits: threshold
            .zip(middle_third(&swept))
            .map(|(threshold, (low, high))| (low..=high).contains(&threshold)),
        swept,
    }
}

/// The middle third of the voltages at which a line changes.
fn middle_third(swept: &SweptLine) -> Option<(Voltage, Voltage)> {
    let active = swept.edges.iter().filter(|(_, edges)| *edges > 0).map(|(threshold, _)| *threshold);
    let (low, high) = (active.clone().min()?.to_rational(), active.max()?.to_rational());
    let third = high.checked_sub(low)?.checked_mul(Rational::new(1, 3)?)?;
    let (from, to) = (low.checked_add(third)?, high.checked_sub(third)?);
    Some((Voltage::from_rational(from), Voltage::from_rational(to)))
}

/// A level between two thresholds.
fn level(level: SweptLevel) -> String {
    let volts = |v: Voltage| format!("{:.2}", v.to_f64());
    match (level.above, level.below) {
        (Some(above), Some(below)) => format!("{} .. {} V", volts(above), volts(below)),
        (None, Some(below)) => format!("below {} V", volts(below)),
        (Some(above), None) => format!("above {} V", volts(above)),
        (None, None) => "unknown".to_string(),
    }
}

fn swept<S: Serializer>(of: &SweptLine, serializer: S) -> Result<S::Ok, S::Error> {
    SweptRow::from(of).serialize(serializer)
}

fn text(said: &Said) -> String {
    let off: Vec<&SaidLine> = said.lines.iter().filter(|line| line.fits == Some(false)).collect();
    let silent = said.lines.iter().filter(|line| !line.swept.changes).count();
    let first = match off.len() {
        0 => "every stated threshold lies where its line changes".to_string(),
        1 => "1 threshold lies off the middle of what its line does".to_string(),
        n => format!("{n} thresholds lie off the middle of what their lines do"),
    };
    let mut text = format!("{first}          {}\n\n", said.setup);
    let mut grid = Grid::new(&["line", "low level", "high level", "threshold", "proposed"], &[]);
    for line in &said.lines {
        let (low, high) = if line.swept.changes {
            (level(line.swept.low), level(line.swept.high))
        } else {
            let steady = format!("steady, {}", level(line.swept.low));
            (steady, "-".to_string())
        };
        let mark = if line.fits == Some(false) { Mark::Open } else { Mark::None };
        let proposed = match (line.proposed, line.fits) {
            (None, _) => "-".to_string(),
            (Some(_), Some(true)) => "as it is".to_string(),
            (Some(proposed), _) => proposed.to_string(),
        };
        grid.row_with_mark(vec![line.swept.name.clone(), low, high, line.stated.clone(), proposed], mark);
    }
    text.push_str(&format!("{}\n", grid.text()));
    if silent > 0 {
        let lines = if silent == 1 { "line" } else { "lines" };
        text.push_str(&format!(
            "\n{silent} {lines} never changed at any threshold: a steady line shows only on which side of a \
             threshold it lies\n"
        ));
    }
    for line in off {
        if let Some(proposed) = line.proposed {
            text.push_str(&format!("\nwrite for {}: threshold = \"{proposed}\"", line.swept.name));
        }
    }
    if text.ends_with('"') {
        text.push('\n');
    }
    text
}
