//! Opening a record, and laying a setup over it.

use std::path::Path;

use super::Job;
use crate::capture::Capture;
use crate::diagnose;
use crate::error::{Error, ErrorKind, Place, Result};
use crate::format::{self, Recognised, Source, dtap};
use crate::setup::{Import, Setup};

impl Job {
    /// Opens a capture file, or any other record that can be read, and lays a setup over it; without one, a
    /// capture keeps that which it was recorded with.
    ///
    /// # Errors
    /// When a file cannot be read, or the setup names what the record does not have.
    pub fn open(file: &Path, setup: Option<&Path>) -> Result<Job> {
        Job::open_with(file, setup, Import::default(), &mut |_, _| {})
    }

    /// The same with what is stated of a record besides what its setup states, telling how many bytes of how
    /// many have been read.
    ///
    /// # Errors
    /// As [`open`](Self::open), and when something is stated of a capture, which says it itself.
    pub fn open_with(
        file: &Path,
        setup: Option<&Path>,
        stated: Import,
        progress: &mut dyn FnMut(u64, u64),
    ) -> Result<Job> {
        // What is wrong with a setup should be known before a long record is read.
        setup.map(Setup::import_of).transpose()?;
        let source = Source::open(file)?;
        if format::recognise(&source, &stated)? != Recognised::Capture {
            return Job::of_record(&source, setup, stated, progress);
        }
        if stated != Import::default() {
            let message = "a capture says itself how it was sampled, and how well its instants are known";
            let error = Error::new(ErrorKind::Unknown, message).at(Place::File(file.to_path_buf()));
            return Err(error.with_help("state that of other records only"));
        }
        let opened = dtap::open(file)?;
        let setup = setup.map(|path| Setup::from_file_for(path, &opened.capture)).transpose()?;
        let capture = opened.capture;
        let remarks = opened.cut_short_at.map_or(Vec::new(), |_| capture.remarks().to_vec());
        let setup_given = setup.is_some();
        let setup = setup.map_or_else(|| Setup::of_capture(&capture).transpose(), |setup| Ok(Some(setup)))?;
        let capture = match &setup {
            Some(setup) if setup_given => setup.relabel(capture)?,
            _ => capture,
        };
        Ok(Job::settled(capture, setup, remarks, file))
    }

    /// Reads a record that is not a capture, of which this is stated besides what its setup states.
    ///
    /// # Errors
    /// When it cannot be read, the setup names what it does not have, or its times are not those of the stated
    /// samples.
    pub fn of_record(
        source: &Source,
        setup: Option<&Path>,
        stated: Import,
        progress: &mut dyn FnMut(u64, u64),
    ) -> Result<Job> {
        let own = setup.map(Setup::import_of).transpose()?.unwrap_or_default();
        let import = own.overlaid(stated);
        let record = format::read(source, &import, progress)?;
        // What was recognised comes first.
        let told = record.history().iter().filter(|told| told.starts_with(format::READ_AS));
        let remarks: Vec<String> = told.chain(record.remarks()).cloned().collect();
        let setup = setup.map(|path| Setup::from_file_for(path, &record)).transpose()?;
        let (capture, setup) = match setup {
            Some(setup) => {
                let setup = Setup { import, ..setup };
                (setup.apply(record)?, Some(setup))
            }
            None => (import.apply(record)?, None),
        };
        Ok(Job::settled(capture, setup, remarks, source.name()))
    }

    /// A record that was just made with a setup.
    pub fn recorded(capture: Capture, setup: Setup, name: &Path) -> Job {
        Job::settled(capture, Some(setup), Vec::new(), name)
    }

    fn settled(capture: Capture, mut setup: Option<Setup>, remarks: Vec<String>, name: &Path) -> Job {
        if let Some(setup) = &mut setup {
            diagnose::settle(&capture, setup);
        }
        let capture = match &setup {
            Some(setup) => capture.with_value_names(&setup.buses),
            None => capture,
        };
        Job { capture, setup, remarks, path: name.to_path_buf(), tried: Vec::new() }
    }
}
