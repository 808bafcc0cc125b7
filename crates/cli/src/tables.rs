//! Tables in files, for any program that queries tables: CSV, and with the feature `parquet`, Apache
//! Parquet.

use std::fs::File;
use std::path::{Path, PathBuf};

use deep_tap::{Error, ErrorKind, Place};

use crate::contract::harmless;
use crate::errors::Failure;
use crate::output::Pending;

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Text,
    Number,
    Whole,
    Flag,
}

/// The columns of a table: names and what they hold.
pub(crate) type Columns<'a> = &'a [(&'static str, Kind)];

/// One cell of a row, of its column's kind.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Cell<'a> {
    Text(&'a str),
    Number(Option<f64>),
    Whole(Option<i64>),
    Flag(bool),
}

/// A table that is being written; it appears under its name when it is finished.
pub(crate) struct TableFile {
    pending: Pending,
    path: PathBuf,
    writer: Writer,
}

enum Writer {
    Csv(Box<csv::Writer<File>>),
    #[cfg(feature = "parquet")]
    Parquet(Box<by_column::Table>),
}

impl TableFile {
    /// The name's ending says which format it is.
    pub(crate) fn create(
        option: &str,
        path: &Path,
        columns: Columns<'_>,
        replace: bool,
    ) -> Result<Self, Failure> {
        let ending = path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
        let wrong = |message: &str, help: &str| {
            let error = Error::new(ErrorKind::Unknown, format!("--{option}: {message}"));
            Failure::from(error.with_help(help).at(Place::File(path.to_path_buf())))
        };
        if !matches!(ending.as_str(), "csv" | "parquet") {
            return Err(wrong("the name does not say which table this is", "let it end in .csv or .parquet"));
        }
        if ending == "parquet" && cfg!(not(feature = "parquet")) {
            let help =
                "build it with: cargo build --release --features deep-tap-cli/parquet; or write a .csv";
            return Err(wrong("this build of deep-tap writes no Parquet", help));
        }
        let mut pending = Pending::create(path, replace)?;
        let failed = |error| Failure::from(Error::io(path, "write", error));
        let file = pending.file().try_clone().map_err(failed)?;
        let writer = match ending.as_str() {
            #[cfg(feature = "parquet")]
            "parquet" => Writer::Parquet(Box::new(by_column::Table::new(file, columns).map_err(failed)?)),
            _ => {
                let mut writer = csv::Writer::from_writer(file);
                let header = columns.iter().map(|(name, _)| *name);
                writer.write_record(header).map_err(|error| failed(error.into()))?;
                Writer::Csv(Box::new(writer))
            }
        };
        Ok(TableFile { pending, path: path.to_path_buf(), writer })
    }

    /// Adds a row with a cell for each column.
    pub(crate) fn row(&mut self, cells: &[Cell<'_>]) -> Result<(), Failure> {
        let written = match &mut self.writer {
            Writer::Csv(writer) => {
                let texts = cells.iter().map(|cell| match cell {
                    Cell::Text(text) => harmless(text).into_owned(),
                    Cell::Flag(flag) => flag.to_string(),
                    Cell::Number(number) => number.map_or(String::new(), |number| format!("{number:e}")),
                    Cell::Whole(number) => number.map_or(String::new(), |number| number.to_string()),
                });
                writer.write_record(texts).map_err(Into::into)
            }
            #[cfg(feature = "parquet")]
            Writer::Parquet(table) => table.push(cells),
        };
        written.map_err(|error| Error::io(&self.path, "write", error).into())
    }

    pub(crate) fn finish(self) -> Result<(), Failure> {
        let TableFile { pending, path, writer } = self;
        let written = match writer {
            Writer::Csv(mut writer) => writer.flush(),
            #[cfg(feature = "parquet")]
            Writer::Parquet(table) => table.finish(),
        };
        written.map_err(|error| Error::io(&path, "write", error))?;
        pending.finish()
    }
}

#[cfg(feature = "parquet")]
mod by_column {
    use std::fs::File;
    use std::sync::Arc;

    use parquet::basic::{Compression, LogicalType, Repetition, Type as Physical};
    use parquet::data_type::{BoolType, ByteArray, ByteArrayType, DoubleType, Int64Type};
    use parquet::errors::ParquetError;
    use parquet::file::properties::WriterProperties;
    use parquet::file::writer::SerializedFileWriter;
    use parquet::schema::types::Type;

    use super::{Cell, Columns, Kind};

    /// Rows of one group.
    const GROUP: usize = 1 << 18;

    /// What was pushed and not written yet, a column at a time.
    pub(super) struct Table {
        writer: SerializedFileWriter<File>,
        columns: Vec<Column>,
        rows: usize,
    }

    enum Column {
        Text(Vec<ByteArray>),
        Number(Vec<Option<f64>>),
        Whole(Vec<Option<i64>>),
        Flag(Vec<bool>),
    }

    impl Table {
        pub(super) fn new(file: File, columns: Columns<'_>) -> std::io::Result<Self> {
            let column = |(name, kind): &(&str, Kind)| {
                let builder = match kind {
                    Kind::Text => Type::primitive_type_builder(name, Physical::BYTE_ARRAY)
                        .with_repetition(Repetition::REQUIRED)
                        .with_logical_type(Some(LogicalType::String)),
                    Kind::Number => Type::primitive_type_builder(name, Physical::DOUBLE)
                        .with_repetition(Repetition::OPTIONAL),
                    Kind::Whole => Type::primitive_type_builder(name, Physical::INT64)
                        .with_repetition(Repetition::OPTIONAL),
                    Kind::Flag => Type::primitive_type_builder(name, Physical::BOOLEAN)
                        .with_repetition(Repetition::REQUIRED),
                };
                builder.build().map(Arc::new)
            };
            let fields = columns.iter().map(column).collect::<Result<Vec<_>, _>>();
            let schema = fields
                .and_then(|fields| Type::group_type_builder("table").with_fields(fields).build())
                .map_err(told)?;
            let properties = WriterProperties::builder().set_compression(Compression::LZ4_RAW).build();
            let writer =
                SerializedFileWriter::new(file, Arc::new(schema), Arc::new(properties)).map_err(told)?;
            let empty = |(_, kind): &(&str, Kind)| match kind {
                Kind::Text => Column::Text(Vec::new()),
                Kind::Number => Column::Number(Vec::new()),
                Kind::Whole => Column::Whole(Vec::new()),
                Kind::Flag => Column::Flag(Vec::new()),
            };
            Ok(Table { writer, columns: columns.iter().map(empty).collect(), rows: 0 })
        }

        pub(super) fn push(&mut self, cells: &[Cell<'_>]) -> std::io::Result<()> {
            for (column, cell) in self.columns.iter_mut().zip(cells) {
                match (column, cell) {
                    (Column::Text(values), Cell::Text(text)) => values.push(ByteArray::from(*text)),
                    (Column::Number(values), Cell::Number(number)) => values.push(*number),
                    (Column::Whole(values), Cell::Whole(number)) => values.push(*number),
                    (Column::Flag(values), Cell::Flag(flag)) => values.push(*flag),
                    _ => return Err(std::io::Error::other("a cell is not of its column's kind")),
                }
            }
            self.rows += 1;
            if self.rows == GROUP { self.flush() } else { Ok(()) }
        }

        fn flush(&mut self) -> std::io::Result<()> {
            self.rows = 0;
            let mut group = self.writer.next_row_group().map_err(told)?;
            for column in &mut self.columns {
                let Some(mut writer) = group.next_column().map_err(told)? else { break };
                let written = match column {
                    Column::Text(values) => {
                        let values = std::mem::take(values);
                        writer.typed::<ByteArrayType>().write_batch(&values, None, None)
                    }
                    Column::Flag(values) => {
                        let values = std::mem::take(values);
                        writer.typed::<BoolType>().write_batch(&values, None, None)
                    }
                    Column::Number(values) => {
                        let (present, levels) = parts(std::mem::take(values));
                        writer.typed::<DoubleType>().write_batch(&present, Some(&levels), None)
                    }
                    Column::Whole(values) => {
                        let (present, levels) = parts(std::mem::take(values));
                        writer.typed::<Int64Type>().write_batch(&present, Some(&levels), None)
                    }
                };
                written.map_err(told)?;
                writer.close().map_err(told)?;
            }
            group.close().map_err(told)?;
            Ok(())
        }

        pub(super) fn finish(mut self) -> std::io::Result<()> {
            self.flush()?;
            self.writer.close().map_err(told)?;
            Ok(())
        }
    }

    /// The values that are there, and which are.
    fn parts<T>(values: Vec<Option<T>>) -> (Vec<T>, Vec<i16>) {
        let levels = values.iter().map(|value| i16::from(value.is_some())).collect();
        (values.into_iter().flatten().collect(), levels)
    }

    fn told(error: ParquetError) -> std::io::Error {
        std::io::Error::other(error)
    }
}
