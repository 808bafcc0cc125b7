//! `check`: the datasheet limits against captures.

mod all;
mod checked;
pub(crate) mod expectations;
mod junit;
mod occurrences;
mod over;
mod report;
mod table;

use std::path::PathBuf;

use deep_tap::known::Rule;

use crate::Outcome;
use crate::args;
use crate::contract::{Document, Rows};
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::output::{Out, Pending, Working, write_table};
pub(crate) use checked::{Checked, Told, answer, check, checked_limit, mark, outcome};
pub(crate) use junit::Suite;
use occurrences::Occurrences;
pub(crate) use over::Over;
pub(crate) use report::Of;
pub(crate) use report::Verdicts;
pub(crate) use table::{cells, explanation, narrow_cells, rate_worth_trying, verdict_text as outcome_text};

pub(crate) fn run(args: &args::Check, out: &mut Out) -> Result<Outcome, Failure> {
    let rule = match args.rule {
        args::Rule::Proven => Rule::Proven,
        args::Rule::Measured => Rule::Measured,
    };
    let source = |file: &PathBuf| args::Source {
        setup: args.setup.clone(),
        stated: args.stated.clone(),
        ..args::Source::of(file.clone())
    };
    // What cannot be written should be known before hours of checking.
    let junit = args.junit.as_deref().map(|path| Pending::create(path, args.table.replace)).transpose()?;
    let mut rows =
        args.occurrences.as_deref().map(|path| Occurrences::create(path, args.table.replace)).transpose()?;
    let mut over = Over::default();
    let mut suite = Suite::new();
    let mut single = None;
    let mut unwritten = None;
    for file in &args.files {
        let mut loaded = load(&source(file))?;
        loaded.try_limits(&args.tried)?;
        // What is tried is asked about, and not the rest.
        let only = if args.tried.is_empty() { &args.only[..] } else { &["board".to_string()] };
        let working = Working::on(format!("checking {}", file.display()));
        let mut checked = check(&loaded, file, only, rule)?;
        if let Some(writing) = &mut rows
            && let Err(failure) = writing.add(&loaded, file, only, rule)
        {
            unwritten = Some(failure);
            rows = None;
        }
        if args.all {
            checked.list(&loaded, only, rule)?;
        }
        drop(working);
        suite.add(&checked);
        tell_damage(&loaded.capture);
        if args.files.len() == 1 {
            single = Some((checked, loaded));
        } else {
            over.add(checked)?;
        }
    }
    let of = if args.all { Of::Violations } else { Of::Limits };
    let outcome = match &single {
        Some((checked, loaded)) => {
            let text = || checked.text(&loaded.capture, args.setup.as_deref());
            let verdicts = Verdicts::one(checked);
            let rows = |rows: &mut Rows| of.rows(std::slice::from_ref(checked), rows);
            write_table(&args.table, out, &Document::new("verdicts", &verdicts), of.columns(), rows, text)?;
            outcome(checked.verdict)
        }
        None => {
            let verdicts = Verdicts::of(rule, over.verdict(), &over.each, over.worst_rows());
            let rows = |rows: &mut Rows| of.rows(&over.each, rows);
            let document = Document::new("verdicts", &verdicts);
            write_table(&args.table, out, &document, of.columns(), rows, || over.text())?;
            over.outcome()
        }
    };
    // Whatever cannot be written, the verdicts were said.
    if let Some(failure) = unwritten {
        return Err(failure);
    }
    if let Some(mut file) = junit {
        suite.write(&mut file)?;
        file.finish()?;
    }
    if let Some(rows) = rows {
        rows.finish()?;
    }
    Ok(outcome)
}
