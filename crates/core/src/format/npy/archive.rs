//! The arrays of an archive (`.npz`), which is a ZIP file of `.npy` files.

use std::io::Read;

use crate::error::Result;
use crate::format::source::Source;

/// Most bytes of an array that is unpacked.
const LONGEST: u64 = 1 << 32;

/// The array that is meant, as a source of its own.
///
/// # Errors
/// When the archive is damaged, has no array of that name, or more than one and none is named.
pub(super) fn array(source: &Source, wanted: Option<&str>) -> Result<Source> {
    let mut bytes = Vec::new();
    let read = source.reader().take(LONGEST).read_to_end(&mut bytes);
    read.map_err(|error| source.unreadable(error, 0))?;
    let damaged = || source.refused("this archive is damaged").with_help("save it again");
    let entries = entries(&bytes).ok_or_else(damaged)?;
    let names: Vec<&str> = entries.iter().map(|entry| entry.name.trim_end_matches(".npy")).collect();
    let entry = match (wanted, &entries[..]) {
        (None, [entry]) => entry,
        (None, _) => {
            let error = source.refused(format!("this archive has {} arrays", entries.len()));
            return Err(error.with_help(format!(
                "say which: array = \"…\" in [import]; there are: {}",
                names.join(", ")
            )));
        }
        (Some(wanted), entries) => {
            let found = names.iter().position(|name| *name == wanted).map(|at| &entries[at]);
            found.ok_or_else(|| {
                let error = source.refused(format!("this archive has no array '{wanted}'"));
                error.with_help(format!("there are: {}", names.join(", ")))
            })?
        }
    };
    let packed = bytes.get(entry.at..).and_then(|rest| rest.get(..entry.packed)).ok_or_else(damaged)?;
    let name = format!("{}:{}", source.name().display(), entry.name.trim_end_matches(".npy"));
    let content = match entry.method {
        0 => packed.to_vec(),
        8 => {
            let mut content = Vec::new();
            let inflated = flate2::read::DeflateDecoder::new(packed).take(LONGEST).read_to_end(&mut content);
            inflated.map_err(|_| damaged())?;
            content
        }
        _ => return Err(source.refused("this archive is compressed in a way that is not read")),
    };
    Ok(Source::of_bytes(content, name))
}

struct Entry {
    name: String,
    method: u16,
    packed: usize,
    at: usize,
}

/// The entries of the directory at the end of a ZIP file.
fn entries(bytes: &[u8]) -> Option<Vec<Entry>> {
    let number = |at: usize, len: usize| {
        let bytes = bytes.get(at..at.checked_add(len)?)?;
        Some(bytes.iter().rev().fold(0u64, |number, byte| number << 8 | u64::from(*byte)))
    };
    let end = memchr::memmem::rfind(bytes, b"PK\x05\x06")?;
    let (count, mut at) = (number(end + 10, 2)?, usize::try_from(number(end + 16, 4)?).ok()?);
    let mut entries = Vec::new();
    for _ in 0..count {
        if bytes.get(at..at + 4)? != b"PK\x01\x02" {
            return None;
        }
        let method = number(at + 10, 2)? as u16;
        let mut packed = number(at + 20, 4)?;
        let (name, extra, comment) =
            (number(at + 28, 2)? as usize, number(at + 30, 2)? as usize, number(at + 32, 2)? as usize);
        let local = usize::try_from(number(at + 42, 4)?).ok()?;
        let title = String::from_utf8_lossy(bytes.get(at + 46..at + 46 + name)?).into_owned();
        // Of the two places that say so, the local one knows where the content begins.
        let content = local + 30 + number(local + 26, 2)? as usize + number(local + 28, 2)? as usize;
        if packed == 0xffff_ffff {
            // The true size is among the extra fields, after the size of the content.
            packed = extra_size(bytes.get(at + 46 + name..at + 46 + name + extra)?)?;
        }
        entries.push(Entry { name: title, method, packed: usize::try_from(packed).ok()?, at: content });
        at += 46 + name + extra + comment;
    }
    (!entries.is_empty()).then_some(entries)
}

fn extra_size(mut extra: &[u8]) -> Option<u64> {
    while let [a, b, c, d, rest @ ..] = extra {
        let (id, len) = (u16::from_le_bytes([*a, *b]), usize::from(u16::from_le_bytes([*c, *d])));
        let field = rest.get(..len)?;
        if id == 1 {
            return field.get(8..16)?.try_into().ok().map(u64::from_le_bytes);
        }
        extra = &rest[len..];
    }
    None
}
