//! What the commands that use an instrument share.

use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

use deep_tap::bench;
use deep_tap::instrument::Instrument;
use deep_tap::setup::Setup;
use deep_tap::{Error, ErrorKind, Place};

use crate::errors::Failure;

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
