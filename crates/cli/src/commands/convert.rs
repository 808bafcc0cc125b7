//! `convert`: another file format, whole or a part.

use std::io::Write;

use deep_tap::capture::Capture;
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::format::packed::PackedBits;
use deep_tap::format::{self, Recognised, csv, npy, packed, vcd};
use deep_tap::line::{LineId, Threshold};
use deep_tap::measure::remove_glitches;
use deep_tap::quantity::Voltage;
use deep_tap::{Error, ErrorKind, Place};

use crate::Outcome;
use crate::args::{self, Target};
use crate::errors::Failure;
use crate::load::{load, parse_time, stated, tell_damage, with_options};
use crate::next::{next, path_word};
use crate::output::{Out, progress_bar, remark, save};

pub(crate) fn run(args: &args::Convert, out: &mut Out) -> Result<Outcome, Failure> {
    let target = target(args)?;
    let to_stdout = args.output.as_os_str() == "-";
    if target == Target::Dtap && !to_stdout && is_plain(args) && streamed(args)? {
        out.line(next("info", path_word(&args.output)))?;
        return Ok(Outcome::Done);
    }
    let capture = worked_on(args)?;
    match target {
        Target::Dtap if to_stdout => {
            let folder = tempfile::tempdir().map_err(|e| Error::io("a temporary folder", "create", e))?;
            let path = folder.path().join("capture.dtap");
            dtap::save(&capture, &path, SaveOptions::default())?;
            let mut file = std::fs::File::open(&path).map_err(|e| Error::io(&path, "read", e))?;
            std::io::copy(&mut file, out.writer())?;
        }
        Target::Dtap => dtap::save(&capture, &args.output, SaveOptions { replace: args.replace })?,
        other => {
            // What cannot be said in a format should be known before anything is written.
            let write = writer(&capture, other, args)?;
            match to_stdout {
                true => write(out.writer())?,
                false => save(&args.output, args.replace, write)?,
            }
        }
    }
    if target == Target::Csv && capture.resolution().sampled {
        let rate = capture.base().rate();
        remark(format!("a table does not say how it was sampled: to read it again, state rate = \"{rate}\""));
    }
    tell_damage(&capture);
    if target == Target::Dtap && !to_stdout {
        out.line(next("info", path_word(&args.output)))?;
    }
    Ok(Outcome::Done)
}

/// Whether the record is to be written as it is.
fn is_plain(args: &args::Convert) -> bool {
    let part = args.window.is_all() && args.lines.is_empty();
    part && args.remove_below.is_none() && args.derive.is_empty()
}

/// Writes a record that is not a capture as one, part by part; `false` when it is one.
fn streamed(args: &args::Convert) -> Result<bool, Failure> {
    let args::Source { file, setup, stated: words, .. } = &args.source;
    if file.as_os_str() == "-" {
        return Ok(false);
    }
    let stated = stated(words)?;
    let source = format::Source::open(file)?;
    if format::recognise(&source, &stated)? == Recognised::Capture {
        return Ok(false);
    }
    let bar = progress_bar();
    let to = (args.output.as_path(), SaveOptions { replace: args.replace });
    let remarks = format::import(&source, setup.as_deref(), stated, to, &mut |done, of| {
        bar.set_length(of);
        bar.set_position(done);
        bar.set_message("reading the record");
    });
    bar.finish_and_clear();
    remarks.map_err(with_options)?.iter().for_each(remark);
    Ok(true)
}

/// The capture that is to be written.
fn worked_on(args: &args::Convert) -> Result<Capture, Failure> {
    let loaded = load(&args.source)?;
    let range = args.window.of(&loaded)?;
    let on = loaded.lines(&args.remove_on).map_err(|error| error.about("--remove-on"))?;
    let kept = loaded.signals(&args.lines).map_err(|error| error.about("--lines"))?;
    let mut capture = loaded.capture;
    if let Some(below) = &args.remove_below {
        let below = parse_time("remove-below", below)?;
        capture = remove_glitches(capture, &on, below)?;
        capture.history().iter().for_each(remark);
    }
    for derive in &args.derive {
        let (name, analog, threshold) = derived(derive)?;
        capture = capture.into_builder().derive_line(name, analog, threshold)?.build()?;
        capture.history().last().iter().for_each(remark);
    }
    if !args.lines.is_empty() {
        let (lines, analog) = kept;
        // Derived lines are wanted by who derives them.
        let made = (capture.lines().len() - args.derive.len()..capture.lines().len()).map(LineId);
        let lines: Vec<LineId> = lines.into_iter().chain(made).collect();
        capture = capture.only(&lines, &analog)?;
    }
    Ok(capture.excerpt(range)?)
}

type Write1<'a> = Box<dyn FnOnce(&mut dyn Write) -> std::io::Result<()> + 'a>;

fn writer<'a>(capture: &'a Capture, target: Target, args: &args::Convert) -> Result<Write1<'a>, Failure> {
    let layout = match args.layout {
        args::Layout::Changes => csv::Layout::Changes,
        args::Layout::Samples => csv::Layout::Samples,
    };
    Ok(match target {
        Target::Vcd | Target::Dtap => Box::new(|file| vcd::write(capture, file)),
        Target::Csv => Box::new(move |file| csv::write(capture, layout, file)),
        Target::Packed => {
            let bits = packed_bits(capture)?;
            Box::new(move |file| packed::write(capture, bits, file))
        }
        Target::Npy => {
            let bits = packed_bits(capture)?;
            Box::new(move |file| npy::write(capture, bits, file))
        }
    })
}

/// How lines become bits, which is told, since such a file says nothing of it.
fn packed_bits(capture: &Capture) -> Result<PackedBits, Failure> {
    let bits = PackedBits::of(capture)?;
    let names: Vec<String> =
        capture.lines().iter().enumerate().map(|(n, line)| format!("{n} {}", line.name)).collect();
    let bytes = bits.width.bytes();
    remark(format!(
        "{} samples of {bytes} byte{} at {}; bits: {}",
        capture.len(),
        if bytes == 1 { "" } else { "s, the least significant first" },
        capture.base().rate(),
        names.join(", ")
    ));
    Ok(bits)
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
    if let Some(target) = args.target {
        return Ok(target);
    }
    let extension = args.output.extension().and_then(|e| e.to_str()).unwrap_or("").to_lowercase();
    match extension.as_str() {
        "dtap" => Ok(Target::Dtap),
        "vcd" => Ok(Target::Vcd),
        "csv" => Ok(Target::Csv),
        "npy" => Ok(Target::Npy),
        _ => Err(Error::new(ErrorKind::Unknown, "the name does not say which format to write")
            .with_help("end it in .dtap, .vcd, .csv or .npy, or add --as")
            .at(Place::File(args.output.clone()))
            .into()),
    }
}
