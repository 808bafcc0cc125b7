//! Coding of the codes of all analog lines in one block.
//!
//! The tick of the first code; a directory; and for each line the difference of each code from the
//! one before, the first one's from zero, as zigzag LEB128, with LZ4 on top where it helps.

use super::block::{FileBytes, Header, part, u32_at, u64_at};
use super::edges::{leb128, read_leb128, unpack};
use crate::capture::{ANALOG_BLOCK, Extremes};

/// Size of a line's entry in the directory.
const ENTRY: usize = 24;
/// Size of what stands before the directory.
const LEAD: usize = 8;

/// A line's entry in the directory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct CodesEntry {
    pub(super) count: u32,
    pub(super) extremes: Extremes,
    compressed: bool,
    raw: u32,
    /// Bytes in the file; none where the codes were lost before.
    pub(super) stored: u32,
    crc: u32,
}

impl CodesEntry {
    fn to_bytes(self) -> [u8; ENTRY] {
        let mut bytes = [0; ENTRY];
        bytes[0..4].copy_from_slice(&self.count.to_le_bytes());
        bytes[4..6].copy_from_slice(&self.extremes.least.to_le_bytes());
        bytes[6..8].copy_from_slice(&self.extremes.most.to_le_bytes());
        bytes[8..12].copy_from_slice(&self.raw.to_le_bytes());
        bytes[12..16].copy_from_slice(&self.stored.to_le_bytes());
        bytes[16..20].copy_from_slice(&self.crc.to_le_bytes());
        bytes[20] = u8::from(self.compressed);
        bytes
    }

    fn read(bytes: &[u8]) -> Option<Self> {
        let code = |at: usize| bytes.get(at..at + 2)?.try_into().ok().map(i16::from_le_bytes);
        let extremes = Extremes { least: code(4)?, most: code(6)? };
        let count = u32_at(bytes, 0).filter(|count| *count <= ANALOG_BLOCK as u32)?;
        let compressed = bytes.get(20).filter(|flag| **flag < 2)? == &1;
        (extremes.least <= extremes.most).then_some(CodesEntry {
            count,
            extremes,
            compressed,
            raw: u32_at(bytes, 8)?,
            stored: u32_at(bytes, 12)?,
            crc: u32_at(bytes, 16)?,
        })
    }
}

/// The payload of a block that begins with a code taken at tick `first`, the checksum of its
/// directory, and its entries. Each line has as many codes as `extremes` says, which are lost where
/// there are none.
pub(super) fn encode(
    first: u64,
    lines: &[(usize, Extremes, Option<&[i16]>)],
) -> (Vec<u8>, u32, Vec<CodesEntry>) {
    let mut payload = first.to_le_bytes().to_vec();
    let mut sections = Vec::new();
    let mut entries = Vec::new();
    for (count, extremes, codes) in lines {
        let mut raw = Vec::new();
        let mut last = 0i32;
        for code in codes.iter().copied().flatten() {
            let step = i32::from(*code) - last;
            leb128(u64::from((step << 1 ^ step >> 31) as u32), &mut raw);
            last = i32::from(*code);
        }
        let packed = lz4_flex::block::compress(&raw);
        let compressed = packed.len() < raw.len();
        let entry = CodesEntry {
            count: *count as u32,
            extremes: *extremes,
            compressed,
            raw: raw.len() as u32,
            stored: if compressed { packed.len() } else { raw.len() } as u32,
            crc: crc32fast::hash(if compressed { &packed } else { &raw }),
        };
        payload.extend_from_slice(&entry.to_bytes());
        sections.extend_from_slice(if compressed { &packed } else { &raw });
        entries.push(entry);
    }
    let crc = crc32fast::hash(&payload);
    payload.extend_from_slice(&sections);
    (payload, crc, entries)
}

/// The tick of the first code in a block with this many lines, and its directory with the offset of
/// each section, if it is undamaged.
pub(super) fn directory(
    file: &FileBytes,
    offset: u64,
    header: &Header,
    lines: usize,
) -> Option<(u64, Vec<(CodesEntry, usize)>)> {
    let size = lines.checked_mul(ENTRY)?.checked_add(LEAD)?;
    let bytes = &part(file, offset, header, 0, size as u64)?[..];
    if crc32fast::hash(bytes) != header.crc {
        return None;
    }
    let mut at = size;
    let mut entries = Vec::with_capacity(lines);
    for entry in bytes[LEAD..].chunks_exact(ENTRY) {
        let entry = CodesEntry::read(entry)?;
        entries.push((entry, at));
        at = at.checked_add(entry.stored as usize)?;
    }
    (at as u64 == header.len).then_some((u64_at(bytes, 0)?, entries))
}

/// Decodes a section; says what is wrong with it if it is damaged.
pub(super) fn decode(entry: &CodesEntry, stored: &[u8]) -> Result<Vec<i16>, &'static str> {
    let count = entry.count as usize;
    if count == 0 {
        return Ok(Vec::new());
    }
    if stored.is_empty() {
        return Err("its codes were lost before");
    }
    let raw = unpack(stored, entry.compressed, entry.raw as usize, entry.crc)?;
    // A code takes from one byte to three.
    if raw.len() > 3 * count || raw.len() < count {
        return Err("its size cannot be true");
    }
    let mut codes = Vec::with_capacity(count);
    let mut bytes = raw.iter().copied();
    let mut last = 0i32;
    for _ in 0..count {
        let step = read_leb128(&mut bytes).and_then(|z| u32::try_from(z).ok()).ok_or("a code is cut off")?;
        last = last.wrapping_add((step >> 1) as i32 ^ -((step & 1) as i32));
        codes.push(i16::try_from(last).map_err(|_| "a code is out of range")?);
    }
    if bytes.next().is_some() {
        return Err("bytes are left over");
    }
    match Extremes::of(&codes) == Some(entry.extremes) {
        true => Ok(codes),
        false => Err("its extremes are not the stated ones"),
    }
}
