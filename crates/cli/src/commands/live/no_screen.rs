//! In place of a screen of its own, in a build without the view: there is none.

use std::io;

/// No screen.
pub(super) enum Screen {}

impl Screen {
    pub(super) fn open() -> io::Result<Screen> {
        Err(io::ErrorKind::Unsupported.into())
    }

    pub(super) fn is_due(&self) -> bool {
        match *self {}
    }

    pub(super) fn show(&mut self, _: &str) -> io::Result<()> {
        match *self {}
    }

    pub(super) fn listen(&mut self) -> io::Result<bool> {
        match *self {}
    }

    pub(super) fn is_over(&self) -> bool {
        match *self {}
    }
}
