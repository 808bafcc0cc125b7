//! Setups on disk: files in a folder, and captures, each of which is a folder of the texts that it carries.

use std::cell::RefCell;
use std::path::{Path, PathBuf};

use super::dtap;
use crate::capture::{Attachment, Capture};
use crate::error::{Error, ErrorKind, Place, Result};
use crate::reader::{read_bytes, read_text};
use crate::setup::{Attached, Import, Setup, Texts, is_capture, split_carried};

/// The files of a folder. A capture in it is a folder of what it carries, which refers to nothing outside.
#[derive(Clone, Debug)]
pub struct Folder {
    path: PathBuf,
    /// A file whose name is no text, by the text that stands for it.
    odd: Option<(String, PathBuf)>,
    /// The capture that was read last, and what it carries.
    last: RefCell<Option<(PathBuf, Vec<Attachment>)>>,
}

impl Folder {
    /// Reads relative to this folder.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Folder { path: path.into(), odd: None, last: RefCell::default() }
    }

    /// The folder of a setup, and the setup's name in it. The folder of a capture is the capture itself.
    ///
    /// # Errors
    /// When the path does not end in a file name, and for a capture that cannot be read or carries no setup.
    pub fn of(file: &Path) -> Result<(Self, String)> {
        let folder = Folder::new(file);
        if folder.is_capture() {
            let setup = folder.carried(file)?.first().map(|text| text.name.clone());
            let none = || {
                let error = Error::new(ErrorKind::Setup, "this capture carries no setup");
                error.with_help("give the setup file").at(Place::File(file.to_path_buf()))
            };
            return Ok((folder, setup.ok_or_else(none)?));
        }
        let name = file.file_name().ok_or_else(|| {
            Error::new(ErrorKind::Io, "this is not the path of a file").at(Place::File(file.to_path_buf()))
        })?;
        let shown = name.to_string_lossy().into_owned();
        let folder = Folder::new(file.parent().unwrap_or(Path::new("")));
        let odd = name.to_str().is_none().then(|| (shown.clone(), file.to_path_buf()));
        Ok((Folder { odd, ..folder }, shown))
    }

    fn path(&self, name: &str) -> PathBuf {
        match &self.odd {
            Some((odd, path)) if odd == name => path.clone(),
            _ => self.path.join(name),
        }
    }

    fn is_capture(&self) -> bool {
        self.path.to_str().is_some_and(is_capture) && !self.path.is_dir()
    }

    /// The texts of a capture.
    fn carried(&self, capture: &Path) -> Result<Vec<Attachment>> {
        if let Some((path, texts)) = &*self.last.borrow()
            && path == capture
        {
            return Ok(texts.clone());
        }
        let texts = dtap::open(capture)?.capture.attachments().to_vec();
        *self.last.borrow_mut() = Some((capture.to_path_buf(), texts.clone()));
        Ok(texts)
    }

    /// The capture that carries the text of this name, and the text's name in it.
    fn in_capture<'a>(&self, name: &'a str) -> Option<(PathBuf, &'a str)> {
        if self.is_capture() {
            return Some((self.path.clone(), name));
        }
        let (capture, inner) = split_carried(name)?;
        let capture = self.path(capture);
        (!capture.is_dir()).then_some((capture, inner))
    }
}

impl Texts for Folder {
    fn read(&self, name: &str) -> Result<String> {
        match self.in_capture(name) {
            Some((capture, inner)) => Attached(&self.carried(&capture)?).read(inner),
            None => read_text(&self.path(name), ErrorKind::Setup),
        }
    }

    fn read_bytes(&self, name: &str) -> Result<Vec<u8>> {
        match self.in_capture(name) {
            Some((capture, inner)) => Attached(&self.carried(&capture)?).read_bytes(inner),
            None => read_bytes(&self.path(name), ErrorKind::Setup),
        }
    }

    fn setup_in(&self, capture: &str) -> Result<String> {
        if let Some((outer, inner)) = self.in_capture(capture) {
            let setup = Attached(&self.carried(&outer)?).setup_in(inner)?;
            return Ok(format!("{}{setup}", &capture[..capture.len() - inner.len()]));
        }
        let texts = self.carried(&self.path(capture)).map_err(|error| {
            let message = format!("{}: {}", self.display(capture), error.message());
            Error::new(error.kind(), message)
                .with_help(error.help().unwrap_or("include a setup file instead"))
        })?;
        match texts.first() {
            Some(setup) => Ok(format!("{capture}/{}", setup.name)),
            None => {
                let error = Error::new(ErrorKind::Setup, format!("the capture '{capture}' carries no setup"));
                Err(error.with_help("include a setup file instead"))
            }
        }
    }

    fn is_carried(&self, name: &str) -> bool {
        self.in_capture(name).is_some()
    }

    fn display(&self, name: &str) -> String {
        self.path(name).display().to_string()
    }
}

impl Setup {
    /// Reads a setup file and the files it refers to; of a capture, the setup that it was recorded with.
    ///
    /// # Errors
    /// As [`load`](Setup::load).
    pub fn from_file(path: &Path) -> Result<Setup> {
        let (folder, name) = Folder::of(path)?;
        match folder.is_capture() {
            true => Setup::load_for(&name, &folder, &dtap::open(path)?.capture),
            false => Setup::load(&name, &folder),
        }
    }

    /// The same for a record, whose vectors the buses may name.
    ///
    /// # Errors
    /// As [`load`](Setup::load).
    pub fn from_file_for(path: &Path, record: &Capture) -> Result<Setup> {
        let (folder, name) = Folder::of(path)?;
        Setup::load_for(&name, &folder, record)
    }

    /// What a setup file or the setup of a capture states of records, after everything else in it was checked as
    /// far as it can be without one.
    ///
    /// # Errors
    /// As [`load`](Setup::load).
    pub fn import_of(path: &Path) -> Result<Import> {
        let (folder, name) = Folder::of(path)?;
        Setup::load_import(&name, &folder)
    }
}
