//! `capture`: arm, wait, record, save.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use deep_tap::bench::connect_for;
use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::diagnose::diagnose_buses;
use deep_tap::format::dtap::{self, Recorder, SaveOptions};
use deep_tap::instrument::{Instrument, Progress};
use deep_tap::known::Rule;
use deep_tap::limit::{self, Verdict};
use deep_tap::quantity::SampleCount;
use deep_tap::setup::{CaptureSink, RecordOptions, Setup};
use deep_tap::time::{Moment, Tick};
use deep_tap::{Error, ErrorKind, Place};
use indicatif::ProgressBar;

use super::check::{self, Over};
use crate::Outcome;
use crate::args;
use crate::connect::{catch_interrupt, interrupted};
use crate::errors::Failure;
use crate::next::{next, path_word};
use crate::output::{Out, progress_bar, remark};
use crate::when_armed::WhenArmed;
use crate::words::counted;

pub(crate) fn run(args: &args::Capture, out: &mut Out) -> Result<Outcome, Failure> {
    let mut setup = args.changes.to(Setup::from_file(&args.setup)?)?;
    let command = args.when_armed.as_deref();
    WhenArmed::tell_in(&mut setup, command);
    let target = args.output.clone().unwrap_or_else(|| default_output(&args.setup));
    let options = RecordOptions { now: args.now, made: None };
    let save = SaveOptions { replace: args.replace };
    if args.check && setup.limits().next().is_none() {
        let error = Error::new(ErrorKind::Setup, "the setup binds no limits, so there is nothing to check");
        return Err(error.with_help("leave --check out, or add a [[part]] section").into());
    }
    let mut instrument = connect_for(&setup, &args.setup)?;
    catch_interrupt();
    let Some(times) = args.repeat else {
        let target = match args.numbered {
            true => numbered(&target, false).next().unwrap_or_else(|| target.clone()),
            false => target,
        };
        // Better to say so before the recording than after it.
        if !args.replace && target.exists() {
            return Err(Error::new(ErrorKind::Exists, "this file is there already")
                .with_help("choose another name with --output, or say that it may be replaced (--replace)")
                .at(Place::File(target))
                .into());
        }
        let mut armed = WhenArmed::new(command);
        let capture = record_to_file(&setup, &mut *instrument, options, (&target, save), &mut armed);
        let well = armed.over(capture.is_ok());
        let capture = capture?;
        out.line(format!("{}\nsaved to {}", summary(&capture), target.display()))?;
        for change in &setup.changes {
            remark(change);
        }
        out.line(next(look_into(&setup), path_word(&target)))?;
        return Ok(if well? { Outcome::Done } else { Outcome::Open });
    };
    let mut commands_failed = false;
    let mut runs = Repeated { check: args.check, keep: args.keep, ..Repeated::default() };
    for path in numbered(&target, args.replace) {
        if runs.names == times || interrupted() {
            break;
        }
        let mut armed = WhenArmed::new(command);
        let outcome = record_to_file(&setup, &mut *instrument, options, (&path, save), &mut armed);
        let well = armed.over(outcome.is_ok());
        match outcome {
            // Interrupted while it waited: what was recorded before stands.
            Err(Failure::Error(_)) if runs.names > 0 && interrupted() => break,
            outcome => runs.add(&setup, outcome?, &path, out)?,
        }
        commands_failed |= !well?;
    }
    let outcome = runs.finish(out)?;
    Ok(if commands_failed && outcome == Outcome::Done { Outcome::Open } else { outcome })
}

/// The command that says most about a record of this setup.
pub(crate) fn look_into(setup: &Setup) -> &'static str {
    let judged = setup.limits().next().is_some() || !setup.expectations.is_empty();
    match (judged, setup.serial.is_empty()) {
        (true, _) => "check",
        (false, false) => "frames",
        (false, true) => "show",
    }
}

/// Captures made one after the other.
#[derive(Default)]
struct Repeated {
    check: bool,
    keep: args::Keep,
    names: u64,
    kept: u64,
    over: Over,
}

impl Repeated {
    /// Checks and tells one capture, and removes its file if it is not to be kept.
    fn add(&mut self, setup: &Setup, capture: Capture, path: &Path, out: &mut Out) -> Result<(), Failure> {
        let (duration, edges) = (capture.duration(), capture.edge_count());
        let name = path.display().to_string();
        let mut line = format!("{name}: {duration}, {}", counted(edges, "edge"));
        let tick = capture.base().tick();
        let mut keep = true;
        if self.check {
            let results = limit::check_all(&capture, setup.limits(), Rule::Proven)?;
            line.push_str(&format!(": {}", check::answer(results.iter().map(|r| r.verdict))));
            keep = self.keep == args::Keep::All || results.iter().any(|r| r.verdict == Verdict::Fail);
            self.over.add_results(&name, tick, results)?;
        }
        drop(capture);
        if keep {
            self.kept += 1;
        } else {
            std::fs::remove_file(path).map_err(|error| Error::io(path, "remove", error))?;
            line.push_str(", not kept");
        }
        self.names += 1;
        out.line(line)?;
        // Whoever follows the output wants each capture when it is there.
        out.finish()
    }

    /// The verdicts over all.
    fn finish(&self, out: &mut Out) -> Result<Outcome, Failure> {
        if !self.check {
            out.line(counted(self.names, "capture"))?;
            return Ok(Outcome::Done);
        }
        let over = &self.over;
        out.line(format!("\n{}          over {}, {} kept\n", over.answer(), over.captures(), self.kept))?;
        out.line(over.grid())?;
        Ok(over.outcome())
    }
}

pub(crate) fn default_output(setup: &Path) -> PathBuf {
    let name = setup.file_stem().map_or_else(|| "capture".into(), std::ffi::OsStr::to_os_string);
    Path::new(&name).with_extension("dtap")
}

/// The names of repeated captures: a number before the extension, from 1, or after the highest
/// that is there already.
pub(crate) fn numbered(target: &Path, replace: bool) -> impl Iterator<Item = PathBuf> {
    let stem = target.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
    let target = target.to_path_buf();
    let name = move |number: u64| target.with_file_name(format!("{stem}-{number:04}.dtap"));
    let taken = |path: &PathBuf| path.exists() || dtap::part_path(path).exists();
    let first = if replace { 1 } else { (1..).find(|n| !taken(&name(*n))).unwrap_or(1) };
    (first..).map(name)
}

/// Shows where a recording stands; stops it when the user wants that.
fn tell(bar: &ProgressBar, progress: Progress) -> ControlFlow<()> {
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
    match interrupted() {
        true => ControlFlow::Break(()),
        false => ControlFlow::Continue(()),
    }
}

/// Records a setup into memory with the instrument that it names, showing progress.
pub(crate) fn record(setup: &Setup, path: &Path, options: RecordOptions) -> Result<Capture, Failure> {
    let mut instrument = connect_for(setup, path)?;
    let bar = progress_bar();
    let options = RecordOptions { made: now(), ..options };
    let outcome = setup.record(&mut *instrument, options, &mut |progress| tell(&bar, progress));
    bar.finish_and_clear();
    let capture = outcome?;
    capture.remarks().iter().for_each(remark);
    Ok(capture)
}

/// The present moment, or the one that `SOURCE_DATE_EPOCH` states for files that can be made again.
pub(crate) fn now() -> Option<Moment> {
    let stated = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|text| text.trim().parse::<i64>().ok());
    let clock = || SystemTime::now().duration_since(UNIX_EPOCH).ok().map(|since| since.as_secs() as i64);
    Moment::of_unix(stated.or_else(clock)?).ok()
}

/// Records a setup into a file, block by block, and opens it.
fn record_to_file(
    setup: &Setup,
    instrument: &mut dyn Instrument,
    options: RecordOptions,
    (target, save): (&Path, SaveOptions),
    armed: &mut WhenArmed,
) -> Result<Capture, Failure> {
    let bar = progress_bar();
    let mut file = Recorder::new(target, save);
    let sink: &mut dyn CaptureSink = &mut file;
    let options = RecordOptions { made: now(), ..options };
    let outcome = setup.record_into(instrument, options, sink, &mut |progress| {
        armed.armed();
        tell(&bar, progress)
    });
    bar.finish_and_clear();
    match outcome {
        Ok(description) => file.finish(&description)?,
        Err(error) => {
            if file.finish_broken_off(error.message()).is_ok_and(|saved| saved) {
                remark(format!("what was recorded until then is in {}", target.display()));
            }
            return Err(explained(error, setup, instrument, options).into());
        }
    }
    let capture = dtap::open(target)?.capture;
    capture.remarks().iter().for_each(remark);
    Ok(capture)
}

/// The longest record that is made only to say why a trigger did not come.
const MOST_SAMPLES: u64 = 100_000_000;
const MOST_SECONDS: f64 = 5.0;

/// Where frames did not come: the same error with what is wrong with their bus, as a short record without a trigger
/// shows it.
fn explained(error: Error, setup: &Setup, instrument: &mut dyn Instrument, options: RecordOptions) -> Error {
    if error.kind() != ErrorKind::TimeOut || interrupted() {
        return error;
    }
    let Ok(Some(program)) = setup.trigger_program(options) else { return error };
    // What is wrong with an exchange shows on its buses.
    let of = |bus: &&SerialBus| match setup.exchanges.iter().find(|exchange| exchange.name() == bus.name()) {
        Some(exchange) => exchange.buses().to_vec(),
        None => vec![(*bus).clone()],
    };
    let asked = program.serial_buses();
    let buses: Vec<SerialBus> = asked.iter().flat_map(of).collect();
    let buses: Vec<&SerialBus> = buses.iter().collect();
    if buses.is_empty() {
        return error;
    }
    let options = RecordOptions { now: true, ..options };
    let short = setup.plan(instrument, options).is_ok_and(|plan| {
        plan.samples <= MOST_SAMPLES && plan.samples as f64 <= MOST_SECONDS * plan.rate.to_f64()
    });
    if !short {
        return error;
    }
    let go_on = &mut |_| if interrupted() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) };
    let Ok(capture) = setup.record(instrument, options, go_on) else { return error };
    let found = diagnose_buses(&capture, &buses);
    let what = format!("a record of {} without a trigger", capture.duration());
    let told = match found.first() {
        None => format!("{what} shows nothing wrong with the bus: what is waited for was not sent"),
        Some(first) => format!(
            "{what} shows: {}: {} ({}); {}",
            first.buses.join(", "),
            first.said(),
            first.sureness,
            first.remedy
        ),
    };
    let help = match error.help() {
        Some(help) => format!("{help}\n{told}"),
        None => told,
    };
    error.with_help(help)
}

/// What was recorded, in a line or two.
pub(crate) fn summary(capture: &Capture) -> String {
    let what = format!(
        "recorded {} at {}: {}, {}, {}",
        capture.duration(),
        capture.base().rate(),
        SampleCount(capture.len()),
        counted(capture.lines().len() as u64, "line"),
        counted(capture.edge_count(), "edge"),
    );
    match &capture.origin().trigger {
        Some(trigger) => {
            format!("{what}\ntrigger '{trigger}', {} after the record's start", time_to_zero(capture))
        }
        None => what,
    }
}

fn time_to_zero(capture: &Capture) -> String {
    let first = capture.base().text_of(Tick(0));
    first.strip_prefix('-').unwrap_or(&first).to_string()
}
