//! `capture`: arm, wait, record, save.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use deep_tap::bench;
use deep_tap::capture::Capture;
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::instrument::Progress;
use deep_tap::setup::{RecordOptions, Setup};
use deep_tap::time::{Rate, Samples, Tick};
use deep_tap::{Error, ErrorKind, Place};

use crate::Outcome;
use crate::args;
use crate::errors::Failure;
use crate::load::time;
use crate::output::{Out, progress_bar, remark};

pub(crate) fn run(args: &args::Capture, out: &mut Out) -> Result<Outcome, Failure> {
    let setup = Setup::from_file(&args.setup)?;
    let rate = match &args.rate {
        Some(text) => Some(text.parse::<Rate>().map_err(|error| {
            let told = Error::new(ErrorKind::Quantity, format!("--rate: {}", error.message()));
            told.with_help(error.help().unwrap_or("write it like '100 MS/s'").to_string())
        })?),
        None => None,
    };
    let target = args.output.clone().unwrap_or_else(|| default_output(&args.setup));
    // Better to say so before the recording than after it.
    if !args.replace && target.exists() {
        return Err(Error::new(ErrorKind::Exists, "this file is there already")
            .with_help("choose another name with --output, or say that it may be replaced (--replace)")
            .at(Place::File(target))
            .into());
    }
    let capture = record(&setup, &args.setup, RecordOptions { now: args.now, rate })?;
    dtap::save(&capture, &target, SaveOptions { replace: args.replace })?;
    out.line(format!("{}\nsaved to {}", summary(&capture), target.display()))?;
    Ok(Outcome::Done)
}

fn default_output(setup: &Path) -> PathBuf {
    let name = setup.file_stem().map_or_else(|| "capture".into(), std::ffi::OsStr::to_os_string);
    Path::new(&name).with_extension("dtap")
}

/// Records a setup with the instrument that it names, showing progress.
pub(crate) fn record(setup: &Setup, path: &Path, options: RecordOptions) -> Result<Capture, Failure> {
    let Some(address) = &setup.connect else {
        return Err(Error::new(ErrorKind::Setup, "the setup does not say which instrument to use")
            .with_help("add a section like: [instrument] with connect = \"bench:tide-gauge\"")
            .at(Place::File(path.to_path_buf()))
            .into());
    };
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut instrument = bench::connect(address, folder)?;
    let bar = progress_bar();
    let outcome = setup.record(&mut *instrument, options, &mut |progress| {
        match progress {
            Progress::Waiting { elapsed } => {
                bar.set_message(format!("waiting for the trigger: {elapsed}"));
                bar.tick();
            }
            Progress::Recording { done, of } => {
                bar.set_length(of);
                bar.set_position(done);
                bar.set_message("recording");
            }
            Progress::Reading { done, of } => {
                bar.set_length(of);
                bar.set_position(done);
                bar.set_message("reading");
            }
            _ => {}
        }
        ControlFlow::Continue(())
    });
    bar.finish_and_clear();
    let capture = outcome?;
    capture.remarks().iter().for_each(remark);
    Ok(capture)
}

/// What was recorded, in a line or two.
pub(crate) fn summary(capture: &Capture) -> String {
    let what = format!(
        "recorded {} at {}: {}, {} lines, {} edges",
        capture.duration(),
        capture.base().rate(),
        Samples(capture.len()),
        capture.lines().len(),
        capture.edge_count(),
    );
    match &capture.origin().trigger {
        Some(trigger) => {
            format!("{what}\ntrigger '{trigger}', {} after the record's start", time_to_zero(capture))
        }
        None => what,
    }
}

fn time_to_zero(capture: &Capture) -> String {
    let first = time(capture, Tick(0));
    first.strip_prefix('-').unwrap_or(&first).to_string()
}
