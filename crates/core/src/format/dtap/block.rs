//! Blocks: the envelope of everything in the file.

use std::fs::{File, TryLockError};

use crate::format::source::read_at;
use crate::line::Level;

/// First bytes of every file; the last one is the version: this one, or [`ANALOG_VERSION`] for a
/// file with analog lines.
pub(super) const MAGIC: [u8; 8] = *b"DEEPTAP\x01";
/// The version that knows analog lines.
pub(super) const ANALOG_VERSION: u8 = 2;
/// The version that knows lines which float, and voltages which hold, too.
pub(super) const LATEST_VERSION: u8 = 3;
/// Last bytes of every finished file.
pub(super) const END_MAGIC: [u8; 8] = *b"DTAPEND\x01";
/// Size of a block's header.
pub(super) const HEADER: usize = 40;
/// Size of the trailer: offset of the index, its checksum, padding, magic.
pub(super) const TRAILER: usize = 24;
/// Size of a line's entry in an edge block's directory.
pub(super) const ENTRY: usize = 24;
/// Longest range of one edge block, in ticks.
pub(super) const LONGEST_RANGE: u64 = 1 << 47;

/// What a block holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Everything but the edges, as known when the recording began.
    Head,
    /// Edges of all lines in a range of ticks.
    Edges,
    /// Codes of all analog lines in a range of ticks.
    Codes,
    /// Replaces the head, with what was known at the end.
    Meta,
    /// Where the edge blocks are.
    Index,
}

impl Kind {
    const TAGS: [(Kind, [u8; 4]); 5] = [
        (Kind::Head, *b"HEAD"),
        (Kind::Edges, *b"EDGE"),
        (Kind::Codes, *b"CODE"),
        (Kind::Meta, *b"META"),
        (Kind::Index, *b"INDX"),
    ];

    fn tag(self) -> [u8; 4] {
        Self::TAGS.iter().find(|(kind, _)| *kind == self).map_or(*b"????", |(_, tag)| *tag)
    }
}

/// A block's header.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Header {
    pub(super) kind: Kind,
    /// Bytes that follow the header.
    pub(super) len: u64,
    /// First tick, for blocks of edges and codes.
    pub(super) start: u64,
    /// Tick after the last, for blocks of edges and codes.
    pub(super) end: u64,
    /// Checksum of what follows; in blocks of edges and codes of the directory only.
    pub(super) crc: u32,
}

impl Header {
    pub(super) fn to_bytes(self) -> [u8; HEADER] {
        let mut bytes = [0; HEADER];
        bytes[0..4].copy_from_slice(&self.kind.tag());
        bytes[8..16].copy_from_slice(&self.len.to_le_bytes());
        bytes[16..24].copy_from_slice(&self.start.to_le_bytes());
        bytes[24..32].copy_from_slice(&self.end.to_le_bytes());
        bytes[32..36].copy_from_slice(&self.crc.to_le_bytes());
        let own = crc32fast::hash(&bytes[..36]);
        bytes[36..40].copy_from_slice(&own.to_le_bytes());
        bytes
    }

    /// The header at an offset, if a whole and undamaged one is there, with its payload inside the file.
    pub(super) fn read(file: &FileBytes, offset: u64) -> Option<Header> {
        let bytes = &file.get(offset, HEADER as u64)?[..];
        if u32_at(bytes, 36)? != crc32fast::hash(&bytes[..36]) || bytes[4..8] != [0; 4] {
            return None;
        }
        let (kind, _) = Kind::TAGS.into_iter().find(|(_, tag)| *tag == bytes[..4])?;
        let header = Header {
            kind,
            len: u64_at(bytes, 8)?,
            start: u64_at(bytes, 16)?,
            end: u64_at(bytes, 24)?,
            crc: u32_at(bytes, 32)?,
        };
        let end = offset.checked_add(HEADER as u64)?.checked_add(header.len)?;
        (end <= file.len()).then_some(header)
    }
}

/// The bytes of a file, which are read by position when they are asked for: one that shrinks meanwhile lacks
/// them, and no signal ends the process.
#[derive(Debug)]
pub(super) struct FileBytes {
    file: File,
    len: u64,
}

impl FileBytes {
    /// A file of this length.
    pub(super) fn new(file: File, len: u64) -> Self {
        FileBytes { file, len }
    }

    pub(super) fn len(&self) -> u64 {
        self.len
    }

    /// Whether somebody has locked the file to write it.
    pub(super) fn being_written(&self) -> bool {
        match self.file.try_lock_shared() {
            Err(TryLockError::WouldBlock) => true,
            Err(TryLockError::Error(_)) => false,
            Ok(()) => {
                // Released at once, or the next capture of this name would be refused.
                let _ = self.file.unlock();
                false
            }
        }
    }

    /// Some bytes, all of which lie in the file.
    pub(super) fn get(&self, at: u64, len: u64) -> Option<Vec<u8>> {
        if at.checked_add(len)? > self.len {
            return None;
        }
        let mut bytes = vec![0; usize::try_from(len).ok()?];
        let mut filled = 0;
        while filled < bytes.len() {
            match read_at(&self.file, &mut bytes[filled..], at + filled as u64) {
                Ok(0) | Err(_) => return None,
                Ok(read) => filled += read,
            }
        }
        Some(bytes)
    }
}

/// The payload of a block.
pub(super) fn payload(file: &FileBytes, offset: u64, header: &Header) -> Option<Vec<u8>> {
    file.get(offset.checked_add(HEADER as u64)?, header.len)
}

/// A part of the payload of a block.
pub(super) fn part(file: &FileBytes, offset: u64, header: &Header, at: usize, len: u64) -> Option<Vec<u8>> {
    let end = (at as u64).checked_add(len)?;
    file.get(offset.checked_add(HEADER as u64)?.checked_add(at as u64)?, len).filter(|_| end <= header.len)
}

/// A line's entry in an edge block's directory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Entry {
    /// Level carried into the range.
    pub(super) level: Level,
    /// Whether a level follows each edge, because some are unknown.
    pub(super) mixed: bool,
    /// Whether the section is compressed.
    pub(super) compressed: bool,
    /// Number of edges.
    pub(super) edges: u32,
    /// Bytes before compression.
    pub(super) raw: u32,
    /// Bytes in the file.
    pub(super) stored: u32,
    /// Checksum of the bytes in the file.
    pub(super) crc: u32,
}

impl Entry {
    pub(super) fn to_bytes(self) -> [u8; ENTRY] {
        let mut bytes = [0; ENTRY];
        bytes[0] = level_code(self.level);
        bytes[1] = u8::from(self.mixed);
        bytes[2] = u8::from(self.compressed);
        bytes[4..8].copy_from_slice(&self.edges.to_le_bytes());
        bytes[8..12].copy_from_slice(&self.raw.to_le_bytes());
        bytes[12..16].copy_from_slice(&self.stored.to_le_bytes());
        bytes[16..20].copy_from_slice(&self.crc.to_le_bytes());
        bytes
    }

    pub(super) fn read(bytes: &[u8]) -> Option<Entry> {
        Some(Entry {
            level: level_of(*bytes.first()?)?,
            mixed: flag(*bytes.get(1)?)?,
            compressed: flag(*bytes.get(2)?)?,
            edges: u32_at(bytes, 4)?,
            raw: u32_at(bytes, 8)?,
            stored: u32_at(bytes, 12)?,
            crc: u32_at(bytes, 16)?,
        })
    }
}

/// The directory of an edge block with this many lines, if it is undamaged, and the offset of
/// each section in the payload.
pub(super) fn directory(
    file: &FileBytes,
    offset: u64,
    header: &Header,
    lines: usize,
) -> Option<Vec<(Entry, usize)>> {
    let size = lines.checked_mul(ENTRY)?;
    let bytes = &part(file, offset, header, 0, size as u64)?[..];
    if crc32fast::hash(bytes) != header.crc {
        return None;
    }
    let mut at = size;
    let mut entries = Vec::with_capacity(lines);
    for bytes in bytes.chunks_exact(ENTRY) {
        let entry = Entry::read(bytes)?;
        entries.push((entry, at));
        at = at.checked_add(entry.stored as usize)?;
    }
    (at as u64 == header.len).then_some(entries)
}

fn flag(byte: u8) -> Option<bool> {
    (byte < 2).then_some(byte == 1)
}

pub(super) fn level_code(level: Level) -> u8 {
    match level {
        Level::Low => 0,
        Level::High => 1,
        Level::Unknown => 2,
        Level::Floating => 3,
    }
}

pub(super) fn level_of(code: u8) -> Option<Level> {
    match code {
        0 => Some(Level::Low),
        1 => Some(Level::High),
        2 => Some(Level::Unknown),
        3 => Some(Level::Floating),
        _ => None,
    }
}

pub(super) fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    bytes.get(at..at + 4)?.try_into().ok().map(u32::from_le_bytes)
}

pub(super) fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    bytes.get(at..at + 8)?.try_into().ok().map(u64::from_le_bytes)
}
