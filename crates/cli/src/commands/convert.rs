//! `convert`: another file format.

use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::format::{csv, vcd};
use deep_tap::line::Threshold;
use deep_tap::measure::remove_glitches;
use deep_tap::quantity::Voltage;
use deep_tap::{Error, ErrorKind, Place};

use crate::Outcome;
use crate::args::{self, Target};
use crate::errors::Failure;
use crate::load::{load, parse_time, tell_damage};
use crate::output::{Out, remark, save};

pub(crate) fn run(args: &args::Convert, out: &mut Out) -> Result<Outcome, Failure> {
    let target = target(args)?;
    let loaded = load(&args.source)?;
    let lines = loaded.lines(&args.lines)?;
    let mut capture = loaded.capture;
    if let Some(below) = &args.remove_below {
        let below = parse_time("remove-below", below)?;
        capture = remove_glitches(capture, &lines, below)?;
        capture.history().iter().for_each(remark);
    }
    for derive in &args.derive {
        let (name, analog, threshold) = derived(derive)?;
        capture = capture.into_builder().derive_line(name, analog, threshold)?.build()?;
        capture.history().last().iter().for_each(remark);
    }
    let capture = &capture;
    let layout = match args.layout {
        args::Layout::Changes => csv::Layout::Changes,
        args::Layout::Samples => csv::Layout::Samples,
    };
    let to_stdout = args.output.as_os_str() == "-";
    match target {
        Target::Dtap if to_stdout => {
            let error = Error::new(ErrorKind::Io, "a capture cannot be written to standard output");
            return Err(error.with_help("it is put in place when complete: give the name of a file").into());
        }
        Target::Dtap => dtap::save(capture, &args.output, SaveOptions { replace: args.replace })?,
        Target::Vcd if to_stdout => vcd::write(capture, out.writer())?,
        Target::Csv if to_stdout => csv::write(capture, layout, out.writer())?,
        Target::Vcd => save(&args.output, args.replace, |file| vcd::write(capture, file))?,
        Target::Csv => save(&args.output, args.replace, |file| csv::write(capture, layout, file))?,
    }
    tell_damage(capture);
    Ok(Outcome::Done)
}

/// The parts of `NAME = ANALOG at VOLTAGE`.
fn derived(text: &str) -> Result<(&str, &str, Voltage), Failure> {
    let parts = text.split_once('=').and_then(|(name, rest)| {
        let (analog, threshold) = rest.rsplit_once(" at ")?;
        Some((name.trim(), analog.trim(), threshold.trim()))
    });
    let Some((name, analog, threshold)) = parts.filter(|(name, ..)| !name.is_empty()) else {
        let error =
            Error::new(ErrorKind::Unknown, format!("--derive: '{text}' does not say what to make of what"));
        return Err(error.with_help("write it like --derive 'RAIL_UP = VDD33 at 3.0 V'").into());
    };
    let threshold = threshold.parse::<Threshold>().map_err(|error| {
        let told = Error::new(ErrorKind::Quantity, format!("--derive: {}", error.message()));
        told.with_help(error.help().unwrap_or("give a voltage or a logic family").to_string())
    })?;
    Ok((name, analog, threshold.voltage()))
}

fn target(args: &args::Convert) -> Result<Target, Failure> {
    if let Some(target) = args.to {
        return Ok(target);
    }
    let extension = args.output.extension().and_then(|e| e.to_str()).unwrap_or("").to_lowercase();
    match extension.as_str() {
        "dtap" => Ok(Target::Dtap),
        "vcd" => Ok(Target::Vcd),
        "csv" => Ok(Target::Csv),
        _ => Err(Error::new(ErrorKind::Unknown, "the name does not say which format to write")
            .with_help("end it in .dtap, .vcd or .csv, or add --to")
            .at(Place::File(args.output.clone()))
            .into()),
    }
}
