//! The files that a setup consists of, and what is wrong in them.

use std::collections::{HashMap, HashSet};

use super::source::{Texts, bytes_of, relative, text_of};
use crate::capture::Attachment;
use crate::error::{Error, ErrorKind, Place, TextPlace};
use crate::reader::Placed;

/// Most files that a setup may consist of.
const MOST_FILES: usize = 256;
/// Most bytes that they may have together.
const MOST_BYTES: usize = 64 << 20;

/// The files read so far, and the problems found in them.
pub(super) struct Files<'a> {
    pub(super) texts: &'a dyn Texts,
    /// In the order in which they were read.
    pub(super) read: Vec<Attachment>,
    pub(super) problems: Vec<Error>,
    /// Where each is in `read`, by its name and by that which places show.
    names: HashMap<String, usize>,
    shown: HashMap<String, usize>,
    bytes: usize,
    /// The problems that were reported once.
    reported: HashSet<(usize, String)>,
}

/// A problem of a setup at a place in it.
pub(super) fn wrong(place: &TextPlace, message: impl Into<String>, help: impl Into<String>) -> Error {
    Error::new(ErrorKind::Setup, message).with_help(help).at(Place::Text(place.clone()))
}

impl<'a> Files<'a> {
    pub(super) fn new(texts: &'a dyn Texts) -> Self {
        Files {
            texts,
            read: Vec::new(),
            problems: Vec::new(),
            names: HashMap::new(),
            shown: HashMap::new(),
            bytes: 0,
            reported: HashSet::new(),
        }
    }

    /// Whether a file was read before.
    pub(super) fn is_read(&self, name: &str) -> bool {
        self.names.contains_key(name)
    }

    /// A file that was read before.
    pub(super) fn known(&self, name: &str) -> Option<&Attachment> {
        self.names.get(name).map(|place| &self.read[*place])
    }

    /// The file that a place lies in.
    pub(super) fn of_place(&self, place: &TextPlace) -> Option<&Attachment> {
        self.shown.get(&*place.name).map(|place| &self.read[*place])
    }

    /// Keeps a file that was read.
    pub(super) fn keep(&mut self, file: Attachment) {
        self.names.entry(file.name.clone()).or_insert(self.read.len());
        self.shown.entry(self.texts.display(&file.name)).or_insert(self.read.len());
        self.bytes += file.text.len();
        self.read.push(file);
    }

    /// Whether no more files are read; that is reported.
    fn is_full(&mut self, mentioned: &TextPlace) -> bool {
        let full = self.read.len() >= MOST_FILES || self.bytes >= MOST_BYTES;
        if full {
            let (files, megabytes) = (MOST_FILES, MOST_BYTES >> 20);
            let message =
                format!("a setup may consist of {files} files and {megabytes} MB, and this is beyond");
            self.problems.push(wrong(mentioned, message, "put what belongs together into one file"));
        }
        full
    }

    /// A text that another one mentions; a failure is reported where it is mentioned.
    pub(super) fn text(&mut self, target: &str, mentioned: &TextPlace) -> Option<String> {
        if self.is_full(mentioned) {
            return None;
        }
        match self.texts.read(target) {
            Ok(text) => Some(text),
            Err(error) => {
                let help = error.help().unwrap_or("paths are relative to the file that mentions them");
                let message = format!("{}: {}", self.texts.display(target), error.message());
                self.problems.push(wrong(mentioned, message, help));
                None
            }
        }
    }

    /// The bytes of a file that a setup mentions, relative to the file that does. A capture keeps them as a text.
    pub(super) fn bytes(&mut self, mentioned: &Placed<String>) -> Option<Vec<u8>> {
        let from = self.of_place(&mentioned.place).map_or(String::new(), |file| file.name.clone());
        let name = relative(&from, &mentioned.value);
        if let Some(known) = self.known(&name) {
            return Some(bytes_of(&known.text));
        }
        if self.is_full(&mentioned.place) {
            return None;
        }
        match self.texts.read_bytes(&name) {
            Ok(bytes) => {
                self.keep(Attachment { name, text: text_of(&bytes) });
                Some(bytes)
            }
            Err(error) => {
                let help = error.help().unwrap_or("paths are relative to the file that mentions them");
                let message = format!("{}: {}", self.texts.display(&name), error.message());
                self.problems.push(wrong(&mentioned.place, message, help));
                None
            }
        }
    }

    /// The same limits file may serve several parts: its problems are reported once.
    pub(super) fn report_once(&mut self, problems: Vec<Error>) {
        for problem in problems {
            let place = match problem.place() {
                Some(Place::Text(at)) => (at.span.start, format!("{}: {}", at.name, problem.message())),
                _ => (0, problem.message().to_string()),
            };
            if self.reported.insert(place) {
                self.problems.push(problem);
            }
        }
    }
}
