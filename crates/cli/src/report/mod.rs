//! `report`: records, their verdicts and what stands behind them, as one page to hand over.

mod chapter;
mod differences;
mod figure;
mod limits;
mod matrix;
mod page;
mod said;
mod talk;
mod waves;

use std::path::{Path, PathBuf};

use askama::Template;
use deep_tap::limit::overall;
use deep_tap::{Error, ErrorKind, Place, printable_lines};

use crate::Outcome;
use crate::args;
use crate::commands::check::answer;
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::next::{LOOK_AROUND, next, path_word, source_words, typed, word};
use crate::output::{Out, Pending, Working};
use crate::words::counted;
use chapter::Chapter;
use differences::Differences;
use figure::Budget;
use page::{Page, Shown};
use said::Tone;

/// Bytes that the pictures of a page take at most, all together.
const MOST_PICTURED: usize = 5_000_000;
/// Those of what differs between two records, besides.
const MOST_COMPARED: usize = 1_500_000;
/// Rows of violations, over all limits of all records.
const MOST_ROWS: usize = 8000;
/// Violations that are drawn, over all records.
const MOST_DRAWN: usize = 50;

pub(crate) fn run(args: &args::Report, out: &mut Out) -> Result<Outcome, Failure> {
    let target = args.output.clone().unwrap_or_else(|| default_name(&args.files));
    // What cannot be written should be known before hours of checking.
    let to_file = target.as_os_str() != "-";
    let pending = to_file.then(|| Pending::create(&target, args.replace)).transpose()?;
    let text = page(args)?;
    let Some(mut file) = pending else {
        out.writer().write_all(text.1.as_bytes())?;
        return Ok(Outcome::Done);
    };
    file.write(text.1.as_bytes())?;
    file.finish()?;
    out.line(text.0)?;
    let size = text.1.len() as f64 / 1e6;
    out.line(format!("saved to {} ({size:.1} MB, opens in any browser)", target.display()))?;
    if let Some(first) = args.files.first() {
        out.line(format!("\n{}", next(LOOK_AROUND, path_word(first))))?;
    }
    Ok(Outcome::Done)
}

/// The name of one record with another ending; of several, a name of its own.
fn default_name(files: &[PathBuf]) -> PathBuf {
    match files {
        [one] if one.as_os_str() != "-" => {
            PathBuf::from(one.with_extension("html").file_name().unwrap_or_default())
        }
        _ => PathBuf::from("report.html"),
    }
}

/// The answer, and the page.
fn page(args: &args::Report) -> Result<(String, String), Failure> {
    let files = args.files.len().max(1);
    let mut budget =
        Budget { bytes: MOST_PICTURED / files, violations: MOST_DRAWN / files, rows: MOST_ROWS / files };
    let share = budget;
    let (mut records, mut jobs) = (Vec::new(), Vec::new());
    for (number, file) in args.files.iter().enumerate() {
        let source = args::Source {
            setup: args.setup.clone(),
            stated: args.stated.clone(),
            ..args::Source::of(file.clone())
        };
        let job = load(&source)?;
        let working = Working::on(format!("checking and drawing {}", file.display()));
        let chapter = Chapter::of(&job, &source, number, &mut budget);
        drop(working);
        tell_damage(&job.capture);
        records.push(chapter?);
        budget = share;
        // Two are compared; of more, none is kept.
        jobs.extend(Some(job).filter(|_| args.files.len() == 2));
    }
    let working = Working::on("comparing");
    let mut room = Budget { bytes: MOST_COMPARED, violations: 0, rows: 0 };
    let differences = match jobs.as_slice() {
        [a, b] => Some(Differences::of(a, b, (&records[0].name, &records[1].name), &mut room)?),
        _ => None,
    };
    drop(working);
    let verdicts: Vec<_> = records.iter().flat_map(Chapter::verdicts).collect();
    let answer = match verdicts.is_empty() {
        true => "nothing was asked of these records: their setups bind no limits".to_string(),
        false => answer(verdicts.iter().copied()),
    };
    let title = args.title.clone().unwrap_or_else(|| title(&records));
    let overall = (!verdicts.is_empty()).then(|| overall(verdicts));
    let shown =
        Shown { title, tone: Tone::of_overall(overall), answer: answer.clone(), command: reproduce(args) };
    let page = Page::new(shown, records, differences);
    let text = page.render().map_err(|error| {
        let target = Place::File(Path::new("report").to_path_buf());
        Failure::from(Error::new(ErrorKind::Io, "the page cannot be written").with_source(error).at(target))
    })?;
    Ok((answer, printable_lines(&text).into_owned()))
}

/// What all records are about; their names where that is nothing common.
fn title(records: &[Chapter]) -> String {
    match records {
        [first, rest @ ..] if rest.iter().all(|other| other.title == first.title) => first.title.clone(),
        _ => counted(records.len(), "record"),
    }
}

/// The command that makes the same page.
fn reproduce(args: &args::Report) -> String {
    let mut files = args.files.iter();
    let first = files.next().cloned().unwrap_or_default();
    let source =
        args::Source { setup: args.setup.clone(), stated: args.stated.clone(), ..args::Source::of(first) };
    let mut words = vec![source_words(&source)];
    words.extend(files.map(|file| path_word(file)));
    words.extend(args.title.iter().map(|title| format!("--title {}", word(title))));
    typed("report", words.join(" "))
}
