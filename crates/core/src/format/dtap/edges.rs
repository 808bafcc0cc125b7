//! Coding of one line's edges in one range of ticks.
//!
//! Distances in ticks as LEB128: the first from the start of the range, each further one less one.
//! Where levels are neither low nor high, each edge's level follows as one byte. LZ4 on top where it helps.

use std::borrow::Cow;

use super::block::{Entry, level_code, level_of};
use crate::capture::{Chunks, ChunksBuilder, Trace};
use crate::time::Tick;

/// Most bytes a section may have before compression.
const MOST_RAW: usize = 32 << 20;

/// Codes the edges of a trace with ticks in `start..end`: their directory entry and section.
pub(super) fn encode(trace: &Trace, start: u64, end: u64) -> (Entry, Vec<u8>) {
    let level = trace.level_at(Tick(start.saturating_sub(1)));
    let range = Tick(start)..Tick(end);
    let mixed = level.bit().is_none() || trace.edges(range.clone()).any(|e| e.to.bit().is_none());
    let mut raw = Vec::new();
    let mut next = start;
    let mut edges = 0;
    for edge in trace.edges(range) {
        leb128(edge.tick.0 - next, &mut raw);
        if mixed {
            raw.push(level_code(edge.to));
        }
        next = edge.tick.0 + 1;
        edges += 1;
    }
    let packed = lz4_flex::block::compress(&raw);
    let compressed = packed.len() < raw.len();
    let raw_len = raw.len() as u32;
    let stored = if compressed { packed } else { raw };
    // The writer cuts ranges long before any of these numbers outgrows 32 bits.
    let entry = Entry {
        level,
        mixed,
        compressed,
        edges,
        raw: raw_len,
        stored: stored.len() as u32,
        crc: crc32fast::hash(&stored),
    };
    (entry, stored)
}

/// The bytes of a section as they were before compression, checked against what is stated of them.
pub(super) fn unpack(
    stored: &[u8],
    compressed: bool,
    raw: usize,
    crc: u32,
) -> Result<Cow<'_, [u8]>, &'static str> {
    if crc32fast::hash(stored) != crc {
        return Err("its checksum is wrong");
    }
    // LZ4 cannot expand by more than 255.
    if raw > MOST_RAW || raw > stored.len().saturating_mul(255).saturating_add(16) {
        return Err("its size cannot be true");
    }
    let bytes = match compressed {
        true => {
            Cow::Owned(lz4_flex::block::decompress(stored, raw).map_err(|_| "it cannot be decompressed")?)
        }
        false => Cow::Borrowed(stored),
    };
    if bytes.len() == raw { Ok(bytes) } else { Err("its size is not the stated one") }
}

/// Decodes a section of `length` ticks; says what is wrong with it if it is damaged.
pub(super) fn decode(entry: &Entry, stored: &[u8], length: u64) -> Result<Chunks, &'static str> {
    let raw = unpack(stored, entry.compressed, entry.raw as usize, entry.crc)?;
    // An edge takes at least a byte.
    if entry.edges as usize > raw.len() {
        return Err("its size cannot be true");
    }
    let mut builder = ChunksBuilder::new(entry.level);
    let mut bytes = raw.iter().copied();
    let mut next = 0u64;
    for _ in 0..entry.edges {
        let distance = read_leb128(&mut bytes).ok_or("an edge is cut off")?;
        let offset =
            next.checked_add(distance).filter(|o| *o < length).ok_or("an edge lies outside its range")?;
        let level = if entry.mixed {
            bytes.next().and_then(level_of).ok_or("a level is not one")?
        } else {
            builder.level().opposite()
        };
        if level == builder.level() {
            return Err("an edge does not change the level");
        }
        builder.push(offset, level);
        next = offset + 1;
    }
    if bytes.next().is_some() {
        return Err("bytes are left over");
    }
    Ok(builder.finish())
}

pub(super) fn leb128(mut value: u64, out: &mut Vec<u8>) {
    while value >= 0x80 {
        out.push(value as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

pub(super) fn read_leb128(bytes: &mut impl Iterator<Item = u8>) -> Option<u64> {
    let mut value = 0u64;
    for shift in (0..63).step_by(7) {
        let byte = bytes.next()?;
        value |= u64::from(byte & 0x7f) << shift;
        if byte < 0x80 {
            return Some(value);
        }
    }
    None
}
