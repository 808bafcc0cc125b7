//! What the commands that use an instrument share.

use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

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

/// Whether this is not a file but what to connect to, as in a setup's connect line.
pub(crate) fn is_address(source: &Path) -> bool {
    let parts = source.to_str().and_then(|text| text.split_once(':'));
    // A single letter is a drive.
    parts.is_some_and(|(kind, _)| kind.len() > 1 && !source.exists())
}
