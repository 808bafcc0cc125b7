//! A record with the setup that explains it, and what people name in it: places, lines, buses, limits.
//!
//! The rooms below know captures and setups apart; this one knows what belongs together. Whoever writes
//! a tool of their own begins here.
//!
//! ```no_run
//! use deep_tap_core::job::Job;
//! use deep_tap_core::known::Rule;
//!
//! let job = Job::open("board.dtap".as_ref(), Some("setups/board.toml".as_ref()))?;
//! let verdicts = job.check(&["U5"], Rule::Proven)?;
//! println!("{}: {:?}", verdicts.overall, verdicts.results);
//! # Ok::<(), deep_tap_core::Error>(())
//! ```

mod first_setup;
mod frames;
mod open;
mod pins;
mod place;
mod select;
mod verdicts;

use std::path::PathBuf;

use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Place, Result};
use crate::event::{Meaning, Scope};
use crate::setup::Setup;

pub use first_setup::{Basis, FirstPart, first_setup, setup_with_parts};
pub use frames::{JobFrame, JobFrames};
pub use place::Between;
pub use verdicts::Verdicts;

/// A record with the setup that explains it.
#[derive(Debug)]
#[non_exhaustive]
pub struct Job {
    /// The record, its lines named as the setup names them.
    pub capture: Capture,
    /// The setup laid over it, or the one that it was recorded with. A dump of a simulation may have none.
    pub setup: Option<Setup>,
    /// What was noticed while it was read: lines left out, a file that ends too early.
    pub remarks: Vec<String>,
    /// What it was read from.
    path: PathBuf,
    /// Serial buses that are tried: what is asked of all buses is asked of these.
    tried: Vec<String>,
}

impl Job {
    /// The setup, which what is asked for cannot do without.
    ///
    /// # Errors
    /// When the record has none.
    pub fn setup(&self) -> Result<&Setup> {
        self.setup.as_ref().ok_or_else(|| {
            let help = "give one with --setup SETUP.toml: its lines name the signals, its sections say what they belong to";
            let error = Error::new(ErrorKind::Setup, "this record has no setup to go by").with_help(help);
            error.at(Place::File(self.path.clone()))
        })
    }

    /// Adds limits that are said in a line of words each, as [`Setup::try_limits`] reads them.
    ///
    /// # Errors
    /// For what is no limit, and for names that the record and its setup do not know.
    pub fn try_limits(&mut self, words: &[impl AsRef<str>]) -> Result<()> {
        let scope = self.scope();
        self.setup.get_or_insert_default().try_limits(words, &scope)
    }

    /// Adds a serial bus in the setup's words, as [`Setup::try_bus`] reads them; its name. What is asked of all
    /// buses is asked of those that were added.
    ///
    /// # Errors
    /// For what is no bus, and for lines that the record does not have.
    pub fn try_bus(&mut self, words: &str) -> Result<String> {
        let setup = self.setup.get_or_insert_default();
        let name = setup.try_bus(words, &self.capture)?;
        crate::diagnose::settle(&self.capture, setup);
        self.tried.push(name.clone());
        Ok(name)
    }

    /// The names of the record, and the buses and named events of its setup.
    pub fn scope(&self) -> Scope {
        let mut scope = Scope::of(&self.capture);
        for bus in self.setup.iter().flat_map(|setup| setup.serial.iter().chain(&setup.exchanged)) {
            if scope.get(bus.name()).is_none() {
                scope.define(bus.name(), Meaning::Frames(bus.clone()));
            }
        }
        for (name, event) in self.setup.iter().flat_map(|setup| &setup.events) {
            if scope.get(name).is_none() {
                scope.define(name.clone(), Meaning::Event(event.clone()));
            }
        }
        scope
    }
}
