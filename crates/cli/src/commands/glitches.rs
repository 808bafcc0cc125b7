//! `glitches`: pulses that are too short to be meant.

use deep_tap::capture::Capture;
use deep_tap::measure::{self, Glitches};
use deep_tap::quantity::Time;
use deep_tap::time::Tick;
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::Document;
use crate::errors::Failure;
use crate::load::{load, parse_time, tell_damage};
use crate::next::{around, next, source_words, word};
use crate::output::{Grid, Out, Working, write_table};
use crate::words::counted;

/// What was found.
#[derive(Serialize)]
struct Found {
    file: String,
    below_s: Time,
    count: u64,
    lines: Vec<FoundLine>,
}

#[derive(Serialize)]
struct FoundLine {
    line: String,
    count: u64,
    first_at_s: Option<Time>,
    #[serde(skip)]
    first_tick: Option<Tick>,
    widths: Vec<Width>,
}

#[derive(Serialize)]
struct Width {
    width_s: Time,
    count: u64,
}

pub(crate) fn run(args: &args::Glitches, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let below = parse_time("below", &args.below)?;
    let lines = loaded.lines(&args.lines)?;
    let working = Working::on("looking for short pulses");
    let lines: Vec<Glitches> = lines.into_iter().map(|l| measure::glitches(capture, l, below)).collect();
    drop(working);
    let found = Found {
        file: args.source.file.display().to_string(),
        below_s: below,
        count: lines.iter().map(|l| l.count).sum(),
        lines: lines.iter().filter(|l| l.count > 0).map(|l| found(capture, l)).collect(),
    };
    let document = Document::new("glitches", &found);
    let text = || text(capture, &args.source, &found);
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.each(widths(&found)), text)?;
    tell_damage(capture);
    Ok(if found.count > 0 { Outcome::Done } else { Outcome::Violated })
}

fn found(capture: &Capture, glitches: &Glitches) -> FoundLine {
    let length = |ticks: u64| capture.base().length_of(i64::try_from(ticks).unwrap_or(i64::MAX));
    let widths =
        glitches.widths.iter().map(|(ticks, count)| Width { width_s: length(*ticks), count: *count });
    FoundLine {
        line: capture.line(glitches.line).name.clone(),
        count: glitches.count,
        first_at_s: glitches.first.map(|t| capture.base().time_of(t)),
        first_tick: glitches.first,
        widths: widths.collect(),
    }
}

/// A row of the table.
#[derive(Serialize)]
struct OfLine<'a> {
    line: &'a str,
    #[serde(flatten)]
    width: &'a Width,
}

const COLUMNS: &[&str] = &["line", "width_s", "count"];

fn widths(found: &Found) -> impl Iterator<Item = OfLine<'_>> {
    found.lines.iter().flat_map(|line| line.widths.iter().map(|width| OfLine { line: &line.line, width }))
}

fn text(capture: &Capture, source: &args::Source, found: &Found) -> String {
    let tick = capture.base().tick();
    let mut text =
        format!("{} shorter than {}          {}\n", counted(found.count, "pulse"), found.below_s, found.file);
    if found.count > 0 {
        let mut grid = Grid::new(&["line", "count", "first at", "widths as counted"], &[1, 2]);
        for line in &found.lines {
            let first = line.first_tick.map_or(String::new(), |t| capture.base().text_of(t));
            let widths = line.widths.iter().map(|w| format!("{}: {}", w.width_s.rounded(tick), w.count));
            grid.row(vec![
                line.line.clone(),
                line.count.to_string(),
                first,
                widths.collect::<Vec<_>>().join(", "),
            ]);
        }
        text.push_str(&format!("\n{}\n", grid.text()));
    }
    if capture.resolution().sampled {
        text.push_str(&format!(
            "\nwidths are known to {tick} either way; pulses shorter than that may not have been seen\n"
        ));
    }
    if let Some((line, first)) = found.lines.iter().find_map(|line| Some((line, line.first_tick?))) {
        let at = around(capture.base().text_of(first));
        let words = format!("{} {at} --lines {}", source_words(source), word(&line.line));
        text.push_str(&format!("\n{}\n", next("show", words)));
    }
    text
}
