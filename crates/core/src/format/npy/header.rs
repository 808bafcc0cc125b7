//! The header of an array: what its numbers are, and how many.

use crate::error::Result;
use crate::format::source::Source;
use crate::setup::ByteOrder;

/// What one number is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Element {
    /// The name of the field; empty outside of structured arrays.
    pub(super) name: String,
    pub(super) kind: Kind,
    /// Bytes.
    pub(super) size: usize,
    pub(super) order: ByteOrder,
}

/// How bytes are a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Boolean,
    Unsigned,
    Signed,
    Float,
}

/// A header.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Header {
    pub(super) fields: Vec<Element>,
    pub(super) structured: bool,
    /// Rows of a matrix follow each other, or its columns.
    pub(super) by_columns: bool,
    pub(super) rows: u64,
    pub(super) columns: u64,
    /// Bytes of the header.
    pub(super) len: usize,
}

/// Reads the header at the beginning of these bytes.
///
/// # Errors
/// When it is none, or of an array that cannot be a record.
pub(super) fn header(source: &Source, bytes: &[u8]) -> Result<Header> {
    let damaged = || source.refused("the header of this array is damaged").with_help("save it again");
    let (start, len): (usize, usize) = match bytes.get(..12) {
        Some([b'\x93', b'N', b'U', b'M', b'P', b'Y', 1, _, a, b, ..]) => {
            (10, usize::from(u16::from_le_bytes([*a, *b])))
        }
        Some([b'\x93', b'N', b'U', b'M', b'P', b'Y', 2 | 3, _, a, b, c, d]) => {
            (12, u32::from_le_bytes([*a, *b, *c, *d]) as usize)
        }
        _ => return Err(damaged()),
    };
    let text = bytes.get(start..start.saturating_add(len)).ok_or_else(damaged)?;
    let text = std::str::from_utf8(text).map_err(|_| damaged())?;
    let value = |key: &str| {
        Some(
            text[text.find(&format!("'{key}'"))? + key.len() + 2..]
                .trim_start()
                .strip_prefix(':')?
                .trim_start(),
        )
    };
    let by_columns = value("fortran_order").ok_or_else(damaged)?.starts_with("True");
    let shape = value("shape").and_then(|v| v.strip_prefix('(')?.split(')').next()).ok_or_else(damaged)?;
    let shape = shape.split(',').map(str::trim).filter(|number| !number.is_empty());
    let shape: Vec<u64> = shape.map(|number| number.parse().map_err(|_| damaged())).collect::<Result<_>>()?;
    let (rows, columns) = match shape[..] {
        [rows] => (rows, 1),
        [rows, columns] => (rows, columns),
        _ => {
            let error = source.refused(format!("this array has {} dimensions", shape.len()));
            return Err(error.with_help("a record is a vector, or a matrix with a row for each sample"));
        }
    };
    let described = value("descr").ok_or_else(damaged)?;
    let structured = described.starts_with('[');
    let fields = match structured {
        true => fields(source, described)?,
        false => {
            let text = described.strip_prefix(['\'', '"']).and_then(|text| text.split(['\'', '"']).next());
            vec![element(source, String::new(), text.ok_or_else(damaged)?)?]
        }
    };
    if structured && (columns != 1 || shape.len() != 1) {
        return Err(source
            .refused("a structured array is a vector")
            .with_help("save one row for each sample"));
    }
    Ok(Header { fields, structured, by_columns, rows, columns, len: start + len })
}

/// The fields of `[('a', '<u2'), ('b', '|b1')]`.
fn fields(source: &Source, text: &str) -> Result<Vec<Element>> {
    let end = text.find(']').ok_or_else(|| source.refused("the header of this array is damaged"))?;
    let mut fields = Vec::new();
    for field in text[1..end].split('(').skip(1) {
        let inner = field.split(')').next().unwrap_or("");
        let parts: Vec<&str> = inner.split(['\'', '"']).collect();
        let [_, name, _, kind, rest] = parts[..] else {
            let error = source.refused("a field of this array is an array itself, or has two names");
            return Err(error.with_help("save fields of one number each"));
        };
        if rest.contains(|c: char| c.is_ascii_digit()) {
            return Err(source.refused(format!("the field '{name}' of this array is an array itself")));
        }
        fields.push(element(source, name.to_string(), kind)?);
    }
    match fields.is_empty() || fields.len() > 4096 {
        true => Err(source.refused("this array has no fields, or too many")),
        false => Ok(fields),
    }
}

fn element(source: &Source, name: String, text: &str) -> Result<Element> {
    let unread = || {
        let error = source.refused(format!("this array holds '{text}', which is no number that is read"));
        error.with_help("save booleans, integers of up to 8 bytes, or floating-point numbers of 4 or 8 bytes")
    };
    let (order, rest) = match text.split_at_checked(1) {
        Some((">", rest)) => (ByteOrder::Big, rest),
        Some(("<" | "|" | "=", rest)) => (ByteOrder::Little, rest),
        _ => return Err(unread()),
    };
    let (kind, size) = rest.split_at_checked(1).ok_or_else(unread)?;
    let size: usize = size.parse().map_err(|_| unread())?;
    let (kind, sizes): (Kind, &[usize]) = match kind {
        "b" => (Kind::Boolean, &[1]),
        "u" => (Kind::Unsigned, &[1, 2, 4, 8]),
        "i" => (Kind::Signed, &[1, 2, 4, 8]),
        "f" => (Kind::Float, &[4, 8]),
        _ => return Err(unread()),
    };
    if !sizes.contains(&size) {
        return Err(unread());
    }
    Ok(Element { name, kind, size, order })
}

impl Element {
    fn bytes(&self, bytes: &[u8]) -> [u8; 8] {
        let mut eight = [0; 8];
        eight[..self.size].copy_from_slice(&bytes[..self.size]);
        if self.order == ByteOrder::Big {
            eight[..self.size].reverse();
        }
        eight
    }

    /// The number as bits, without its sign.
    pub(super) fn bits(&self, bytes: &[u8]) -> u64 {
        u64::from_le_bytes(self.bytes(bytes))
    }

    /// The number as a whole one below zero or above.
    pub(super) fn signed(&self, bytes: &[u8]) -> i64 {
        let unused = 64 - 8 * self.size as u32;
        (self.bits(bytes) << unused) as i64 >> unused
    }

    /// The number as a floating-point one, and the step of its last digit.
    pub(super) fn float(&self, bytes: &[u8]) -> f64 {
        let eight = self.bytes(bytes);
        match (self.kind, self.size) {
            (Kind::Float, 4) => f64::from(f32::from_le_bytes([eight[0], eight[1], eight[2], eight[3]])),
            (Kind::Float, _) => f64::from_le_bytes(eight),
            (Kind::Signed, _) => self.signed(bytes) as f64,
            _ => u64::from_le_bytes(eight) as f64,
        }
    }
}
