//! What the commands that use an instrument share.

use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

use deep_tap::bench;
use deep_tap::format::dtap;
use deep_tap::instrument::Instrument;
use deep_tap::quantity::Rate;
use deep_tap::setup::Setup;
use deep_tap::{Error, ErrorKind, Place};

use crate::errors::Failure;

/// What `--rate` says.
pub(crate) fn rate_option(text: Option<&str>) -> Result<Option<Rate>, Failure> {
    let parse = |text: &str| {
        text.parse::<Rate>().map_err(|error| {
            let told = Error::new(ErrorKind::Quantity, format!("--rate: {}", error.message()));
            told.with_help(error.help().unwrap_or("write it like '100 MS/s'").to_string()).into()
        })
    };
    text.map(parse).transpose()
}

/// Set by the first interrupt.
static INTERRUPTED: AtomicBool = AtomicBool::new(false);

/// From now on, the first interrupt asks for an end in good order and the second one ends at once.
pub(crate) fn catch_interrupt() {
    let handler = || {
        if INTERRUPTED.swap(true, Ordering::Relaxed) {
            std::process::exit(130);
        }
    };
    // Without a handler, an interrupt ends the program at once, and the file keeps its blocks.
    let _ = ctrlc::set_handler(handler);
}

/// Whether the user wants to stop.
pub(crate) fn interrupted() -> bool {
    INTERRUPTED.load(Ordering::Relaxed)
}

/// The setup in a file, or that of a capture: what it was recorded with.
pub(crate) fn setup_of(path: &Path) -> Result<Setup, Failure> {
    if path.extension().is_none_or(|ending| !ending.eq_ignore_ascii_case("dtap")) {
        return Ok(Setup::from_file(path)?);
    }
    let capture = dtap::open(path)?.capture;
    match Setup::of_capture(&capture) {
        Some(setup) => Ok(setup?),
        None => Err(Error::new(ErrorKind::Setup, "this capture carries no setup")
            .with_help("give the setup file")
            .at(Place::File(path.to_path_buf()))
            .into()),
    }
}

/// The instrument that a setup names.
pub(crate) fn connect(setup: &Setup, path: &Path) -> Result<Box<dyn Instrument>, Failure> {
    let Some(address) = &setup.connect else {
        return Err(Error::new(ErrorKind::Setup, "the setup does not say which instrument to use")
            .with_help("add a section like: [instrument] with connect = \"bench:tide-gauge\"")
            .at(Place::File(path.to_path_buf()))
            .into());
    };
    Ok(bench::connect(address, path.parent().unwrap_or(Path::new("")))?)
}
