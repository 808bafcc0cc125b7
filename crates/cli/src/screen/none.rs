//! In place of a screen of its own, in a build without the view: there is none.

use std::io;

/// No screen.
pub(crate) enum Screen {}

impl Screen {
    pub(crate) fn open() -> io::Result<Screen> {
        Err(io::ErrorKind::Unsupported.into())
    }

    pub(crate) fn is_due(&self) -> bool {
        match *self {}
    }

    pub(crate) fn show(&mut self, _: &str) -> io::Result<()> {
        match *self {}
    }

    pub(crate) fn listen(&mut self) -> io::Result<bool> {
        match *self {}
    }

    pub(crate) fn is_over(&self) -> bool {
        match *self {}
    }
}
