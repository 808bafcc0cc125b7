//! The rows of a table, one after the other.

use std::io::{BufRead, BufReader, Read};

use super::dialect::{Dialect, reader_of};
use crate::error::Result;
use crate::format::source::{Reader, Source};

/// Longest line of a table.
const LONGEST: u64 = 1 << 24;

/// Reads rows.
pub(super) struct Table<'a> {
    source: &'a Source,
    from: From<'a>,
    columns: usize,
    record: ::csv::ByteRecord,
    /// Lines of the text before what is read now.
    lines_before: u64,
    line: u64,
    partial: bool,
    /// What made the text end early.
    pub(super) early: Option<crate::error::Error>,
}

enum From<'a> {
    Separated(Box<::csv::Reader<Reader<'a>>>),
    /// By blanks, several of which are one.
    Blanks(BufReader<Reader<'a>>, String),
}

impl<'a> Table<'a> {
    /// Stands before the first row of values.
    ///
    /// # Errors
    /// When the text cannot be read.
    pub(super) fn open(source: &'a Source, dialect: &Dialect, partial: bool) -> Result<Table<'a>> {
        let mut reader = source.reader();
        let skipped =
            std::io::copy(&mut Read::by_ref(&mut reader).take(dialect.start as u64), &mut std::io::sink());
        skipped.map_err(|error| source.unreadable(error, 0))?;
        let from = match dialect.merged {
            true => From::Blanks(BufReader::with_capacity(1 << 18, reader), String::new()),
            false => From::Separated(Box::new(reader_of(dialect.separator, reader))),
        };
        Ok(Table {
            source,
            from,
            columns: dialect.columns,
            record: ::csv::ByteRecord::new(),
            lines_before: dialect.line - 1,
            line: dialect.line,
            partial,
            early: None,
        })
    }

    /// The cells of the row that was read last.
    pub(super) fn row(&self) -> &::csv::ByteRecord {
        &self.record
    }

    /// The line of the row that was read last.
    pub(super) fn line(&self) -> u64 {
        self.line
    }

    /// Bytes of the source that were read.
    pub(super) fn read(&self) -> u64 {
        match &self.from {
            From::Separated(reader) => reader.get_ref().consumed(),
            From::Blanks(reader, _) => reader.get_ref().consumed(),
        }
    }

    /// The cells of the next row; `None` at the end.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(super) fn next(&mut self) -> Result<Option<&::csv::ByteRecord>> {
        loop {
            let more = match &mut self.from {
                From::Separated(reader) => reader.read_byte_record(&mut self.record).map_err(plain),
                From::Blanks(reader, text) => {
                    text.clear();
                    let mut line = Vec::new();
                    let more = reader.by_ref().take(LONGEST).read_until(b'\n', &mut line);
                    text.push_str(&String::from_utf8_lossy(&line));
                    self.lines_before += 1;
                    self.record = ::csv::ByteRecord::from(text.split_whitespace().collect::<Vec<_>>());
                    more.map(|read| read > 0)
                }
            };
            match more {
                Ok(true) => {}
                Ok(false) => return Ok(None),
                Err(error) => {
                    let good = match &self.from {
                        From::Separated(reader) => reader.get_ref().given(),
                        From::Blanks(reader, _) => reader.get_ref().given(),
                    };
                    let error = self.source.unreadable(error, good);
                    if !self.partial {
                        return Err(error);
                    }
                    self.early = Some(error);
                    return Ok(None);
                }
            }
            self.line = match &self.from {
                From::Separated(_) => {
                    self.lines_before + self.record.position().map_or(0, ::csv::Position::line)
                }
                From::Blanks(..) => self.lines_before,
            };
            let first = self.record.get(0).unwrap_or(&[]);
            let blank =
                first.starts_with(b"#") || first.is_empty() && self.record.iter().all(<[u8]>::is_empty);
            let short = self.record.len() < self.columns;
            let empty = short && self.record.iter().all(|cell| cell.trim_ascii().is_empty());
            if !blank && !empty {
                break;
            }
        }
        Ok(Some(&self.record))
    }
}

/// The reader's own error.
fn plain(error: ::csv::Error) -> std::io::Error {
    match error.into_kind() {
        ::csv::ErrorKind::Io(error) => error,
        other => std::io::Error::other(format!("{other:?}")),
    }
}
