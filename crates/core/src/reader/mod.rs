//! Reading a TOML text so that every problem in it is reported at once, each at its place and with a
//! remedy. Setups, limits files and bench files are read by it.
//!
//! Whoever reads asks each [`Section`] for its keys, as what they should be. What is missing, of another
//! type, out of range, or asked for by nobody becomes a problem, and reading goes on.
//!
//! ```
//! use deep_tap_core::ErrorKind;
//! use deep_tap_core::quantity::Time;
//! use deep_tap_core::reader::Reader;
//!
//! let reader = Reader::new("pump.toml", "pace = \"12 mV\"\nload = 3\n", ErrorKind::Setup);
//! let pace = reader.read(|top| {
//!     let (pace, load) = (top.parsed::<Time>("pace"), top.within("load", 0..=2u8));
//!     Some((pace?.value, load?.value))
//! });
//! assert_eq!(pace, None);
//! let problems = reader.into_problems();
//! assert_eq!(problems[0].to_string(), "pump.toml:1:8: 'mV' is not a unit of a time: it is in s");
//! assert_eq!(problems[1].to_string(), "pump.toml:2:8: 'load' is 3; it should be a whole number from 0 to 2");
//! ```

mod section;
#[cfg(test)]
mod tests;
mod text;

use std::cell::RefCell;
use std::fs::File;
use std::io::Read;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

use toml::de::DeTable;

pub use section::Section;
pub(crate) use text::{toml_comment, toml_text};

use crate::error::{Error, ErrorKind, Place, Result, TextPlace};

/// Most bytes of a file that a person writes.
const LONGEST: u64 = 16 << 20;

/// The text of a file that a person writes, of up to 16 MiB: no more of it is ever read. Its problems are of `kind`.
///
/// # Errors
/// When it cannot be read, is longer, or is not UTF-8.
pub fn read_text(path: &Path, kind: ErrorKind) -> Result<String> {
    String::from_utf8(read_bytes(path, kind)?).map_err(|error| {
        let offset = error.utf8_error().valid_up_to() as u64;
        Error::new(kind, "this is not UTF-8 text")
            .with_help("it should be a TOML text in UTF-8")
            .at(Place::FileByte { path: path.to_path_buf(), offset })
    })
}

/// The bytes of a file of up to 16 MiB: no more of it is ever read.
///
/// # Errors
/// When it cannot be read, or is longer.
pub fn read_bytes(path: &Path, kind: ErrorKind) -> Result<Vec<u8>> {
    let failed = |error| Error::io(path, "read", error);
    let mut bytes = Vec::new();
    File::open(path).map_err(failed)?.take(LONGEST + 1).read_to_end(&mut bytes).map_err(failed)?;
    if bytes.len() as u64 > LONGEST {
        let error = Error::new(kind, format!("this file is longer than {} MiB", LONGEST >> 20));
        let help = "setups, limits files and boards are texts of a few pages: is this another file?";
        return Err(error.with_help(help).at(Place::File(path.to_path_buf())));
    }
    Ok(bytes)
}

/// One text being read, and the problems found in it.
pub struct Reader {
    name: Arc<str>,
    text: Arc<str>,
    kind: ErrorKind,
    problems: RefCell<Vec<Error>>,
}

/// A value with its place.
#[derive(Clone, Debug)]
pub struct Placed<T> {
    /// The value.
    pub value: T,
    /// Where it is written.
    pub place: TextPlace,
}

/// A text as written: one for all cases, or one for each of several.
#[derive(Clone, Debug)]
pub enum OneOrEach {
    /// One text.
    Always(Placed<String>),
    /// Texts by the names of their cases.
    Under(Vec<NamedText>),
}

/// A name of the user's choice with its text, or with `false`.
pub type NamedText = (Placed<String>, Placed<Option<String>>);

impl Reader {
    /// Of a text with the name that its places shall show, usually a path; its problems will be of `kind`.
    pub fn new(name: &str, text: &str, kind: ErrorKind) -> Self {
        Reader { name: name.into(), text: text.into(), kind, problems: RefCell::default() }
    }

    /// Parses the text and hands its top level to `read`; afterwards, keys at the top that nobody asked
    /// for are problems too. Of a text that is not TOML only that is told, and `read` sees an empty one.
    pub fn read<T>(&self, read: impl FnOnce(&Section<'_>) -> T) -> T {
        let (table, errors) = DeTable::parse_recoverable(&self.text);
        for error in errors {
            let span = error.span().unwrap_or(0..0);
            self.problem(
                span,
                error.message().trim(),
                Some("this is not TOML as its version 1.1 defines it"),
            );
        }
        let empty = DeTable::new();
        // After a syntax error the rest would only be misunderstood.
        let slips = self.problems.borrow().len();
        let broken = slips > 0;
        let table = if broken { &empty } else { table.get_ref() };
        let section = Section::new(self, table, 0..0, String::new());
        let result = read(&section);
        match broken {
            true => self.problems.borrow_mut().truncate(slips),
            false => section.finish(),
        }
        result
    }

    /// What was wrong, in the order of the text.
    pub fn into_problems(self) -> Vec<Error> {
        let mut problems = self.problems.into_inner();
        problems.sort_by_key(|problem| match problem.place() {
            Some(Place::Text(at)) => at.span.start,
            _ => 0,
        });
        problems
    }

    fn place(&self, span: Range<usize>) -> TextPlace {
        TextPlace { name: Arc::clone(&self.name), text: Arc::clone(&self.text), span }
    }

    fn problem(&self, span: Range<usize>, message: impl Into<String>, help: Option<&str>) {
        let error = Error::new(self.kind, message).at(Place::Text(self.place(span)));
        self.report(match help {
            Some(help) => error.with_help(help),
            None => error,
        });
    }

    fn report(&self, error: Error) {
        self.problems.borrow_mut().push(error);
    }
}

/// Moves an error about an expression to the file that the expression stands in.
pub fn moved(error: Error, kind: ErrorKind, value: &TextPlace) -> Error {
    let mut span = value.span.clone();
    if let Some(Place::Text(inner)) = error.place() {
        // In a plain string, the expression's columns are the file's, shifted by the quote.
        let (start, end) = (span.start + 1, span.end.saturating_sub(1));
        if value.text.get(start..end) == Some(&*inner.text) {
            span = start + inner.span.start..start + inner.span.end;
        }
    }
    let moved = Error::new(kind, error.message()).at(Place::Text(TextPlace { span, ..value.clone() }));
    match error.help() {
        Some(help) => moved.with_help(help),
        None => moved,
    }
}
