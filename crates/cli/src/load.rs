//! Opening what a command looks at, and telling what was noticed.

use std::io::{Read, Write};
use std::str::FromStr;

use deep_tap::capture::Capture;
use deep_tap::format::{self, Recognised};
use deep_tap::job::Job;
use deep_tap::quantity::{Percent, Rate, Time};
use deep_tap::setup::Import;
use deep_tap::time::TimeBase;
use deep_tap::{Error, ErrorKind, Place};

use crate::args::{self, Source};
use crate::errors::Failure;
use crate::output::{progress_bar, remark};

/// Opens a capture or another record, and lays the setup over it.
pub(crate) fn load(source: &Source) -> Result<Job, Failure> {
    let (file, setup) = (&source.file, source.setup.as_deref());
    let stated = stated(&source.stated)?;
    let bar = progress_bar();
    let mut progress = |done, of| {
        bar.set_length(of);
        bar.set_position(done);
        bar.set_message("reading the record");
    };
    let job = if file.as_os_str() == "-" {
        Job::of_record(&standard_input(&stated)?, setup, stated, &mut progress)
    } else {
        Job::open_with(file, setup, stated, &mut progress)
    };
    bar.finish_and_clear();
    let mut job = job.map_err(with_options)?;
    for words in &source.with_bus {
        job.try_bus(words).map_err(|error| error.about("--with-bus"))?;
    }
    job.remarks.iter().for_each(remark);
    Ok(job)
}

/// Says how to state on the command line what belongs into a section of a setup.
pub(crate) fn with_options(error: Error) -> Error {
    let help = error.help().unwrap_or("");
    match (help.contains("[import]"), help.contains("is good")) {
        (true, _) => {
            let help = format!("{help}; without a setup, each as --import KEY=VALUE");
            error.with_help(help)
        }
        (_, true) => {
            let help = format!("{help} (--partial)");
            error.with_help(help)
        }
        _ => error,
    }
}

/// Most bytes that are taken from standard input.
const MOST_INPUT: u64 = 1 << 33;
/// So many of them show what it is.
const HEAD: u64 = 1 << 16;

/// What comes through standard input, kept in a file without a name so that it can be read more than once.
/// Nothing is kept of what is no record.
fn standard_input(stated: &Import) -> Result<format::Source, Failure> {
    const NAME: &str = "standard input";
    let failed = |doing: &'static str| move |e| Error::io(NAME, doing, e);
    let mut input = std::io::stdin().lock();
    let mut head = Vec::new();
    input.by_ref().take(HEAD).read_to_end(&mut head).map_err(failed("read"))?;
    let recognised = format::recognise(&format::Source::of_bytes(head.clone(), NAME), stated)?;
    if recognised == Recognised::Capture {
        let error = Error::new(ErrorKind::Capture, "a capture cannot be read from standard input");
        return Err(error.with_help("give the name of its file").at(Place::File(NAME.into())).into());
    }
    let mut file = tempfile::tempfile().map_err(failed("keep"))?;
    file.write_all(&head).map_err(failed("keep"))?;
    let copied = std::io::copy(&mut input.take(MOST_INPUT), &mut file).map_err(failed("read"))?;
    if copied == MOST_INPUT {
        let error = Error::new(ErrorKind::Range, "more than 8 GB came through standard input");
        return Err(error.with_help("write it to a file first").into());
    }
    Ok(format::Source::of_file(file, NAME)?)
}

/// What is stated of a dump, read from the command line.
pub(crate) fn stated(args: &args::Stated) -> Result<Import, Failure> {
    fn read<T: FromStr<Err = Error>>(option: &str, text: Option<&String>) -> Result<Option<T>, Failure> {
        let parsed = text.map(|text| text.parse::<T>().map_err(|error| error.about(format!("--{option}"))));
        Ok(parsed.transpose()?)
    }
    let mut stated = Import::of_words(&args.import)?;
    stated.partial = args.partial;
    if let Some(rate) = read::<Rate>("sampled", args.sampled.as_ref())? {
        stated.period = Some(TimeBase::from_rate(rate).map_err(|error| error.about("--sampled"))?.tick());
    }
    stated.skew = read::<Time>("skew", args.skew.as_ref())?.or(stated.skew);
    stated.accuracy = read::<Percent>("accuracy", args.accuracy.as_ref())?.or(stated.accuracy);
    let negative = stated.skew.is_some_and(|skew| skew < Time::ZERO)
        || stated.accuracy.is_some_and(|accuracy| accuracy < Percent::ZERO);
    if negative {
        let error = Error::new(ErrorKind::Quantity, "neither --skew nor --accuracy is negative");
        return Err(error.with_help("give how far it may be off, such as '1 ns' or '50 ppm'").into());
    }
    Ok(stated)
}

/// Tells damage that was met while working.
pub(crate) fn tell_damage(capture: &Capture) {
    let all = capture.damage();
    let text = |tick| capture.base().text_of(tick);
    for damage in all.iter().take(MOST_DAMAGE) {
        let [from, to] = [damage.ticks.start, damage.ticks.end].map(text);
        remark(format!("damaged from {from} to {to}, taken as unknown: {}", damage.what));
    }
    let rest = all.iter().skip(MOST_DAMAGE).map(|damage| &damage.ticks);
    if let (Some(from), Some(to)) = (rest.clone().map(|t| t.start).min(), rest.clone().map(|t| t.end).max()) {
        let (more, from, to) = (rest.count(), text(from), text(to));
        remark(format!(
            "{more} more damaged stretches from {from} to {to}: deep-tap info --verify --format json lists them"
        ));
    }
}

/// Damaged stretches that are told one by one.
const MOST_DAMAGE: usize = 5;

/// Reads a time given on the command line.
pub(crate) fn parse_time(option: &str, text: &str) -> Result<Time, Failure> {
    text.parse::<Time>().map_err(|error| {
        let told = Error::new(ErrorKind::Quantity, format!("--{option}: {}", error.message()));
        Failure::Error(told.with_help(error.help().unwrap_or("write it like '3.2184 ms'").to_string()))
    })
}
