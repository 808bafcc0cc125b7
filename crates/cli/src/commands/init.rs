//! `init`: a first setup from a record or an instrument.

use std::ops::ControlFlow;
use std::path::{Component, Path, PathBuf};

use deep_tap::bench;
use deep_tap::capture::Capture;
use deep_tap::format::Folder;
use deep_tap::instrument::Instrument;
use deep_tap::job::{Basis, FirstPart, Job, first_setup, setup_with_parts};
use deep_tap::limit::Part;
use deep_tap::line::{Input, Line};
use deep_tap::plan::{Before, Length, Speed};
use deep_tap::quantity::Time;
use deep_tap::setup::{LevelSource, RecordOptions, Sampling, Setup, SetupLine};
use deep_tap::{Error, ErrorKind, Place};

use crate::Outcome;
use crate::args;
use crate::connect::{catch_interrupt, interrupted, is_address};
use crate::errors::Failure;
use crate::load::{load, stated};
use crate::next::{next, path_word, source_words};
use crate::output::{Out, remark, save};

pub(crate) fn run(args: &args::Init, out: &mut Out) -> Result<Outcome, Failure> {
    let address = is_address(&args.source);
    let path = args.output.clone().unwrap_or_else(|| named(args, address));
    if path.exists() {
        let error =
            Error::new(ErrorKind::Exists, "this file is there already, and a setup is never replaced");
        return Err(error.with_help("choose another name with --output").at(Place::File(path)).into());
    }
    let placed = args.part.iter().map(|words| Placed::read(words, &path)).collect::<Result<Vec<_>, _>>()?;
    let parts: Vec<FirstPart<'_>> = placed.iter().map(Placed::as_first).collect();
    let (text, record) = if address { of_instrument(args, &parts)? } else { of_record(args, &path, &parts)? };
    if path.as_os_str() == "-" {
        out.writer().write_all(text.as_bytes())?;
        return Ok(Outcome::Done);
    }
    save(&path, false, |file| file.write_all(text.as_bytes()))?;
    // What it says has to hold for what it was made from.
    let shown = path.display();
    match record {
        Some(file) => {
            let source = args::Source {
                setup: Some(path.clone()),
                stated: args.stated.clone(),
                ..args::Source::of(file.clone())
            };
            load_quietly(&source)?;
            out.line(format!("{shown}: written, and {} is read with it", file.display()))?;
            out.line(next("info", source_words(&source)))?;
        }
        None => {
            Setup::from_file(&path)?;
            out.line(format!("{shown}: written"))?;
            out.line(next("live", path_word(&path)))?;
        }
    }
    Ok(Outcome::Done)
}

fn load_quietly(source: &args::Source) -> Result<Job, Failure> {
    Ok(Job::open_with(&source.file, source.setup.as_deref(), stated(&source.stated)?, &mut |_, _| ())?)
}

/// The name of the source with another ending, in the folder one works in.
fn named(args: &args::Init, address: bool) -> PathBuf {
    if address {
        return PathBuf::from("first.toml");
    }
    let name = args.source.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let stem = name.split('.').find(|part| !part.is_empty()).unwrap_or("first");
    PathBuf::from(format!("{stem}.toml"))
}

/// A part of the command line.
struct Placed {
    reference: String,
    /// As the setup mentions it.
    limits: String,
    part: Part,
}

impl Placed {
    /// From `U5=parts/ex-mem8.toml`, for a setup at this path.
    fn read(words: &str, setup: &Path) -> Result<Placed, Failure> {
        let Some((reference, file)) =
            words.split_once('=').filter(|(reference, _)| !reference.trim().is_empty())
        else {
            let error = Error::new(ErrorKind::Unknown, format!("--part: '{words}' names no part"));
            return Err(error.with_help("write it like U5=parts/ex-mem8.toml").into());
        };
        let (folder, name) = Folder::of(Path::new(file))?;
        let part = Part::load(&name, &folder)?;
        let limits = mention(Path::new(file), setup);
        Ok(Placed { reference: reference.trim().to_string(), limits, part })
    }

    fn as_first(&self) -> FirstPart<'_> {
        FirstPart { reference: &self.reference, limits: &self.limits, part: &self.part }
    }
}

/// How a setup mentions a file: relative to itself where both can be found.
fn mention(file: &Path, setup: &Path) -> String {
    let folder = setup.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let (Ok(file), Ok(folder)) = (file.canonicalize(), folder.canonicalize()) else {
        return file.display().to_string();
    };
    let shared =
        file.components().zip(folder.components()).take_while(|(file, folder)| file == folder).count();
    let up = folder.components().skip(shared).map(|_| Component::ParentDir);
    let path: PathBuf = up.chain(file.components().skip(shared)).collect();
    path.display().to_string().replace('\\', "/")
}

type Made = (String, Option<PathBuf>);

fn of_record(args: &args::Init, setup: &Path, parts: &[FirstPart<'_>]) -> Result<Made, Failure> {
    let file = PathBuf::from(&args.source);
    let import = stated(&args.stated)?;
    let source = args::Source { stated: args.stated.clone(), ..args::Source::of(file.clone()) };
    let loaded = load(&source)?;
    if let Some(carried) = &loaded.setup {
        if parts.is_empty() {
            let error =
                Error::new(ErrorKind::Setup, "this capture carries its setup, and needs no first one");
            let help = format!(
                "look at it with deep-tap info {}, write its setup out (info --write-setup FOLDER), or name parts (--part)",
                file.display()
            );
            return Err(error.with_help(help).into());
        }
        let text = setup_with_parts(&loaded.capture, carried, &mention(&file, setup), parts);
        return Ok((text, Some(file)));
    }
    // What is stated stands in the setup from now on.
    let text = first_setup(&loaded.capture, &Basis::Record(&file.display().to_string(), &import), parts);
    Ok((text, (args.source.as_os_str() != "-").then_some(file)))
}

fn of_instrument(args: &args::Init, parts: &[FirstPart<'_>]) -> Result<Made, Failure> {
    let address = args.source.to_string_lossy();
    let mut instrument = bench::connect(&address, Path::new(""))?;
    catch_interrupt();
    let look = look(&mut *instrument)?;
    Ok((first_setup(&look, &Basis::Instrument(&address, &instrument.capabilities()), parts), None))
}

/// A look at all inputs.
fn look(instrument: &mut dyn Instrument) -> Result<Capture, Failure> {
    let inputs = instrument.capabilities().inputs();
    let most = instrument.capabilities().modes.iter().map(|mode| mode.inputs).max().unwrap_or(inputs);
    if most < inputs {
        remark(format!("only the first {most} of {inputs} inputs can be looked at together"));
    }
    let line = |number: u32| SetupLine {
        line: Line { input: Some(Input::Number(number)), ..Line::named(format!("IN{number}")) },
        swing: None,
        rests: None,
        source: LevelSource::Input,
    };
    let length: Time = "20 ms".parse()?;
    let sampling = Sampling {
        speed: Speed::Fastest,
        length: Length::Time(length),
        before: Before::Time(Time::ZERO),
        analog_rate: None,
    };
    let lines = (0..inputs.min(most)).map(line).collect();
    let setup = Setup { sampling: Some(sampling), lines, ..Setup::default() };
    let options = RecordOptions { now: true, ..RecordOptions::default() };
    let record = setup.record(instrument, options, &mut |_| match interrupted() {
        true => ControlFlow::Break(()),
        false => ControlFlow::Continue(()),
    });
    Ok(record?)
}
