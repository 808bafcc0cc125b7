//! `mark`: a name for an instant of a capture, and what is to be said of it.

use deep_tap::capture::{Capture, Note};
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::format::{self, Recognised, Source};
use deep_tap::job::Job;
use deep_tap::line::{AnalogId, LineId};
use deep_tap::setup::Import;
use deep_tap::{Error, ErrorKind, Place};

use crate::Outcome;
use crate::args;
use crate::errors::Failure;
use crate::load::load;
use crate::next::{next, path_word, word};
use crate::output::Out;

pub(crate) fn run(args: &args::Mark, out: &mut Out) -> Result<Outcome, Failure> {
    if format::recognise(&Source::open(&args.file)?, &Import::default())? != Recognised::Capture {
        let error = Error::new(ErrorKind::Capture, "marks are kept in a capture, and this is none");
        let help =
            "convert it first: deep-tap convert FILE FILE.dtap; or write a [[mark]] section into its setup";
        return Err(error.with_help(help).at(Place::File(args.file.clone())).into());
    }
    let loaded = load(&args::Source::of(args.file.clone()))?;
    let known = |name: &str| loaded.capture.notes().iter().any(|note| note.name == name);
    let notes = match &args.place {
        None if args.remove => {
            if !known(&args.name) {
                return Err(no_mark(&loaded, &args.name).into());
            }
            loaded.capture.notes().iter().filter(|note| note.name != args.name).cloned().collect()
        }
        None => {
            let error = Error::new(ErrorKind::Unknown, format!("where is '{}'?", args.name));
            let help = "give a place after the name: a time such as '3.2 ms', or an event; or --remove";
            return Err(error.with_help(help).into());
        }
        Some(_) if known(&args.name) && !args.replace => {
            let error = Error::new(ErrorKind::Exists, format!("there is a mark '{}' already", args.name));
            return Err(error.with_help("give another name, or move it with --replace").into());
        }
        Some(place) => loaded.noted(&args.name, place, args.text.as_deref().unwrap_or_default())?,
    };
    let own = notes.iter().find(|note| note.name == args.name).cloned();
    let base = loaded.capture.base();
    rewrite(args, loaded.capture, notes)?;
    let file = path_word(&args.file);
    match own {
        Some(Note { name, at, .. }) => {
            out.line(format!("{}: '{name}' is at {}", args.file.display(), base.text_of(at)))?;
            out.line(next("show", format!("{file} --around {}", word(&name))))?;
        }
        None => out.line(format!("{}: '{}' is removed", args.file.display(), args.name))?,
    }
    Ok(Outcome::Done)
}

fn no_mark(loaded: &Job, name: &str) -> Error {
    let names: Vec<&str> = loaded.capture.notes().iter().map(|note| note.name.as_str()).collect();
    let help = match names.is_empty() {
        true => "it has none".to_string(),
        false => format!("its marks are {}", names.join(", ")),
    };
    Error::new(ErrorKind::Unknown, format!("the capture has no mark '{name}'")).with_help(help)
}

/// Puts the capture with these notes in the place of the old one, once it is written as a whole.
fn rewrite(args: &args::Mark, capture: Capture, notes: Vec<Note>) -> Result<(), Failure> {
    // What is damaged would be unknown for ever after.
    for line in 0..capture.lines().len() {
        capture.trace(LineId(line)).edges(capture.range()).for_each(drop);
    }
    for line in 0..capture.analog_lines().len() {
        capture.analog(AnalogId(line)).blocks().for_each(drop);
    }
    if !capture.damage().is_empty() || dtap::open(&args.file)?.cut_short_at.is_some() {
        let error =
            Error::new(ErrorKind::Capture, "this capture is damaged or cut short, and is left as it is");
        let help = "convert what is good of it first: deep-tap convert FILE NEW.dtap";
        return Err(error.with_help(help).at(Place::File(args.file.clone())).into());
    }
    let capture = capture.into_builder().notes(notes).build()?;
    Ok(dtap::save(&capture, &args.file, SaveOptions { replace: true })?)
}
