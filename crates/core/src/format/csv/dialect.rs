//! What separates columns, what marks fractions, and where the table begins: seen in the first rows.

use super::cells::{Decimal, stamp, time_unit, volt_unit, word};
use crate::error::{Error, Result};
use crate::format::source::Source;
use crate::setup::{DecimalMark, Import, Numbers, Separator};

/// Rows that are looked at.
const LOOKED_AT: usize = 400;

/// How a table is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Dialect {
    pub(super) separator: u8,
    /// Whether several of them in a row are one, as with blanks.
    pub(super) merged: bool,
    pub(super) decimal: DecimalMark,
    /// The bytes of the text before the first row of values.
    pub(super) start: usize,
    /// The line of that row, from 1.
    pub(super) line: u64,
    /// Names of the columns as they stand; empty where there are none.
    pub(super) names: Vec<String>,
    /// Units from a row of their own.
    pub(super) units: Vec<String>,
    /// Number of columns.
    pub(super) columns: usize,
    /// The first rows of values.
    pub(super) rows: Vec<Vec<String>>,
}

/// A line of the text: where it begins, and what it says.
struct Row<'a> {
    start: usize,
    number: u64,
    text: &'a str,
}

/// The cells of a line.
pub(super) fn split(text: &str, separator: u8, merged: bool) -> Vec<String> {
    if merged {
        return text.split_whitespace().map(str::to_string).collect();
    }
    // PERF: a reader of the crate takes longer to be made than a line to be split.
    let mut cells = vec![String::new()];
    let mut chars = text.chars().peekable();
    let (mut quoted, mut begins) = (false, true);
    while let Some(c) = chars.next() {
        let last = cells.len() - 1;
        match c {
            '"' if quoted && chars.peek() == Some(&'"') => {
                chars.next();
                cells[last].push('"');
            }
            '"' if quoted || begins => quoted = !quoted,
            c if !quoted && c == char::from(separator) => {
                cells.push(String::new());
                begins = true;
                continue;
            }
            c => cells[last].push(c),
        }
        begins = false;
    }
    cells.iter_mut().for_each(|cell| *cell = cell.trim().to_string());
    cells
}

/// A reader of rows.
pub(super) fn reader_of<R: std::io::Read>(separator: u8, from: R) -> ::csv::Reader<R> {
    ::csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .delimiter(separator)
        .buffer_capacity(1 << 18)
        .from_reader(from)
}

/// Whether a cell holds a value: a number, a level, a time, or nothing.
fn is_value(cell: &str, numbers: Option<Numbers>) -> bool {
    cell.is_empty()
        || word(cell.as_bytes(), numbers).is_some()
        || [DecimalMark::Point, DecimalMark::Comma].into_iter().any(|mark| {
            Decimal::read(cell, mark).is_some_and(|(_, rest)| {
                rest.is_empty() || time_unit(rest).is_some() || volt_unit(rest).is_some()
            })
        })
        || stamp(cell).is_some()
        || matches!(cell, "inf" | "-inf" | "NaN")
}

/// Whether a row of cells is one of values: at least one cell says something more than a word.
fn is_values(cells: &[String], numbers: Option<Numbers>) -> bool {
    let digits = |cell: &String| cell.bytes().any(|byte| byte.is_ascii_digit());
    let levels = |cell: &String| word(cell.as_bytes(), numbers).is_some();
    cells.iter().all(|cell| is_value(cell, numbers))
        && (cells.iter().any(digits)
            || cells.iter().filter(|cell| !cell.is_empty()).count() > 0 && cells.iter().all(levels))
}

impl Dialect {
    /// What the beginning of a text shows, or the whole of it, and what is stated of it.
    ///
    /// # Errors
    /// When there is no table, or something cannot be told.
    pub(super) fn of(head: &[u8], whole: bool, source: &Source, stated: &Import) -> Result<Dialect> {
        let text = String::from_utf8_lossy(head);
        let lines = lines_of(&text, whole);
        let separators: Vec<(u8, bool)> = match stated.separator {
            Some(Separator(b' ')) => vec![(b' ', true)],
            Some(Separator(byte)) => vec![(byte, false)],
            None => vec![(b',', false), (b';', false), (b'\t', false), (b'|', false), (b' ', true)],
        };
        let tables = separators.into_iter().filter_map(|(separator, merged)| {
            let table = Candidate::of(&lines, separator, merged, stated.numbers)?;
            Some((table.columns.min(2), table.rows, table.columns, separator, merged, table))
        });
        // The most rows of values in more than one column; of those, the most columns.
        let best = tables.max_by_key(|(several, rows, columns, separator, ..)| {
            (*several, *rows, *columns, *separator != b' ')
        });
        let Some((.., separator, merged, table)) = best else {
            let error = source.refused("there is no table of values in this text");
            return Err(error.with_help(
                "a table has rows of numbers, levels and times, separated by ',' ';' tab, '|' or blanks",
            ));
        };
        let cells = |row: &Row<'_>| {
            let mut cells = split(row.text, separator, merged);
            cells.truncate(table.columns);
            cells
        };
        let rows: Vec<Vec<String>> =
            lines[table.first..].iter().filter(|row| !is_blank(row.text)).map(cells).collect();
        let (names, units) = table.heading(&lines, separator, merged);
        let decimal = match stated.decimal {
            Some(decimal) => decimal,
            None => decimal_of(&rows, separator, source)?,
        };
        Ok(Dialect {
            separator,
            merged,
            decimal,
            start: lines[table.first].start,
            line: lines[table.first].number,
            names,
            units,
            columns: table.columns,
            rows,
        })
    }
}

/// Whether a line is no part of the table wherever it stands.
fn is_blank(text: &str) -> bool {
    let text = text.trim();
    text.is_empty() || text.starts_with('#') || text.bytes().all(|byte| b",;|\t ".contains(&byte))
}

fn lines_of(text: &str, whole: bool) -> Vec<Row<'_>> {
    let mut start = 0;
    let mut lines = Vec::new();
    for (number, line) in text.split_inclusive('\n').enumerate() {
        // A byte order mark is no part of the text.
        let told = if number == 0 { line.strip_prefix('\u{feff}').unwrap_or(line) } else { line };
        let complete = whole || line.ends_with('\n');
        if complete {
            let at = start + (line.len() - told.len());
            lines.push(Row {
                start: at,
                number: number as u64 + 1,
                text: told.trim_end_matches(['\r', '\n']),
            });
        }
        start += line.len();
        if lines.len() >= LOOKED_AT * 4 {
            break;
        }
    }
    lines
}

/// A table that is seen with one separator.
struct Candidate {
    /// The line of the first row of values, by its place in the list.
    first: usize,
    columns: usize,
    /// How many rows there are in a row.
    rows: usize,
}

impl Candidate {
    fn of(lines: &[Row<'_>], separator: u8, merged: bool, numbers: Option<Numbers>) -> Option<Candidate> {
        let mut best: Option<Candidate> = None;
        let mut open: Option<Candidate> = None;
        for (at, line) in lines.iter().enumerate() {
            if is_blank(line.text) {
                continue;
            }
            let mut cells = split(line.text, separator, merged);
            if cells.last().is_some_and(String::is_empty) && cells.len() > 1 {
                cells.pop();
            }
            let values = is_values(&cells, numbers);
            match &mut open {
                Some(table)
                    if values && cells.len() <= table.columns + 1 && cells.len() + 1 >= table.columns =>
                {
                    table.rows += 1;
                    table.columns = table.columns.max(cells.len());
                }
                _ => {
                    best = longer(best, open.take());
                    open = values.then_some(Candidate { first: at, columns: cells.len(), rows: 1 });
                }
            }
            if open.as_ref().is_some_and(|table| table.rows >= LOOKED_AT) {
                break;
            }
        }
        longer(best, open)
    }

    /// The names of the columns, and their units where those have a row of their own.
    fn heading(&self, lines: &[Row<'_>], separator: u8, merged: bool) -> (Vec<String>, Vec<String>) {
        let mut before = lines[..self.first].iter().rev().filter(|line| !line.text.trim().is_empty());
        let mut next = || {
            let line = before.next()?;
            let cells = split(line.text.trim().trim_start_matches('#').trim_start(), separator, merged);
            let cells: Vec<String> =
                cells.into_iter().map(|cell| cell.trim_matches('"').to_string()).collect();
            // The last column may have no name, and the last name no column.
            let fits = cells.len() == self.columns
                || cells.len() == self.columns + 1 && cells.last().is_some_and(String::is_empty);
            (fits && cells.iter().any(|cell| !cell.is_empty())).then(|| cells[..self.columns].to_vec())
        };
        let Some(nearest) = next() else { return (Vec::new(), Vec::new()) };
        let unit = |cell: &String| {
            let cell = cell.trim_matches(['(', ')', '[', ']']).trim();
            cell.is_empty() || time_unit(cell).is_some() || volt_unit(cell).is_some()
        };
        if nearest.iter().all(unit)
            && let Some(names) = next()
        {
            return (names, nearest);
        }
        (nearest, Vec::new())
    }
}

fn longer(a: Option<Candidate>, b: Option<Candidate>) -> Option<Candidate> {
    match (a, b) {
        (Some(a), Some(b)) => Some(if b.rows > a.rows { b } else { a }),
        (a, b) => a.or(b),
    }
}

/// What the numbers show of the mark before their fractions.
fn decimal_of(rows: &[Vec<String>], separator: u8, source: &Source) -> Result<DecimalMark> {
    let (mut point, mut comma) = (false, false);
    let mut open = None;
    for cell in rows.iter().flatten() {
        for (mark, other, seen) in [('.', ',', &mut point), (',', '.', &mut comma)] {
            match marks(cell, mark, other) {
                Some(true) => *seen = true,
                Some(false) => open = open.or(Some((cell, mark))),
                None => {}
            }
        }
    }
    match (point, comma, open) {
        (true, false, _) | (false, false, None) => Ok(DecimalMark::Point),
        (false, true, _) => Ok(DecimalMark::Comma),
        // Between commas, a comma can hardly be anything else.
        (false, false, Some((_, '.'))) if separator == b',' => Ok(DecimalMark::Point),
        (false, false, Some((cell, _))) => Err(ask_decimal(source, cell)),
        (true, true, _) => {
            let error = source
                .refused("some numbers of this table have a point before their fraction, others a comma");
            Err(error.with_help("state which it is: decimal = \",\" in [import]"))
        }
    }
}

fn ask_decimal(source: &Source, cell: &str) -> Error {
    let error = source.refused(format!(
        "'{cell}' may be a fraction, or a number of thousands, and nothing else decides it"
    ));
    error.with_help("state the mark: decimal = \",\" or \".\" in [import]")
}

/// Whether a character is before the fraction of a number: certainly, perhaps, or `None` for what is no
/// such number.
fn marks(cell: &str, mark: char, other: char) -> Option<bool> {
    let number = cell.trim_start_matches(['-', '+']);
    let len = number.find(|c: char| !c.is_ascii_digit() && c != mark && c != other).unwrap_or(number.len());
    let (digits, rest) = number.split_at(len);
    if !digits.starts_with(|c: char| c.is_ascii_digit() || c == mark)
        || rest.starts_with([':', '-', '/', '\''])
    {
        return None;
    }
    let (whole, fraction) = digits.rsplit_once(mark)?;
    if fraction.contains(other) || whole.contains(mark) {
        // What comes more than once, or before the other one, separates thousands.
        return None;
    }
    let group = fraction.len() == 3 && (1..=3).contains(&whole.len()) && !whole.starts_with('0');
    Some(!group || whole.contains(other) || rest.starts_with(['e', 'E']))
}
