//! Frames as a table in a file: a row for each field, so that any engine can ask for their values.

use std::path::Path;

use super::{JobFrame, Listing};
use crate::errors::Failure;
use crate::tables::{Cell, Columns, Kind, TableFile};

const COLUMNS: Columns = &[
    ("number", Kind::Whole),
    ("bus", Kind::Text),
    ("kind", Kind::Text),
    ("at_s", Kind::Number),
    ("until_s", Kind::Number),
    ("field", Kind::Text),
    ("value", Kind::Whole),
    ("hex", Kind::Text),
    ("bits", Kind::Whole),
    ("means", Kind::Text),
    ("field_at_s", Kind::Number),
    ("field_until_s", Kind::Number),
    ("certain", Kind::Flag),
    ("faults", Kind::Text),
];

/// Writes the frames; how many. One without fields has a row of its own.
pub(super) fn write(listing: Listing<'_>, path: &Path, replace: bool) -> Result<u64, Failure> {
    let base = listing.capture.base();
    let mut table = TableFile::create("table", path, COLUMNS, replace)?;
    let mut count = 0u64;
    for JobFrame { bus, frame, .. } in listing {
        count += 1;
        let number = Cell::Whole(i64::try_from(count).ok());
        let seconds = |tick| Cell::Number(Some(base.time_of(tick).to_f64()));
        let faults: Vec<&str> = frame.faults.iter().map(|fault| fault.kind).collect();
        let faults = faults.join(" ");
        let head = [
            number,
            Cell::Text(bus.name()),
            Cell::Text(frame.kind),
            seconds(frame.start),
            seconds(frame.end),
        ];
        for field in &frame.fields {
            let hex = field.hex();
            let cells = [
                Cell::Text(field.name),
                // What does not fit is in the next column.
                Cell::Whole(i64::try_from(field.value).ok()),
                Cell::Text(&hex),
                Cell::Whole(Some(i64::from(field.bits))),
                Cell::Text(bus.names().name_of(field).unwrap_or("")),
                seconds(field.start),
                seconds(field.end),
                Cell::Flag(frame.certain),
                Cell::Text(&faults),
            ];
            table.row(&[&head[..], &cells].concat())?;
        }
        if frame.fields.is_empty() {
            let (nothing, no_time) = (Cell::Whole(None), Cell::Number(None));
            let cells = [
                Cell::Text(""),
                nothing.clone(),
                Cell::Text(""),
                nothing,
                Cell::Text(""),
                no_time.clone(),
                no_time,
                Cell::Flag(frame.certain),
                Cell::Text(&faults),
            ];
            table.row(&[&head[..], &cells].concat())?;
        }
    }
    table.finish()?;
    Ok(count)
}
