//! How errors are told.

use std::borrow::Cow;
use std::fmt;
use std::io::{IsTerminal, Write};

use deep_tap::{Error, Place, printable, printable_lines};
use miette::{Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, NamedSource, SourceCode};
use owo_colors::Style;

/// Why a command did not end well.
#[derive(Debug)]
pub(crate) enum Failure {
    /// Standard output was closed by its reader: not our trouble.
    ClosedPipe,
    /// Something to tell the user.
    Error(Error),
}

impl From<Error> for Failure {
    fn from(error: Error) -> Failure {
        Failure::Error(error)
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Failure {
        if error.kind() == std::io::ErrorKind::BrokenPipe {
            return Failure::ClosedPipe;
        }
        Failure::Error(Error::io("standard output", "write", error))
    }
}

/// An error as the drawing library wants it.
struct Shown<'a> {
    error: &'a Error,
    source: Option<NamedSource<String>>,
}

impl<'a> Shown<'a> {
    fn new(error: &'a Error) -> Self {
        let source = match error.place() {
            Some(Place::Text(text)) => {
                let name = if text.name.is_empty() { "expression" } else { &*text.name };
                Some(NamedSource::new(printable(name), quiet(&text.text)))
            }
            _ => None,
        };
        Shown { error, source }
    }
}

/// A text of which every character is still at its place, and none does anything but being seen.
fn quiet(text: &str) -> String {
    let mut quiet = String::with_capacity(text.len());
    for c in text.chars() {
        let mut buffer = [0; 4];
        let own: &str = c.encode_utf8(&mut buffer);
        match printable_lines(own) {
            Cow::Borrowed(_) => quiet.push(c),
            Cow::Owned(_) => quiet.extend(std::iter::repeat_n('?', own.len())),
        }
    }
    quiet
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // The place of a text is drawn; every other place is said.
        match self.error.place() {
            Some(Place::Text(_)) => f.write_str(&printable_lines(self.error.message())),
            _ => f.write_str(&printable_lines(&self.error.to_string())),
        }
    }
}

impl fmt::Debug for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl std::error::Error for Shown<'_> {}

impl Diagnostic for Shown<'_> {
    fn help<'b>(&'b self) -> Option<Box<dyn fmt::Display + 'b>> {
        self.error.help().map(|help| Box::new(printable_lines(help)) as Box<dyn fmt::Display>)
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        self.source.as_ref().map(|s| s as &dyn SourceCode)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        let Some(Place::Text(text)) = self.error.place() else { return None };
        let start = text.span.start.min(text.text.len());
        // A whole section is pointed at by its first line.
        let line_end = text.text[start..].find('\n').map_or(text.text.len(), |n| start + n);
        let end = text.span.end.clamp(start, line_end);
        Some(Box::new(std::iter::once(LabeledSpan::new(None, start, (end - start).max(1)))))
    }
}

/// Whether colours may be used on a stream.
pub(crate) fn colours(stream: &impl IsTerminal) -> bool {
    stream.is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty())
}

/// Vermilion and blue, which every kind of colour vision tells apart, on light and dark ground.
fn theme() -> GraphicalTheme {
    let (bad, good) = (Style::new().fg_rgb::<213, 94, 0>().bold(), Style::new().fg_rgb::<44, 126, 196>());
    let mut theme = GraphicalTheme::unicode();
    theme.styles.error = bad;
    theme.styles.help = good;
    theme.styles.link = good;
    theme.styles.highlights = vec![bad];
    theme
}

/// Most problems of one input that are shown: those after them mostly follow from the first.
const MOST_SHOWN: usize = 50;

/// Tells an error, and what was found beside it, on standard error.
pub(crate) fn print(error: &Error) {
    let stderr = std::io::stderr();
    let theme = match (colours(&stderr), stderr.is_terminal()) {
        (true, _) => theme(),
        (false, true) => GraphicalTheme::unicode_nocolor(),
        (false, false) => GraphicalTheme::none(),
    };
    let width = terminal_size::terminal_size().map_or(100, |(width, _)| usize::from(width.0));
    let handler =
        GraphicalReportHandler::new_themed(theme).with_width(width.clamp(40, 120)).with_context_lines(1);
    let mut text = String::new();
    for (i, error) in std::iter::once(error).chain(error.related()).take(MOST_SHOWN).enumerate() {
        if i > 0 {
            text.push('\n');
        }
        if handler.render_report(&mut text, &Shown::new(error)).is_err() {
            text.push_str(&format!("{error}\n"));
        }
    }
    let problems = error.related().len() + 1;
    if problems > MOST_SHOWN {
        text.push_str(&format!("\n{problems} problems in all, of which {MOST_SHOWN} are shown\n"));
    } else if problems > 1 {
        text.push_str(&format!("\n{problems} problems in all\n"));
    }
    // There is nowhere left to report that standard error is closed.
    let _ = stderr.lock().write_all(text.as_bytes());
}
