//! What kind of file a record is in: by its content first, and by its name where that does not tell.

use super::analog::lines_of;
use super::source::Source;
use super::spill::Spill;
use super::{csv, dtap, npy, packed, vcd};
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Place, Result};
use crate::setup::{Import, RecordFormat};

/// What a file was recognised as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Recognised {
    /// A capture of our own container.
    Capture,
    /// Another record, in this format.
    Record(RecordFormat),
}

/// What other files begin with, and what they are.
const OTHERS: [(&[u8], &str); 12] = [
    (b"\x89PNG", "a picture"),
    (b"\xff\xd8\xff", "a picture"),
    (b"GIF8", "a picture"),
    (b"%PDF", "a document"),
    (b"PK\x03\x04", "an archive"),
    (b"7z\xbc\xaf", "an archive"),
    (b"BZh", "a compressed file of a kind that is not read (gzip is)"),
    (b"\xfd7zXZ", "a compressed file of a kind that is not read (gzip is)"),
    (b"\x28\xb5\x2f\xfd", "a compressed file of a kind that is not read (gzip is)"),
    (b"\x7fELF", "a program"),
    (b"MZ", "a program"),
    (b"SQLite format 3", "a database"),
];

/// What a source holds. What is stated of it comes first.
///
/// # Errors
/// When its content is none of the formats that are read.
pub fn recognise(source: &Source, stated: &Import) -> Result<Recognised> {
    if let Some(format) = stated.format {
        return Ok(Recognised::Record(format));
    }
    let head = source.head();
    if head.starts_with(&dtap::MAGIC_WORD) {
        return Ok(Recognised::Capture);
    }
    let refused = |message: String, help: &str| {
        let error = Error::new(ErrorKind::Capture, message).with_help(help);
        Err(error.at(Place::File(source.name().into())))
    };
    const READ: &str = "captures, value change dumps (VCD), CSV, .npy and packed samples are read; \
                        of packed samples it must be stated (format = \"packed\", width, rate in [import])";
    if head.is_empty() {
        if source.is_packed() {
            return Err(source.unreadable(std::io::ErrorKind::InvalidData.into(), 0));
        }
        return refused("this file is empty".into(), "record or export it again");
    }
    if head.starts_with(b"\x93NUMPY") {
        return Ok(Recognised::Record(RecordFormat::Array));
    }
    let named = |ending: &str| {
        source.name().to_str().is_some_and(|name| {
            let name = name.to_ascii_lowercase();
            name.strip_suffix(".gz").unwrap_or(&name).ends_with(ending)
        })
    };
    if head.starts_with(b"PK\x03\x04") && named(".npz") {
        return Ok(Recognised::Record(RecordFormat::Array));
    }
    if let Some((_, what)) = OTHERS.iter().find(|(magic, _)| head.starts_with(magic)) {
        return refused(format!("this is {what}, not a record"), READ);
    }
    if head.starts_with(b"\xff\xfe") || head.starts_with(b"\xfe\xff") {
        return refused("this text is in UTF-16".into(), "save it as UTF-8");
    }
    if named(".dtap") || named(".dtap.part") {
        return refused("this is not a capture file".into(), READ);
    }
    let binary = head.contains(&0);
    if binary {
        return refused("this is neither a text nor a record of a known format".into(), READ);
    }
    let text = head.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&head).trim_ascii_start();
    let dump = text.starts_with(b"$") && text.get(1).is_some_and(u8::is_ascii_alphabetic);
    if dump || named(".vcd") {
        return Ok(Recognised::Record(RecordFormat::Dump));
    }
    // Any text may be a table; what is none should be known before all of it is read.
    csv::recognise(source, stated)?;
    Ok(Recognised::Record(RecordFormat::Table))
}

/// Reads a record that is not a capture, of which this is stated, and tells `progress` how many bytes of how
/// many are done. The lines are those of the file, by its names.
///
/// # Errors
/// When it cannot be read, with the place in the file.
pub fn read(source: &Source, stated: &Import, progress: &mut dyn FnMut(u64, u64)) -> Result<Capture> {
    read_into(source, stated, None, progress)
}

/// The same, handing on what is complete where there is a `spill`.
pub(super) fn read_into(
    source: &Source,
    stated: &Import,
    spill: Option<&mut dyn Spill>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Capture> {
    let record = match recognise(source, stated)? {
        Recognised::Capture => return Err(source.refused("this is a capture: open it as one")),
        Recognised::Record(RecordFormat::Dump) => vcd::read_source(source, stated, spill, progress),
        Recognised::Record(RecordFormat::Table) => csv::read_source(source, stated, progress),
        Recognised::Record(RecordFormat::Packed) => packed::read_source(source, stated, spill, progress),
        Recognised::Record(RecordFormat::Array) => npy::read_source(source, stated, spill, progress),
    }?;
    match stated.threshold {
        Some(threshold) if !record.analog_lines().is_empty() => {
            let lines = lines_of(record, threshold, stated.hysteresis);
            lines.map_err(|error| error.at(Place::File(source.name().into())))
        }
        _ => Ok(record),
    }
}
