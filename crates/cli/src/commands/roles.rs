//! `roles`: which line is what, on a record whose lines have no meaning yet.

use deep_tap::capture::Capture;
use deep_tap::line::LineId;
use deep_tap::roles::{BusGuess, LineLeft, Roles, roles};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::Document;
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::next::{next, source_words};
use crate::output::{Out, Working, remark, save, wrapped, write_table};
use crate::words::counted;

/// What was found.
#[derive(Serialize)]
struct Found<'a> {
    file: String,
    buses: Vec<GuessRow<'a>>,
    idle: Vec<LeftRow<'a>>,
    unknown: Vec<LeftRow<'a>>,
}

/// A bus that lines seem to be.
#[derive(Serialize)]
struct GuessRow<'a> {
    bus: &'a str,
    kind: &'static str,
    sureness: String,
    wiring: Vec<RoleRow<'a>>,
    frames: usize,
    reasons: &'a [String],
    undecided: &'a [String],
    /// A `[[bus]]` section, key by key.
    setup: Vec<String>,
}

/// A line and what it is.
#[derive(Serialize)]
struct RoleRow<'a> {
    role: String,
    line: &'a str,
}

/// A line without a meaning.
#[derive(Serialize)]
struct LeftRow<'a> {
    line: &'a str,
    edges: u64,
}

const COLUMNS: &[&str] = &["bus", "kind", "sureness", "frames", "setup", "reasons", "undecided"];

impl<'a> GuessRow<'a> {
    fn new(of: &'a BusGuess, capture: &'a Capture) -> Self {
        let roles = of.bus.protocol().roles().into_iter().zip(of.bus.lines());
        GuessRow {
            bus: of.bus.name(),
            kind: of.bus.protocol().name(),
            sureness: of.sureness.to_string(),
            wiring: roles.map(|(role, line)| RoleRow { role, line: name(capture, *line) }).collect(),
            frames: of.frames,
            reasons: &of.reasons,
            undecided: &of.open,
            setup: of.words(|line| name(capture, line).to_string()),
        }
    }
}

fn name(capture: &Capture, line: LineId) -> &str {
    &capture.line(line).name
}

pub(crate) fn run(args: &args::Roles, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let working = Working::on("looking at every line");
    let found = roles(capture);
    drop(working);
    let left = |of: &'_ [LineLeft]| {
        of.iter().map(|left| LeftRow { line: name(capture, left.line), edges: left.edges }).collect()
    };
    let told = Found {
        file: args.source.file.display().to_string(),
        buses: found.buses.iter().map(|guess| GuessRow::new(guess, capture)).collect(),
        idle: left(&found.idle),
        unknown: left(&found.left),
    };
    let document = Document::new("roles", &told);
    let words = || {
        let mut text = text(&told, &found, capture);
        if args.write_setup.is_none() && !told.buses.is_empty() {
            let typed = format!("{} --write-setup named.toml", source_words(&args.source));
            text.push_str(&format!("\n{}\n", next("roles", typed)));
        }
        text
    };
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.each(&told.buses), words)?;
    if let Some(path) = &args.write_setup {
        let setup = found.setup(capture);
        save(path, args.table.replace, |file| file.write_all(setup.as_bytes()))?;
        let named = args::Source {
            setup: Some(path.clone()),
            stated: args.source.stated.clone(),
            ..args::Source::of(args.source.file.clone())
        };
        remark(format!("the setup is {}; {}", path.display(), next("frames", source_words(&named))));
    }
    tell_damage(capture);
    Ok(if found.buses.is_empty() { Outcome::Violated } else { Outcome::Done })
}

fn text(told: &Found<'_>, found: &Roles, capture: &Capture) -> String {
    let buses = match told.buses.len() {
        0 => "no bus can be told".to_string(),
        count => counted(count, "bus"),
    };
    let lines = capture.lines().len();
    let mut text = format!("{buses} on {}          {}\n", counted(lines, "line"), told.file);
    for guess in &told.buses {
        let roles: Vec<String> =
            guess.wiring.iter().map(|row| format!("{} {}", row.role, row.line)).collect();
        text.push_str(&format!("\n{}: {}, {}\n", guess.bus, guess.kind, guess.sureness));
        text.push_str(&wrapped(&roles.join(", "), "  "));
        guess.reasons.iter().for_each(|reason| text.push_str(&wrapped(&format!("because {reason}"), "  ")));
        guess.undecided.iter().for_each(|open| text.push_str(&wrapped(&format!("cannot tell {open}"), "  ")));
        text.push_str(&format!("\n  [[bus]]\n  name = \"{}\"\n", guess.bus));
        guess.setup.iter().for_each(|word| text.push_str(&format!("  {word}\n")));
    }
    let listed = |of: &[LineLeft], with_level: bool| {
        let lines = of.iter().map(|left| match with_level {
            true => format!("{} ({})", name(capture, left.line), left.level),
            false => format!("{} ({})", name(capture, left.line), counted(left.edges, "edge")),
        });
        lines.collect::<Vec<_>>().join(", ")
    };
    if !found.left.is_empty() {
        text.push('\n');
        text.push_str(&wrapped(&format!("cannot tell what these are: {}", listed(&found.left, false)), ""));
    }
    if !found.idle.is_empty() {
        text.push('\n');
        text.push_str(&wrapped(&format!("never change: {}", listed(&found.idle, true)), ""));
    }
    text
}
