//! The files that a setup consists of, and what is wrong in them.

use super::source::Texts;
use crate::capture::Attachment;
use crate::error::{Error, ErrorKind, Place, TextPlace};

/// The files read so far, and the problems found in them.
pub(super) struct Files<'a> {
    pub(super) texts: &'a dyn Texts,
    pub(super) read: Vec<Attachment>,
    pub(super) problems: Vec<Error>,
}

/// A problem of a setup at a place in it.
pub(super) fn wrong(place: &TextPlace, message: impl Into<String>, help: impl Into<String>) -> Error {
    Error::new(ErrorKind::Setup, message).with_help(help).at(Place::Text(place.clone()))
}

impl Files<'_> {
    /// A text that another one mentions; a failure is reported where it is mentioned.
    pub(super) fn text(&mut self, target: &str, mentioned: &TextPlace) -> Option<String> {
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

    /// The same limits file may serve several parts: its problems are reported once.
    pub(super) fn report_once(&mut self, problems: Vec<Error>) {
        for problem in problems {
            let known = |p: &Error| p.place() == problem.place() && p.message() == problem.message();
            if !self.problems.iter().any(known) {
                self.problems.push(problem);
            }
        }
    }
}
