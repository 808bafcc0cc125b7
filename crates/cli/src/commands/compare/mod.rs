//! `compare`: what differs between two records of the same thing.

mod items;
mod junit;
mod text;

use std::path::Path;

use deep_tap::compare::{CompareOptions, RecordComparison, compare};
use deep_tap::job::Job;

use crate::Outcome;
use crate::args::{self, Source};
use crate::contract::Document;
use crate::contract::comparison::{ComparedRows, ITEM_COLUMNS, ItemRow};
use crate::errors::Failure;
use crate::load::{load, parse_time, tell_damage};
use crate::output::{Out, Pending, Working, write_table};
pub(crate) use items::{Item, items};
pub(crate) use text::frame_text;

pub(crate) fn run(args: &args::Compare, out: &mut Out) -> Result<Outcome, Failure> {
    let junit = args.junit.as_deref().map(|path| Pending::create(path, args.table.replace)).transpose()?;
    let options = options(args)?;
    let open = |file: &Path| {
        load(&Source {
            setup: args.setup.clone(),
            stated: args.stated.clone(),
            ..Source::of(file.to_path_buf())
        })
    };
    let (a, b) = (open(&args.a)?, open(&args.b)?);
    let working = Working::on("comparing");
    let found = compare(&a, &b, &options)?;
    drop(working);
    let both = Both { a: &a, b: &b, found: &found };
    let items = items(&both);
    let files = (args.a.display().to_string(), args.b.display().to_string());
    let document = ComparedRows::new(files, &found, items.iter().map(|item| row(&both, item)).collect());
    let text = || text::text(args, &both, &items);
    let rows = |rows: &mut crate::contract::Rows| rows.each(document.rows());
    write_table(&args.table, out, &Document::new("comparison", &document), ITEM_COLUMNS, rows, text)?;
    if let Some(mut file) = junit {
        junit::write(args, &items, &mut file)?;
        file.finish()?;
    }
    tell_damage(&a.capture);
    tell_damage(&b.capture);
    Ok(if found.differences() == 0 { Outcome::Done } else { Outcome::Violated })
}

/// Two records and what differs.
pub(crate) struct Both<'a> {
    pub(crate) a: &'a Job,
    pub(crate) b: &'a Job,
    pub(crate) found: &'a RecordComparison,
}

/// An item as programs read it.
fn row<'a>(both: &Both<'_>, item: &'a Item) -> ItemRow<'a> {
    ItemRow {
        item: item.kind,
        name: &item.name,
        differs: item.differs,
        in_a: &item.a,
        in_b: &item.b,
        how: &item.how,
        a_at_s: item.at.0.map(|tick| both.a.capture.base().time_of(tick)),
        b_at_s: item.at.1.map(|tick| both.b.capture.base().time_of(tick)),
    }
}

fn options(args: &args::Compare) -> Result<CompareOptions, Failure> {
    let mut options = CompareOptions::default();
    options.zero.clone_from(&args.zero);
    if let Some(text) = &args.tolerance {
        options.tolerance = not_negative("tolerance", text)?;
    }
    options.glitches_below = args.glitches.as_ref().map(|text| not_negative("glitches", text)).transpose()?;
    options.between = args.between.chunks_exact(2).map(|pair| (pair[0].clone(), pair[1].clone())).collect();
    options.ignored.clone_from(&args.ignore);
    Ok(options)
}

fn not_negative(option: &str, text: &str) -> Result<deep_tap::quantity::Time, Failure> {
    let time = parse_time(option, text)?;
    if time < deep_tap::quantity::Time::ZERO {
        let error = deep_tap::Error::new(
            deep_tap::ErrorKind::Quantity,
            format!("--{option}: {time} is below zero, and no difference is"),
        );
        return Err(error.with_help("give a time such as '5 ns'").into());
    }
    Ok(time)
}
