//! Rows of a CSV, made of the objects that JSON has, so that both have the same names and numbers.

use std::borrow::Cow;

use deep_tap::{Error, ErrorKind, printable};
use serde::Serialize;
use serde_json::Value;

use crate::errors::Failure;

/// The units in which a name may end.
const UNITS: [&str; 6] = ["_s", "_v", "_hz", "_bps", "_percent", "_ppm"];

/// A table that is being written.
pub(crate) struct Rows {
    writer: csv::Writer<Vec<u8>>,
    columns: &'static [&'static str],
}

impl Rows {
    /// A table of these columns, each the path of a value in the objects of its rows, such as `mean_s.lo`.
    pub(crate) fn new(columns: &'static [&'static str]) -> Result<Self, Failure> {
        let mut writer = csv::Writer::from_writer(Vec::new());
        writer.write_record(columns.iter().map(|path| name(path))).map_err(unwritten)?;
        Ok(Rows { writer, columns })
    }

    /// Adds an object's row. What is not there, or null, is an empty cell.
    pub(crate) fn row(&mut self, object: &impl Serialize) -> Result<(), Failure> {
        let object = serde_json::to_value(object).map_err(unwritten)?;
        let cells = self.columns.iter().map(|path| cell(&object, path));
        self.writer.write_record(cells).map_err(unwritten)
    }

    pub(crate) fn each<T: Serialize>(&mut self, objects: impl IntoIterator<Item = T>) -> Result<(), Failure> {
        objects.into_iter().try_for_each(|object| self.row(&object))
    }

    /// What was written since the last time.
    pub(crate) fn take(&mut self) -> Result<Vec<u8>, Failure> {
        self.writer.flush()?;
        let next = csv::Writer::from_writer(Vec::new());
        let done = std::mem::replace(&mut self.writer, next);
        done.into_inner().map_err(|error| unwritten(error.into_error()))
    }
}

fn unwritten(error: impl std::error::Error + Send + Sync + 'static) -> Failure {
    Error::new(ErrorKind::Io, "the result cannot be written as CSV").with_source(error).into()
}

/// The name of a column: the unit comes last.
///
/// `mean_s.value` is `mean_s`, `mean_s.lo` is `mean_lo_s`, `min_s.at_s` is `min_at_s`.
fn name(path: &str) -> String {
    let Some((object, leaf)) = path.rsplit_once('.') else { return path.to_string() };
    let unit = UNITS.into_iter().find(|unit| object.ends_with(unit)).unwrap_or("");
    let stem = object.strip_suffix(unit).unwrap_or(object).replace('.', "_");
    match leaf {
        "value" => format!("{stem}{unit}"),
        _ if UNITS.into_iter().any(|unit| leaf.ends_with(unit)) => format!("{stem}_{leaf}"),
        _ => format!("{stem}_{leaf}{unit}"),
    }
}

fn cell(object: &Value, path: &str) -> String {
    let at = path.split('.').try_fold(object, |value, key| value.get(key));
    match at {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(text)) => harmless(text).into_owned(),
        Some(Value::Array(values)) => {
            let words = values.iter().map(|value| value.as_str().map_or(value.to_string(), str::to_string));
            harmless(&words.collect::<Vec<_>>().join(" ")).into_owned()
        }
        Some(value) => value.to_string(),
    }
}

/// A text that no spreadsheet takes for a formula, and in which nothing acts: one that begins like a formula gets an
/// apostrophe before it.
pub(crate) fn harmless(text: &str) -> Cow<'_, str> {
    let text = printable(text);
    match text.starts_with(['=', '+', '-', '@', '\'']) {
        true => format!("'{text}").into(),
        false => text,
    }
}

#[cfg(test)]
mod tests {
    use super::{harmless, name};

    #[test]
    fn units_come_last_in_the_names_of_columns() {
        let paths =
            ["line", "mean_s.value", "mean_s.lo", "min_s.at_s", "worst.value", "worst.lo", "worst.at_s"];
        let names = ["line", "mean_s", "mean_lo_s", "min_at_s", "worst", "worst_lo", "worst_at_s"];
        assert_eq!(paths.map(name), names);
    }

    #[test]
    fn no_cell_is_a_formula() {
        assert_eq!(harmless("=HYPERLINK(\"x\")"), "'=HYPERLINK(\"x\")");
        assert_eq!(harmless("'quoted"), "''quoted", "so that the first apostrophe can be taken off again");
        assert_eq!(harmless("CLK falls"), "CLK falls");
    }
}
