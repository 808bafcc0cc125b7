//! Every occurrence of every limit as a table: in one file, or in a folder of them that grows with the boards.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::create_dir_all;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{BoundLimit, Visited};
use deep_tap::quantity::Quantity;
use deep_tap::{Error, ErrorKind, Place};

use crate::contract::limits::verdict;
use crate::errors::Failure;
use crate::tables::{Cell, Columns, Kind, TableFile};

/// The columns. The first ones are in the names of the folders, where there is a folder of tables.
const COLUMNS: Columns<'static> = &[
    ("board", Kind::Text),
    ("part", Kind::Text),
    ("file", Kind::Text),
    ("source", Kind::Text),
    ("made", Kind::Text),
    ("reference", Kind::Text),
    ("symbol", Kind::Text),
    ("unit", Kind::Text),
    ("min", Kind::Number),
    ("max", Kind::Number),
    ("at_s", Kind::Number),
    ("value", Kind::Number),
    ("lo", Kind::Number),
    ("hi", Kind::Number),
    ("margin", Kind::Number),
    ("verdict", Kind::Text),
    ("certain", Kind::Flag),
];

/// How many of them the folders name.
const IN_FOLDERS: usize = 2;

/// Where occurrences are written to.
pub(super) enum Occurrences {
    Table(TableFile),
    Folder(Folder),
}

/// A folder of tables, `board=…/part=…/CAPTURE.parquet`: what engines that query many files know how to
/// read, and what another run can add to.
pub(super) struct Folder {
    path: PathBuf,
    replace: bool,
    written: BTreeSet<PathBuf>,
}

/// The tables of one capture, one for each part.
struct OfCapture {
    board: PathBuf,
    name: String,
    replace: bool,
    parts: BTreeMap<String, TableFile>,
}

impl Occurrences {
    /// A table whose name says its format, or a folder: one that is there, or whose name ends in a slash.
    pub(super) fn create(path: &Path, replace: bool) -> Result<Self, Failure> {
        if path.is_dir() || path.as_os_str().to_string_lossy().ends_with(std::path::is_separator) {
            if cfg!(not(feature = "parquet")) {
                let error = Error::new(
                    ErrorKind::Unknown,
                    "--occurrences: a folder is of Parquet, which this build of deep-tap does not write",
                );
                let help =
                    "build it with: cargo build --release --features deep-tap-cli/parquet; or name a .csv";
                return Err(error.with_help(help).at(Place::File(path.to_path_buf())).into());
            }
            create_dir_all(path).map_err(|error| Error::io(path, "create", error))?;
            let path = path.to_path_buf();
            return Ok(Occurrences::Folder(Folder { path, replace, written: BTreeSet::new() }));
        }
        TableFile::create("occurrences", path, COLUMNS, replace).map(Occurrences::Table)
    }

    /// Adds all occurrences of a capture's limits.
    pub(super) fn add(
        &mut self,
        loaded: &Job,
        file: &Path,
        only: &[String],
        rule: Rule,
    ) -> Result<(), Failure> {
        match self {
            Occurrences::Table(table) => {
                each(loaded, file, only, rule, |_, cells: &[Cell<'_>]| table.row(cells))
            }
            Occurrences::Folder(folder) => {
                let mut tables = folder.of(file)?;
                each(loaded, file, only, rule, |part, cells: &[Cell<'_>]| {
                    tables.part(part)?.row(&cells[IN_FOLDERS..])
                })?;
                tables.parts.into_values().try_for_each(TableFile::finish)
            }
        }
    }

    pub(super) fn finish(self) -> Result<(), Failure> {
        match self {
            Occurrences::Table(table) => table.finish(),
            Occurrences::Folder(_) => Ok(()),
        }
    }
}

impl Folder {
    /// The tables of the capture in a file, which is called as its board.
    fn of(&mut self, file: &Path) -> Result<OfCapture, Failure> {
        let board = board(file);
        let folder = self.path.join(format!("board={}", escaped(&board)));
        if !self.written.insert(folder.clone()) {
            let message = format!("two captures are of a board '{board}'");
            let error = Error::new(ErrorKind::Exists, message).at(Place::File(file.to_path_buf()));
            return Err(error.with_help("name each capture after its board").into());
        }
        let name = format!("{}.parquet", escaped(&board));
        Ok(OfCapture { board: folder, name, replace: self.replace, parts: BTreeMap::new() })
    }
}

impl OfCapture {
    fn part(&mut self, part: &str) -> Result<&mut TableFile, Failure> {
        if !self.parts.contains_key(part) {
            let folder = self.board.join(format!("part={}", escaped(part)));
            create_dir_all(&folder).map_err(|error| Error::io(&folder, "create", error))?;
            let columns = &COLUMNS[IN_FOLDERS..];
            let table = TableFile::create("occurrences", &folder.join(&self.name), columns, self.replace)?;
            self.parts.insert(part.to_string(), table);
        }
        self.parts
            .get_mut(part)
            .ok_or_else(|| Error::new(ErrorKind::Unknown, "this part has no table").into())
    }
}

/// The board that a capture is of: captures are named after their boards.
fn board(file: &Path) -> String {
    file.file_stem().map_or(String::new(), |stem| stem.to_string_lossy().into_owned())
}

/// A value in the name of a folder: what such a name may not have is written as `%` and two hexadecimal digits.
fn escaped(value: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_');
    let escape = |(place, byte): (usize, u8)| match plain(byte) || (byte == b'.' && place > 0) {
        true => char::from(byte).to_string(),
        false => format!("%{byte:02X}"),
    };
    value.bytes().enumerate().map(escape).collect()
}

/// Gives a row for each occurrence, with the part that it is of.
fn each(
    loaded: &Job,
    file: &Path,
    only: &[String],
    rule: Rule,
    mut row: impl FnMut(&str, &[Cell<'_>]) -> Result<(), Failure>,
) -> Result<(), Failure> {
    let capture = &loaded.capture;
    let (name, board) = (file.display().to_string(), board(file));
    let made = capture.origin().made.map_or(String::new(), |made| made.to_string());
    let number = |quantity: Option<Quantity>| Cell::Number(quantity.map(Quantity::to_f64));
    // Of the others the table says that the record is too slow.
    let shown = |bound: &&BoundLimit| bound.check_at(capture.base()).is_ok();
    for bound in loaded.limits(only)?.into_iter().filter(shown) {
        let limit = &bound.limit;
        let kind = limit.kind().unit();
        let unit = kind.to_string();
        let span = bound.span(capture, rule);
        let mut failed = None;
        bound.occurrences(capture, rule, &mut |found| {
            let Visited::Occurrence(occurrence) = found else { return ControlFlow::Continue(()) };
            let bounds = occurrence.bounds(&span);
            let value = occurrence.value(capture.base());
            let margin = value.and_then(|value| limit.required.margin(value.to_rational()));
            let cells = [
                Cell::Text(&board),
                Cell::Text(&bound.part),
                Cell::Text(&name),
                Cell::Text(&capture.origin().source),
                Cell::Text(&made),
                Cell::Text(&bound.reference),
                Cell::Text(&limit.symbol),
                Cell::Text(&unit),
                number(limit.required.min),
                number(limit.required.max),
                Cell::Number(Some(capture.base().time_of(occurrence.start).to_f64())),
                number(value),
                number(bounds.map(|b| b.lo)),
                number(bounds.and_then(|b| b.hi)),
                number(margin.map(|margin| kind.of(margin))),
                Cell::Text(verdict(occurrence.verdict)),
                Cell::Flag(occurrence.certain),
            ];
            match row(&bound.part, &cells) {
                Ok(()) => ControlFlow::Continue(()),
                Err(error) => {
                    failed = Some(error);
                    ControlFlow::Break(())
                }
            }
        })?;
        if let Some(error) = failed {
            return Err(error);
        }
    }
    Ok(())
}
