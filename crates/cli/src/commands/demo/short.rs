//! The story in three screens: what fails, what this rate cannot tell, and what it turns out to be.

use deep_tap::compare::{CompareOptions, compare};
use deep_tap::known::Rule;
use deep_tap::limit::{LimitResult, Verdict};

use super::Demo;
use crate::args;
use crate::commands::check::{Checked, answer, check, mark, narrow_cells, rate_worth_trying};
use crate::commands::compare::{Both, items};
use crate::commands::show;
use crate::errors::Failure;
use crate::next::{next, path_word, word};
use crate::output::{Grid, Out, wrapped};
use crate::words::counted;

/// Columns that fit any terminal, and those of a picture within the indent.
const WIDTH: usize = 76;
/// The violation that is drawn, and the lines that show it.
const DRAWN: &str = "U3.tCO";
const LINES: &str = "ADC_CS_N,ADC_SCLK,ADC_MISO";

pub(super) fn tell(demo: &mut Demo<'_>) -> Result<(), Failure> {
    demo.out.line(
        "A prototype is on the bench: the main board of an ocean tide-gauge buoy. It is\n\
         made up and simulated, and misbehaves as real boards do.",
    )?;
    let slow = demo.path("tide-gauge.dtap");
    let setup = path_word(&demo.path("setups/tide-gauge.toml"));
    demo.out.line("\nIts first power-up, recorded and checked against the datasheets of its parts:\n")?;
    demo.record("setups/tide-gauge.toml", None, "tide-gauge.dtap")?;
    demo.command(&format!("capture {setup} --output {}", path_word(&slow)))?;
    demo.command(&format!("check {}", path_word(&slow)))?;
    let job = demo.load("tide-gauge.dtap")?;
    let checked = check(&job, &slow, &[], Rule::Proven)?;
    let told = answer(checked.results.iter().map(|result| result.verdict));
    demo.body(&format!("{told}\n"))?;
    demo.out.line("")?;
    let tick = job.capture.base().tick();
    let open = |result: &&LimitResult| matches!(result.verdict, Verdict::Fail | Verdict::Inconclusive);
    let mut rows: Vec<&LimitResult> = checked.results.iter().filter(open).collect();
    rows.sort_by_key(|result| result.verdict == Verdict::Inconclusive);
    demo.body(&table(&rows, tick))?;
    draw(demo)?;
    decide(demo, &checked)?;
    against_rest(demo)?;
    let page = demo.report(&["at-rest.dtap", "tide-gauge.dtap"], "tide-gauge.html")?;
    demo.out.line(format!("\nAll of it on one page, to hand over: {}\n", page.display()))?;
    demo.out.line(next(
        "view",
        format!("{}    to look around in it: 'v' lists the verdicts", path_word(&slow)),
    ))?;
    let full = format!(
        "{} --full --replace    for the voltage behind it, and everything that talks",
        path_word(demo.folder)
    );
    demo.out.line(next("demo", full))
}

/// What did not pass, in a row each.
fn table(rows: &[&LimitResult], tick: deep_tap::quantity::Time) -> String {
    let mut grid = Grid::new(&["limit", "required", "worst", "at", "verdict"], &[2, 3]);
    for result in rows {
        let (cells, _) = narrow_cells(tick, result);
        grid.row_with_remark(cells, mark(result.verdict), &result.what);
    }
    grid.text()
}

/// The clearest violation as waveforms.
fn draw(demo: &mut Demo<'_>) -> Result<(), Failure> {
    let path = demo.path("tide-gauge.dtap");
    demo.out
        .line(format!("\n{DRAWN}, drawn: the converter's data bit comes after the clock that takes it.\n"))?;
    demo.command(&format!("show {} --limit {DRAWN} --lines {LINES}", path_word(&path)))?;
    let wanted = args::Show {
        lines: LINES.split(',').map(str::to_string).collect(),
        limit: vec![DRAWN.to_string()],
        width: Some(WIDTH),
        ..args::Show::of(args::Source::of(path))
    };
    let mut drawn = Out::buffer();
    show::run(&wanted, &mut drawn)?;
    demo.body(&drawn.into_text())
}

/// What was open, at the rate that the table named.
fn decide(demo: &mut Demo<'_>, checked: &Checked) -> Result<(), Failure> {
    let Some(rate) = checked.results.iter().filter_map(rate_worth_trying).max() else { return Ok(()) };
    let open = checked.results.iter().filter(|result| rate_worth_trying(result).is_some());
    let open: Vec<String> = open.map(LimitResult::name).collect();
    demo.out.line(format!("\n{} are open at this rate; {rate} is worth trying:\n", open.join(", ")))?;
    demo.record("setups/tide-gauge.toml", Some(&rate.to_string()), "tide-gauge-faster.dtap")?;
    let (setup, path) =
        (path_word(&demo.path("setups/tide-gauge.toml")), demo.path("tide-gauge-faster.dtap"));
    let rate = word(&rate.to_string());
    demo.command(&format!("capture {setup} --rate {rate} --output {}", path_word(&path)))?;
    demo.command(&format!("check {} --only {}", path_word(&path), open.join(",")))?;
    let job = demo.load("tide-gauge-faster.dtap")?;
    let decided = check(&job, &path, &open, Rule::Proven)?;
    let rows: Vec<&LimitResult> = decided.results.iter().collect();
    demo.body(&table(&rows, job.capture.base().tick()))?;
    let found = decided.results.iter().find(|result| result.verdict == Verdict::Fail);
    let Some(found) = found else { return Ok(()) };
    let told = format!(
        "What could not be told from a good one is a violation, {} in {}: {} is the one that would have lost \
         data in the field.",
        if found.counts.failed == 1 { "once".to_string() } else { counted(found.counts.failed, "time") },
        found.counts.seen,
        found.name()
    );
    demo.out.line(format!("\n{}", wrapped(&told, "").trim_end()))
}

/// The same board without load.
fn against_rest(demo: &mut Demo<'_>) -> Result<(), Failure> {
    demo.record("setups/at-rest.toml", None, "at-rest.dtap")?;
    let (a, b) = (demo.load("at-rest.dtap")?, demo.load("tide-gauge.dtap")?);
    let found = compare(&a, &b, &CompareOptions::default())?;
    let differing: Vec<String> = items(&Both { a: &a, b: &b, found: &found })
        .into_iter()
        .filter(|item| item.differs && item.kind == "limit")
        .map(|item| item.name)
        .collect();
    demo.out.line("\nAt rest, without the load, what differs?\n")?;
    let (rest, load) = (path_word(&demo.path("at-rest.dtap")), path_word(&demo.path("tide-gauge.dtap")));
    demo.command(&format!("compare {rest} {load}"))?;
    demo.body(&format!("differences: {}; limits: {}", found.differences(), differing.join(", ")))
}
