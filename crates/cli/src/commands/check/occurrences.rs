//! Every occurrence of every limit as a table in a file, for any program that queries tables.

use std::fs::File;
use std::ops::ControlFlow;
use std::path::Path;

use deep_tap::limit::{Found, Occurrence, Quantity, Rule, Verdict};
use deep_tap::time::Resolution;
use deep_tap::{Error, ErrorKind, Place};

use super::wanted;
use crate::errors::Failure;
use crate::load::{Loaded, setup_of};
use crate::output::Pending;

/// One occurrence, as a row.
pub(super) struct Row<'a> {
    pub(super) file: &'a str,
    pub(super) source: &'a str,
    pub(super) part: &'a str,
    pub(super) limit: &'a str,
    pub(super) unit: String,
    pub(super) min: Option<f64>,
    pub(super) max: Option<f64>,
    pub(super) at: f64,
    pub(super) value: Option<f64>,
    pub(super) lo: Option<f64>,
    pub(super) hi: Option<f64>,
    pub(super) verdict: &'static str,
}

/// The names of its columns.
pub(super) const COLUMNS: [&str; 12] =
    ["file", "source", "part", "limit", "unit", "min", "max", "at_s", "value", "lo", "hi", "verdict"];

/// A table that is being written.
pub(super) struct Rows<'a> {
    pending: Pending<'a>,
    path: &'a Path,
    writer: Writer,
}

enum Writer {
    Csv(Box<csv::Writer<File>>),
    #[cfg(feature = "parquet")]
    Parquet(Box<parquet_table::Table>),
}

impl<'a> Rows<'a> {
    /// The name's ending says which format it is.
    pub(super) fn create(path: &'a Path, replace: bool) -> Result<Self, Failure> {
        let ending = path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
        let wrong = |message: &str, help: &str| {
            let error = Error::new(ErrorKind::Unknown, format!("--occurrences: {message}"));
            Failure::from(error.with_help(help).at(Place::File(path.to_path_buf())))
        };
        if !matches!(ending.as_str(), "csv" | "parquet") {
            return Err(wrong("the name does not say which table this is", "let it end in .csv or .parquet"));
        }
        if ending == "parquet" && cfg!(not(feature = "parquet")) {
            let help = "build it with: cargo build --release --features parquet; or write a .csv";
            return Err(wrong("this build of deep-tap writes no Parquet", help));
        }
        let mut pending = Pending::create(path, replace)?;
        let file = pending.file().try_clone().map_err(|error| Error::io(path, "write", error))?;
        let writer = match ending.as_str() {
            #[cfg(feature = "parquet")]
            "parquet" => {
                let table = parquet_table::Table::new(file).map_err(|e| Error::io(path, "write", e))?;
                Writer::Parquet(Box::new(table))
            }
            _ => {
                let mut writer = csv::Writer::from_writer(file);
                writer.write_record(COLUMNS).map_err(|error| Error::io(path, "write", error.into()))?;
                Writer::Csv(Box::new(writer))
            }
        };
        Ok(Rows { pending, path, writer })
    }

    /// Adds all occurrences of a capture's limits.
    pub(super) fn add(
        &mut self,
        loaded: &Loaded,
        file: &Path,
        only: &[String],
        rule: Rule,
    ) -> Result<(), Failure> {
        let capture = &loaded.capture;
        let setup = setup_of(loaded, file)?;
        let name = file.display().to_string();
        for bound in wanted(setup, only) {
            let limit = &bound.limit;
            let resolution = match rule {
                Rule::Proven => bound.blurred(capture).map_or(*capture.resolution(), |c| *c.resolution()),
                Rule::Measured => Resolution::EXACT,
            };
            let mut failed = None;
            let mut add = |occurrence: Occurrence| {
                let bounds = occurrence.bounds(capture.base(), &resolution);
                self.writer.row(&Row {
                    file: &name,
                    source: &capture.origin().source,
                    part: &bound.reference,
                    limit: &limit.symbol,
                    unit: limit.kind.unit().to_string(),
                    min: limit.required.min.map(Quantity::to_f64),
                    max: limit.required.max.map(Quantity::to_f64),
                    at: capture.base().time_of(occurrence.start).to_f64(),
                    value: occurrence.value(capture.base()).map(Quantity::to_f64),
                    lo: bounds.map(|b| b.lo.to_f64()),
                    hi: bounds.map(|b| b.hi.to_f64()),
                    verdict: word(occurrence.verdict),
                })
            };
            bound.occurrences(capture, rule, &mut |found| match found {
                Found::Occurrence(occurrence) => match add(occurrence) {
                    Ok(()) => ControlFlow::Continue(()),
                    Err(error) => {
                        failed = Some(error);
                        ControlFlow::Break(())
                    }
                },
                Found::Unpaired(_) => ControlFlow::Continue(()),
            })?;
            if let Some(error) = failed {
                return Err(Error::io(self.path, "write", error).into());
            }
        }
        Ok(())
    }

    pub(super) fn finish(self) -> Result<(), Failure> {
        let Rows { pending, path, writer } = self;
        writer.finish().map_err(|error| Error::io(path, "write", error))?;
        pending.finish()
    }
}

fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Pass => "pass",
        Verdict::Fail => "fail",
        Verdict::Inconclusive => "inconclusive",
        Verdict::NotSeen => "not seen",
    }
}

impl Writer {
    fn row(&mut self, row: &Row<'_>) -> std::io::Result<()> {
        match self {
            Writer::Csv(writer) => {
                let number = |value: Option<f64>| value.map_or(String::new(), |value| format!("{value:e}"));
                let fields = [
                    row.file.to_string(),
                    row.source.to_string(),
                    row.part.to_string(),
                    row.limit.to_string(),
                    row.unit.clone(),
                    number(row.min),
                    number(row.max),
                    number(Some(row.at)),
                    number(row.value),
                    number(row.lo),
                    number(row.hi),
                    row.verdict.to_string(),
                ];
                writer.write_record(fields).map_err(Into::into)
            }
            #[cfg(feature = "parquet")]
            Writer::Parquet(table) => table.push(row),
        }
    }

    fn finish(self) -> std::io::Result<()> {
        match self {
            Writer::Csv(mut writer) => writer.flush(),
            #[cfg(feature = "parquet")]
            Writer::Parquet(table) => table.finish(),
        }
    }
}

#[cfg(feature = "parquet")]
mod parquet_table {
    //! The same rows as Apache Parquet, a column at a time.

    use std::fs::File;
    use std::sync::Arc;

    use parquet::basic::{Compression, LogicalType, Repetition, Type as Physical};
    use parquet::data_type::{ByteArray, ByteArrayType, DoubleType};
    use parquet::errors::ParquetError;
    use parquet::file::properties::WriterProperties;
    use parquet::file::writer::SerializedFileWriter;
    use parquet::schema::types::Type;

    use super::{COLUMNS, Row};

    /// Rows of one group.
    const GROUP: usize = 1 << 18;
    /// Which of the columns are numbers.
    const NUMBERS: std::ops::Range<usize> = 5..11;

    pub(super) struct Table {
        writer: SerializedFileWriter<File>,
        texts: Vec<Vec<ByteArray>>,
        numbers: Vec<Vec<Option<f64>>>,
    }

    impl Table {
        pub(super) fn new(file: File) -> std::io::Result<Self> {
            let column = |(place, name): (usize, &&str)| {
                let number = NUMBERS.contains(&place);
                let physical = if number { Physical::DOUBLE } else { Physical::BYTE_ARRAY };
                let builder = Type::primitive_type_builder(name, physical);
                let builder = match number {
                    true => builder.with_repetition(Repetition::OPTIONAL),
                    false => builder
                        .with_repetition(Repetition::REQUIRED)
                        .with_logical_type(Some(LogicalType::String)),
                };
                builder.build().map(Arc::new)
            };
            let columns = COLUMNS.iter().enumerate().map(column).collect::<Result<Vec<_>, _>>();
            let schema = columns
                .and_then(|columns| Type::group_type_builder("occurrences").with_fields(columns).build())
                .map_err(told)?;
            let properties = WriterProperties::builder().set_compression(Compression::LZ4_RAW).build();
            let writer =
                SerializedFileWriter::new(file, Arc::new(schema), Arc::new(properties)).map_err(told)?;
            let numbers = vec![Vec::new(); NUMBERS.len()];
            Ok(Table { writer, texts: vec![Vec::new(); COLUMNS.len() - NUMBERS.len()], numbers })
        }

        pub(super) fn push(&mut self, row: &Row<'_>) -> std::io::Result<()> {
            let texts = [row.file, row.source, row.part, row.limit, &row.unit, row.verdict];
            for (column, text) in self.texts.iter_mut().zip(texts) {
                column.push(ByteArray::from(text));
            }
            let numbers = [row.min, row.max, Some(row.at), row.value, row.lo, row.hi];
            for (column, number) in self.numbers.iter_mut().zip(numbers) {
                column.push(number);
            }
            if self.texts[0].len() == GROUP { self.flush() } else { Ok(()) }
        }

        fn flush(&mut self) -> std::io::Result<()> {
            let mut group = self.writer.next_row_group().map_err(told)?;
            let (mut texts, mut numbers) = (self.texts.iter_mut(), self.numbers.iter_mut());
            for place in 0..COLUMNS.len() {
                let Some(mut column) = group.next_column().map_err(told)? else { break };
                if NUMBERS.contains(&place) {
                    let values = numbers.next().map(std::mem::take).unwrap_or_default();
                    let levels: Vec<i16> = values.iter().map(|value| i16::from(value.is_some())).collect();
                    let present: Vec<f64> = values.into_iter().flatten().collect();
                    let writer = column.typed::<DoubleType>();
                    writer.write_batch(&present, Some(&levels), None).map_err(told)?;
                } else {
                    let values = texts.next().map(std::mem::take).unwrap_or_default();
                    column.typed::<ByteArrayType>().write_batch(&values, None, None).map_err(told)?;
                }
                column.close().map_err(told)?;
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

    fn told(error: ParquetError) -> std::io::Error {
        std::io::Error::other(error)
    }
}
