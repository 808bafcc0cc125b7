//! Where results go.

use std::borrow::Cow;
use std::fs::File;
use std::io::{BufWriter, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;

use comfy_table::presets::NOTHING;
use comfy_table::{Attribute, Cell, CellAlignment, Color, ContentArrangement};
use deep_tap::{Error, ErrorKind, Place, printable, printable_lines};
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;
use tempfile::NamedTempFile;

use crate::args::{Format, Table};
use crate::contract::{Document, Rows};
use crate::errors::{Failure, colours};

/// Standard output, or a text that stands in for it.
pub(crate) enum Out {
    Stdout(BufWriter<std::io::Stdout>),
    Buffer(Vec<u8>),
}

impl Out {
    pub(crate) fn stdout() -> Self {
        Out::Stdout(BufWriter::new(std::io::stdout()))
    }

    pub(crate) fn buffer() -> Self {
        Out::Buffer(Vec::new())
    }

    /// What a buffer took; empty for standard output.
    pub(crate) fn into_text(self) -> String {
        match self {
            Out::Stdout(_) => String::new(),
            Out::Buffer(bytes) => String::from_utf8_lossy(&bytes).into_owned(),
        }
    }

    /// A line of text.
    pub(crate) fn line(&mut self, text: impl AsRef<str>) -> Result<(), Failure> {
        Ok(writeln!(self.writer(), "{}", quiet(text.as_ref()))?)
    }

    pub(crate) fn writer(&mut self) -> &mut dyn Write {
        match self {
            Out::Stdout(stdout) => stdout,
            Out::Buffer(bytes) => bytes,
        }
    }

    /// Hands everything so far to its reader.
    pub(crate) fn finish(&mut self) -> Result<(), Failure> {
        Ok(self.writer().flush()?)
    }
}

/// A text in which nothing acts but the colours of tables.
fn quiet(text: &str) -> Cow<'_, str> {
    if !colours(&std::io::stdout()) {
        return printable_lines(text);
    }
    let mut parts = text.split('\u{1b}');
    let mut shown = String::from(printable_lines(parts.next().unwrap_or_default()));
    for part in parts {
        match COLOURS.iter().find(|colour| part.starts_with(*colour)) {
            Some(_) => shown.push('\u{1b}'),
            None => shown.push_str(&printable("\u{1b}")),
        }
        shown.push_str(&printable_lines(part));
    }
    shown.into()
}

/// How tables set off a cell: vermilion, blue, bold, and the end of each.
const COLOURS: [&str; 5] = ["[38;2;213;94;0m", "[38;2;44;126;196m", "[1m", "[0m", "[39m"];

/// A remark on standard error, if that is still open.
pub(crate) fn remark(text: impl AsRef<str>) {
    let _ = writeln!(std::io::stderr(), "deep-tap: {}", printable_lines(text.as_ref()));
}

/// A progress bar on standard error, which only shows on a terminal.
pub(crate) fn progress_bar() -> ProgressBar {
    if !std::io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::new(0);
    if let Ok(style) = ProgressStyle::with_template("{spinner} {msg} {wide_bar} {percent} %") {
        bar.set_style(style);
    }
    bar
}

/// Says on a terminal that something goes on, once it has taken a second, until this is dropped.
pub(crate) struct Working {
    /// Dropped to end it.
    ends: Option<Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Working {
    pub(crate) fn on(what: impl Into<String>) -> Self {
        let what = what.into();
        if !std::io::stderr().is_terminal() {
            return Working { ends: None, thread: None };
        }
        let (ends, ended) = channel::<()>();
        let thread = std::thread::spawn(move || {
            let over = |wait| ended.recv_timeout(wait) != Err(RecvTimeoutError::Timeout);
            if over(Duration::from_secs(1)) {
                return;
            }
            let bar = ProgressBar::new_spinner().with_elapsed(Duration::from_secs(1));
            if let Ok(style) = ProgressStyle::with_template("{spinner} {msg}, {elapsed}") {
                bar.set_style(style);
            }
            bar.set_message(what);
            while !over(Duration::from_millis(100)) {
                bar.tick();
            }
            bar.finish_and_clear();
        });
        Working { ends: Some(ends), thread: Some(thread) }
    }
}

impl Drop for Working {
    fn drop(&mut self) {
        self.ends = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// How much a row asks for attention.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mark {
    None,
    Open,
    Bad,
}

/// A table of texts.
pub(crate) struct Grid {
    table: comfy_table::Table,
    /// What stands below rows, on lines of their own.
    remarks: Vec<String>,
}

impl Grid {
    /// `right` holds the numbers of the columns that are aligned to the right.
    pub(crate) fn new(header: &[&str], right: &[usize]) -> Self {
        let mut table = comfy_table::Table::new();
        table.load_style(NOTHING).set_header(header.to_vec());
        // On a terminal, long words wrap inside their column; elsewhere every row is one line.
        match terminal_width() {
            Some(width) => {
                table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
            }
            None => {
                table.set_content_arrangement(ContentArrangement::Disabled);
            }
        }
        for (i, column) in table.column_iter_mut().enumerate() {
            // Two blanks between columns, none before the first.
            column.set_padding((0, 2));
            if right.contains(&i) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        Grid { table, remarks: Vec::new() }
    }

    pub(crate) fn row(&mut self, cells: Vec<String>) {
        self.table.add_row(cells);
    }

    /// A row whose last cell is set off, on a terminal with colours.
    pub(crate) fn row_with_mark(&mut self, cells: Vec<String>, mark: Mark) {
        let last = cells.len().saturating_sub(1);
        let coloured = colours(&std::io::stdout());
        // Vermilion and blue differ for every kind of colour vision, and on light and dark ground.
        let dress = |(i, text): (usize, String)| match mark {
            Mark::Bad if coloured && i == last => {
                Cell::new(text).fg(Color::Rgb { r: 213, g: 94, b: 0 }).add_attribute(Attribute::Bold)
            }
            Mark::Open if coloured && i == last => Cell::new(text).fg(Color::Rgb { r: 44, g: 126, b: 196 }),
            _ => Cell::new(text),
        };
        self.table.add_row(cells.into_iter().enumerate().map(dress).collect::<Vec<_>>());
    }

    /// A row as [`row_with_mark`](Grid::row_with_mark), and below it a remark. Where one row has one, all need one,
    /// and no cell is wrapped.
    pub(crate) fn row_with_remark(&mut self, cells: Vec<String>, mark: Mark, remark: &str) {
        self.table.set_content_arrangement(ContentArrangement::Disabled);
        self.row_with_mark(cells, mark);
        self.remarks.push(remark.to_string());
    }

    /// Whether it fits without wrapping any cell.
    pub(crate) fn fits(&self) -> bool {
        let needed: usize =
            self.table.column_max_content_widths().iter().map(|width| usize::from(*width) + 2).sum();
        terminal_width().is_none_or(|width| needed <= usize::from(width) + 2)
    }

    /// The table as lines without trailing blanks.
    pub(crate) fn text(&self) -> String {
        let mut lines: Vec<String> = self.table.lines().map(|l| l.trim_end().to_string()).collect();
        for (place, remark) in self.remarks.iter().enumerate().rev().filter(|(_, remark)| !remark.is_empty())
        {
            // The header comes first.
            let at = (place + 2).min(lines.len());
            lines.insert(at, wrapped(remark, "    ").trim_end().to_string());
        }
        lines.join("\n")
    }
}

/// Columns of the terminal, if standard output is one; else those that `COLUMNS` states.
pub(crate) fn terminal_width() -> Option<u16> {
    if !std::io::stdout().is_terminal() {
        let stated = std::env::var("COLUMNS").ok()?;
        return stated.trim().parse().ok().filter(|columns| *columns >= 20);
    }
    let size = std::io::stdout().is_terminal().then(terminal_size::terminal_size).flatten();
    size.map(|(width, _)| width.0)
}

/// A text in lines that fit the terminal, or 100 columns elsewhere, each behind an indent.
pub(crate) fn wrapped(text: &str, indent: &str) -> String {
    let width = terminal_width().map_or(100, usize::from).max(40);
    let mut lines = String::new();
    let mut line = String::new();
    for word in text.split_whitespace() {
        if !line.is_empty() && indent.len() + line.chars().count() + 1 + word.chars().count() > width {
            lines.push_str(&format!("{indent}{line}\n"));
            line.clear();
        }
        if !line.is_empty() {
            line.push(' ');
        }
        line.push_str(word);
    }
    lines.push_str(&format!("{indent}{line}\n"));
    lines
}

/// A sentence that is wrapped on a terminal; elsewhere it is one line.
pub(crate) fn folded(text: &str) -> String {
    match terminal_width() {
        Some(_) => wrapped(text, "").trim_end().to_string(),
        None => text.to_string(),
    }
}

/// A name and what it is, which goes on below itself.
pub(crate) fn hanging(name: &str, value: &str) -> String {
    let indent = " ".repeat(10);
    let body = wrapped(value, &indent);
    format!("{name:<10}{}", body.get(indent.len()..).unwrap_or_default())
}

/// Writes a result in the form and to the place that was asked for: for people by `text`, as rows of these
/// columns, or as a document.
pub(crate) fn write_table<T: Serialize>(
    table: &Table,
    out: &mut Out,
    document: &Document<'_, T>,
    columns: &'static [&'static str],
    rows: impl FnOnce(&mut Rows) -> Result<(), Failure>,
    text: impl FnOnce() -> String,
) -> Result<(), Failure> {
    let bytes = match table.format {
        Format::Text => quiet(&text()).into_owned().into_bytes(),
        Format::Json => {
            let mut bytes = serde_json::to_vec_pretty(document).map_err(not_json)?;
            bytes.push(b'\n');
            bytes
        }
        Format::Csv => csv(columns, rows)?,
    };
    put(table, out, &bytes)
}

/// The same for a list that JSON has as lines, an object each.
pub(crate) fn write_lines<'a, T: Serialize + 'a>(
    table: &Table,
    out: &mut Out,
    name: &'static str,
    items: impl Iterator<Item = &'a T>,
    columns: &'static [&'static str],
    text: impl FnOnce() -> String,
) -> Result<(), Failure> {
    let bytes = match table.format {
        Format::Text => quiet(&text()).into_owned().into_bytes(),
        Format::Json => {
            let mut bytes = Vec::new();
            for item in items {
                serde_json::to_writer(&mut bytes, &Document::new(name, item)).map_err(not_json)?;
                bytes.push(b'\n');
            }
            bytes
        }
        Format::Csv => csv(columns, |rows| rows.each(items))?,
    };
    put(table, out, &bytes)
}

fn csv(
    columns: &'static [&'static str],
    rows: impl FnOnce(&mut Rows) -> Result<(), Failure>,
) -> Result<Vec<u8>, Failure> {
    let mut table = Rows::new(columns)?;
    rows(&mut table)?;
    table.take()
}

pub(crate) fn not_json(error: serde_json::Error) -> Failure {
    Error::new(ErrorKind::Io, "the result cannot be written as JSON").with_source(error).into()
}

fn put(table: &Table, out: &mut Out, bytes: &[u8]) -> Result<(), Failure> {
    match &table.output {
        Some(path) if path.as_os_str() != "-" => save(path, table.replace, |file| file.write_all(bytes)),
        _ => Ok(out.writer().write_all(bytes)?),
    }
}

/// Writes a file that appears under its name only when it is complete.
pub(crate) fn save(
    path: &Path,
    replace: bool,
    write: impl FnOnce(&mut dyn Write) -> std::io::Result<()>,
) -> Result<(), Failure> {
    let mut pending = Pending::create(path, replace)?;
    {
        let mut writer = BufWriter::new(pending.file());
        write(&mut writer).and_then(|()| writer.flush()).map_err(|e| Error::io(path, "write", e))?;
    }
    pending.finish()
}

/// A file that is being written; it appears under its name when it is finished.
pub(crate) struct Pending {
    file: NamedTempFile,
    path: PathBuf,
    replace: bool,
}

impl Pending {
    pub(crate) fn create(path: &Path, replace: bool) -> Result<Self, Failure> {
        if !replace && path.exists() {
            return Err(there_already(path));
        }
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let name = path.file_name().map_or(String::new(), |name| name.to_string_lossy().into_owned());
        let (prefix, suffix) = (format!(".{name}."), ".part");
        clear(folder, &prefix, suffix);
        let mut builder = tempfile::Builder::new();
        builder.prefix(&prefix).suffix(suffix).rand_bytes(RANDOM);
        // As readable as any other new file, not only for its owner.
        #[cfg(unix)]
        builder.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o666));
        let file = builder.tempfile_in(folder).map_err(|e| Error::io(path, "create", e))?;
        // Tells others that this is no leftover; where files cannot be locked, nobody clears any.
        let _ = file.as_file().try_lock();
        Ok(Pending { file, path: path.to_path_buf(), replace })
    }

    pub(crate) fn write(&mut self, bytes: &[u8]) -> Result<(), Failure> {
        Ok(self.file.as_file_mut().write_all(bytes).map_err(|error| Error::io(&self.path, "write", error))?)
    }

    pub(crate) fn file(&mut self) -> &mut File {
        self.file.as_file_mut()
    }

    pub(crate) fn finish(self) -> Result<(), Failure> {
        let Pending { file, path, replace } = self;
        let done = if replace { file.persist(&path) } else { file.persist_noclobber(&path) };
        match done {
            Ok(_) => Ok(()),
            Err(error) if error.error.kind() == std::io::ErrorKind::AlreadyExists => {
                Err(there_already(&path))
            }
            Err(error) => Err(Error::io(&path, "write", error.error).into()),
        }
    }
}

/// Removes what an earlier run that was killed left of the same file: it was never complete.
fn clear(folder: &Path, prefix: &str, suffix: &str) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    for entry in entries.filter_map(Result::ok) {
        let name = entry.file_name();
        let mine = name.to_str().is_some_and(|name| {
            name.len() == prefix.len() + RANDOM + suffix.len()
                && name.starts_with(prefix)
                && name.ends_with(suffix)
        });
        let old = || {
            let age = entry.metadata().and_then(|file| file.modified()).map(|time| time.elapsed());
            age.is_ok_and(|age| age.is_ok_and(|age| age > LEFT))
        };
        let left = || old() && File::open(entry.path()).is_ok_and(|file| file.try_lock().is_ok());
        if mine && left() {
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

/// So long ago a leftover was written to: what is just begun may not be locked yet.
const LEFT: Duration = Duration::from_secs(60);
/// Characters by which unfinished files of one name differ.
const RANDOM: usize = 6;

fn there_already(path: &Path) -> Failure {
    let error = Error::new(ErrorKind::Exists, "this file is there already");
    let help = "choose another name, or say that it may be replaced (--replace)";
    error.with_help(help).at(Place::File(path.to_path_buf())).into()
}
