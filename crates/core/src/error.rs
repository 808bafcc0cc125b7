//! The one error type of the computation: what went wrong, where, and what to do about it.

use std::error::Error as StdError;
use std::fmt;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::Arc;

/// Result of everything in this crate that can fail.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What kind of trouble an [`Error`] reports.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum ErrorKind {
    /// The operating system refused: missing file, full disk, no permission.
    Io,
    /// A number with a unit could not be understood.
    Quantity,
    /// An expression of the event language could not be understood.
    Event,
    /// A setup file is wrong.
    Setup,
    /// A limits file is wrong.
    Limits,
    /// A capture, or a file that should hold one, is damaged or contradicts itself.
    Capture,
    /// The instrument cannot do what was asked, or failed while doing it.
    Instrument,
    /// The connection to an instrument cannot be made, has dropped, or stays silent.
    Link,
    /// Running would damage an input.
    Danger,
    /// The trigger did not come within the stated time.
    TimeOut,
    /// Something would be overwritten.
    Exists,
    /// A number leaves the range in which arithmetic is exact.
    Range,
    /// The record's ticks are too long for what was asked.
    TooSlow,
    /// The record is of a kind that does not show what was asked for, at whatever rate.
    NotShown,
    /// The caller asked for something that does not exist, such as an unknown line.
    Unknown,
}

/// Where an [`Error`] lies.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Place {
    /// A stretch of a text, for drawing a caret under it.
    Text(TextPlace),
    /// A line of a file, counted from 1.
    FileLine {
        /// The file.
        path: PathBuf,
        /// Line, from 1.
        line: u64,
    },
    /// A byte offset of a file, counted from 0.
    FileByte {
        /// The file.
        path: PathBuf,
        /// Byte, from 0.
        offset: u64,
    },
    /// A file as a whole.
    File(PathBuf),
}

/// A stretch of a named text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextPlace {
    /// Name of the text, usually a file path; empty for an expression typed by hand.
    pub name: Arc<str>,
    /// The whole text.
    pub text: Arc<str>,
    /// Bytes of the text that are meant.
    pub span: Range<usize>,
}

impl TextPlace {
    /// Line (from 1) and column (from 1, in characters) at which the stretch begins.
    pub fn line_column(&self) -> (usize, usize) {
        let mut at = self.span.start.min(self.text.len());
        while !self.text.is_char_boundary(at) {
            at -= 1;
        }
        let before = &self.text[..at];
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
        (line, column)
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Text(text) => {
                let (line, column) = text.line_column();
                if text.name.is_empty() {
                    write!(f, "column {column}")
                } else {
                    write!(f, "{}:{line}:{column}", text.name)
                }
            }
            Place::FileLine { path, line } => write!(f, "{}:{line}", path.display()),
            Place::FileByte { path, offset } => write!(f, "{}, byte {offset}", path.display()),
            Place::File(path) => write!(f, "{}", path.display()),
        }
    }
}

/// What went wrong, where, and what to do about it.
///
/// [`Display`](fmt::Display) gives the place and the message on one line;
/// [`Error::help`] the remedy, [`Error::related`] the other problems found in the same pass.
pub struct Error {
    inner: Box<Inner>,
}

struct Inner {
    kind: ErrorKind,
    message: String,
    place: Option<Place>,
    help: Option<String>,
    source: Option<Box<dyn StdError + Send + Sync>>,
    related: Vec<Error>,
}

impl Error {
    /// An error with neither place nor help yet.
    pub fn new(kind: ErrorKind, message: impl Into<String>) -> Self {
        let inner = Inner {
            kind,
            message: message.into(),
            place: None,
            help: None,
            source: None,
            related: Vec::new(),
        };
        Error { inner: Box::new(inner) }
    }

    /// An operating system error about a file.
    pub fn io(path: impl Into<PathBuf>, doing: &str, source: std::io::Error) -> Self {
        let path = path.into();
        let help = match source.kind() {
            std::io::ErrorKind::NotFound => Some("check the path: there is no such file or folder"),
            std::io::ErrorKind::PermissionDenied => Some("check the permissions of the file and its folder"),
            std::io::ErrorKind::StorageFull => Some("the disk is full: make room, or save elsewhere"),
            _ => None,
        };
        let mut error = Error::new(ErrorKind::Io, format!("cannot {doing}: {source}")).at(Place::File(path));
        error.inner.help = help.map(str::to_string);
        error.inner.source = Some(Box::new(source));
        error
    }

    /// Several problems as one error: the first one, with the rest as [`related`](Self::related).
    /// `None` when there are none.
    pub fn many(mut problems: Vec<Error>) -> Option<Self> {
        if problems.is_empty() {
            return None;
        }
        let rest = problems.split_off(1);
        let mut first = problems.pop()?;
        first.inner.related.extend(rest);
        Some(first)
    }

    /// The same error with its place, replacing an earlier one.
    #[must_use]
    pub fn at(mut self, place: Place) -> Self {
        self.inner.place = Some(place);
        self
    }

    /// The same error with a remedy.
    #[must_use]
    pub fn with_help(mut self, help: impl Into<String>) -> Self {
        self.inner.help = Some(help.into());
        self
    }

    /// The same error with its cause.
    #[must_use]
    pub fn with_source(mut self, source: impl StdError + Send + Sync + 'static) -> Self {
        self.inner.source = Some(Box::new(source));
        self
    }

    /// The same error with what it is about before its message; its place, help and cause stay.
    ///
    /// ```
    /// use deep_tap_core::{Error, ErrorKind};
    /// let error = Error::new(ErrorKind::Range, "3 samples per bit are too few").with_help("record faster");
    /// let error = error.about("bus 'console'");
    /// assert_eq!(error.message(), "bus 'console': 3 samples per bit are too few");
    /// assert_eq!(error.help(), Some("record faster"));
    /// ```
    #[must_use]
    pub fn about(mut self, what: impl fmt::Display) -> Self {
        self.inner.message = format!("{what}: {}", self.inner.message);
        self
    }

    /// What kind of trouble it is.
    pub fn kind(&self) -> ErrorKind {
        self.inner.kind
    }

    /// What went wrong, without the place.
    pub fn message(&self) -> &str {
        &self.inner.message
    }

    /// Where, if it has a place.
    pub fn place(&self) -> Option<&Place> {
        self.inner.place.as_ref()
    }

    /// What to do about it.
    pub fn help(&self) -> Option<&str> {
        self.inner.help.as_deref()
    }

    /// Further problems found in the same pass.
    pub fn related(&self) -> &[Error] {
        &self.inner.related
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(place) = &self.inner.place {
            write!(f, "{place}: ")?;
        }
        f.write_str(&self.inner.message)
    }
}

impl fmt::Debug for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}: {self}", self.inner.kind)?;
        if let Some(help) = &self.inner.help {
            write!(f, " [{help}]")?;
        }
        for related in &self.inner.related {
            write!(f, "\n{related:?}")?;
        }
        Ok(())
    }
}

/// What cannot happen is no error.
impl From<std::convert::Infallible> for Error {
    fn from(never: std::convert::Infallible) -> Error {
        match never {}
    }
}

impl StdError for Error {
    fn source(&self) -> Option<&(dyn StdError + 'static)> {
        self.inner.source.as_deref().map(|e| e as &(dyn StdError + 'static))
    }
}

/// So many names are compared with a misspelling: a list of mistakes in a list of names shall not cost its square.
const MOST_COMPARED: usize = 1000;
/// So many are listed.
const MOST_LISTED: usize = 12;

/// The nearest of `known` to `typed`, when it is near enough to be a misspelling.
pub(crate) fn nearest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let (lower, long) = (typed.to_lowercase(), typed.chars().count());
    let near = |name: &str| 1 + name.chars().count().min(long) / 3;
    known
        .into_iter()
        .take(MOST_COMPARED)
        .filter(|name| name.chars().count().abs_diff(long) <= near(name))
        .map(|name| (strsim::damerau_levenshtein(&lower, &name.to_lowercase()), name))
        .filter(|(distance, name)| *distance <= near(name))
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, name)| name)
}

/// A help text for an unknown name: the nearest known one, else the list of them.
pub fn suggest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str> + Clone, what: &str) -> String {
    match nearest(typed, known.clone()) {
        Some(name) => format!("did you mean '{name}'?"),
        None => {
            let mut known = known.into_iter();
            let names = known.by_ref().take(MOST_LISTED).collect::<Vec<_>>().join(", ");
            match (names.is_empty(), known.count()) {
                (true, _) => format!("there is no {what} here"),
                (false, 0) => format!("known: {names}"),
                (false, more) => format!("known: {names}, and {more} more"),
            }
        }
    }
}
