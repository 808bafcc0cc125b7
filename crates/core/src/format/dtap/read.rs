//! Opening a capture file.

use std::fs::File;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::block::{
    END_MAGIC, FileBytes, HEADER, Header, Kind, LATEST_VERSION, LONGEST_RANGE, MAGIC, TRAILER, directory,
    level_of, part, payload, u32_at, u64_at,
};
use super::codes;
use super::edges::decode;
use super::meta::Meta;
use super::write::SMALLEST;
use crate::capture::{
    ANALOG_BLOCK, AnalogSource, AnalogTrace, Capture, Chunks, Damage, DamageLog, Extremes, SegmentSource,
    StoredCodes, StoredSegment, Trace,
};
use crate::error::{Error, ErrorKind, Place, Result};
use crate::line::{AnalogId, Level, LineId};
use crate::quantity::Time;
use crate::time::Tick;

/// A capture file, opened.
#[derive(Debug)]
pub struct Opened {
    /// The capture. Its edges are read from the file when they are first asked for.
    pub capture: Capture,
    /// Whether the file is whole; if not, it was cut short, or is written so far, at this time relative to time
    /// zero.
    pub cut_short_at: Option<Time>,
}

/// Opens a capture file: reads its description and index, or, where the file was cut short or its
/// end is damaged, finds every complete block. No edges are read yet.
///
/// # Errors
/// [`ErrorKind::Io`] when the file cannot be read; [`ErrorKind::Capture`] when it is not a capture
/// file, of a later version, or damaged so far that nothing can be recovered.
pub fn open(path: &Path) -> Result<Opened> {
    let file = File::open(path).map_err(|e| Error::io(path, "open", e))?;
    let wrong = |message: &str, help: &str| {
        Error::new(ErrorKind::Capture, message).with_help(help).at(Place::File(path.to_path_buf()))
    };
    let size = file.metadata().map_err(|e| Error::io(path, "open", e))?;
    if !size.is_file() {
        return Err(wrong("this is not a file", "give the path of a capture"));
    }
    if (size.len() as usize) < SMALLEST {
        let help = "it was cut off before its description was written: record again";
        return Err(wrong("this file is too short to be a capture", help));
    }
    let file = FileBytes::new(file, size.len());
    let magic = file.get(0, MAGIC.len() as u64).unwrap_or_default();
    if magic.get(..MAGIC.len() - 1) != Some(&MAGIC[..MAGIC.len() - 1]) {
        let help = "captures end in .dtap";
        return Err(wrong("this is not a capture file", help));
    }
    let version = magic[MAGIC.len() - 1];
    if !(MAGIC[MAGIC.len() - 1]..=LATEST_VERSION).contains(&version) {
        let message = format!("this capture file is of version {version}, this program reads 1 to 3");
        return Err(wrong(&message, "use a later deep-tap"));
    }
    let found = match finished(&file) {
        Some(found) => found,
        None => {
            let being_written = file.being_written();
            let found = recovered(&file).ok_or_else(|| match being_written {
                true => {
                    let help = "a moment later there will be something to see";
                    wrong("this capture is being written, and its description is not complete yet", help)
                }
                false => {
                    let help = "its description at the start is damaged; nothing can be recovered";
                    wrong("this capture file is damaged", help)
                }
            })?;
            Found { being_written, ..found }
        }
    };
    build(path, file, found)
}

/// What was found in a file, before anything is built from it.
struct Found {
    meta: Meta,
    blocks: Vec<StoredBlock>,
    /// Per line and block, in the order of blocks: level carried in, edges before.
    segments: Vec<Vec<(Level, u64)>>,
    totals: Vec<u64>,
    codes: FoundCodes,
    len: u64,
    whole: bool,
    /// Whether it lacks its end because somebody is still at it.
    being_written: bool,
}

/// The blocks of analog codes.
#[derive(Default)]
struct FoundCodes {
    /// Tick of the first code of all.
    first: u64,
    /// Offsets of the blocks.
    blocks: Vec<u64>,
    /// Per analog line and block, in the order of blocks.
    stored: Vec<Vec<StoredCodes>>,
    /// Whether all lines have as many codes in a block.
    alike: bool,
}

impl FoundCodes {
    fn new(meta: &Meta) -> Self {
        FoundCodes { stored: vec![Vec::new(); meta.analog_count()], alike: !meta.holds(), ..Self::default() }
    }

    /// Adds a block with its entries, one per analog line; `false` where they do not fit together.
    fn push(&mut self, offset: u64, entries: impl Iterator<Item = StoredCodes>) -> bool {
        self.blocks.push(offset);
        let mut count = None;
        for (line, entry) in self.stored.iter_mut().zip(entries) {
            let other = *count.get_or_insert(entry.count) != entry.count;
            if (self.alike && (other || entry.count == 0)) || entry.count > ANALOG_BLOCK {
                return false;
            }
            line.push(entry);
        }
        true
    }

    /// Reads the part of the index that follows the edge blocks.
    fn of_index(file: &FileBytes, rest: &[u8], meta: &Meta) -> Option<FoundCodes> {
        let (mut found, lines) = (FoundCodes::new(meta), meta.analog_count());
        if lines == 0 {
            return rest.is_empty().then_some(found);
        }
        let count = usize::try_from(u64_at(rest, 0)?).ok()?;
        let size = lines.checked_mul(8)?.checked_add(8)?;
        let rows = rest.get(8..)?;
        if rows.len() != count.checked_mul(size)? {
            return None;
        }
        for row in rows.chunks_exact(size) {
            let entries = row[8..].chunks_exact(8).filter_map(|entry| {
                let code = |at: usize| entry.get(at..at + 2)?.try_into().ok().map(i16::from_le_bytes);
                let extremes = Extremes { least: code(4)?, most: code(6)? };
                Some(StoredCodes { count: u32_at(entry, 0)? as usize, extremes })
            });
            if !found.push(u64_at(row, 0)?, entries) {
                return None;
            }
        }
        if let Some(offset) = found.blocks.first() {
            let header = Header::read(file, *offset).filter(|h| h.kind == Kind::Codes)?;
            found.first = header.start;
        }
        Some(found)
    }
}

#[derive(Clone, Copy, Debug)]
struct StoredBlock {
    offset: u64,
    start: u64,
    end: u64,
}

fn read_meta(file: &FileBytes, offset: u64, kind: Kind) -> Option<(Meta, Header)> {
    let header = Header::read(file, offset).filter(|h| h.kind == kind)?;
    let bytes = payload(file, offset, &header)?;
    if crc32fast::hash(&bytes) != header.crc {
        return None;
    }
    Some((serde_json::from_slice(&bytes).ok()?, header))
}

/// Reads the index of a finished file; `None` when there is no sound one.
fn finished(file: &FileBytes) -> Option<Found> {
    let trailer = &file.get(file.len().checked_sub(TRAILER as u64)?, TRAILER as u64)?[..];
    let index_offset = u64_at(trailer, 0)?;
    let sound = trailer[16..24] == END_MAGIC
        && u32_at(trailer, 8)? == crc32fast::hash(&trailer[..8])
        && trailer[12..16] == [0; 4];
    let header = Header::read(file, index_offset).filter(|h| sound && h.kind == Kind::Index)?;
    let index = &payload(file, index_offset, &header)?[..];
    if crc32fast::hash(index) != header.crc {
        return None;
    }
    let (meta, _) = read_meta(file, u64_at(index, 0)?, Kind::Meta)?;
    let len = u64_at(index, 8)?;
    let count = usize::try_from(u64_at(index, 16)?).ok()?;
    let lines = usize::try_from(u64_at(index, 24)?).ok().filter(|l| *l == meta.trace_count())?;
    let totals_at = 32;
    let blocks_at = totals_at + lines.checked_mul(8)?;
    let row = 24 + lines.checked_mul(9)?;
    let codes_at = blocks_at.checked_add(count.checked_mul(row)?)?;
    let codes = FoundCodes::of_index(file, index.get(codes_at..)?, &meta)?;
    let totals: Vec<u64> = (0..lines).filter_map(|l| u64_at(index, totals_at + l * 8)).collect();
    // A line changes at a tick once, if at all.
    if totals.iter().any(|edges| *edges > len) {
        return None;
    }
    let mut blocks = Vec::with_capacity(count);
    let mut segments = vec![Vec::with_capacity(count); lines];
    let mut next = 0;
    for row in index[blocks_at..codes_at].chunks_exact(row) {
        let block = StoredBlock { offset: u64_at(row, 0)?, start: u64_at(row, 8)?, end: u64_at(row, 16)? };
        if block.start != next || block.end <= block.start || block.end - block.start > LONGEST_RANGE {
            return None;
        }
        next = block.end;
        blocks.push(block);
        for (line, segments) in segments.iter_mut().enumerate() {
            let at = 24 + line * 9;
            let before = u64_at(row, at + 1)?;
            let last = segments.last().map_or(0, |(_, before)| *before);
            if before < last || before > totals[line] {
                return None;
            }
            segments.push((level_of(row[at])?, before));
        }
    }
    (next == len).then_some(Found {
        meta,
        blocks,
        segments,
        totals,
        codes,
        len,
        whole: true,
        being_written: false,
    })
}

/// Finds every complete block of a file without a sound index.
fn recovered(file: &FileBytes) -> Option<Found> {
    let mut offset = MAGIC.len() as u64;
    let (mut meta, header) = read_meta(file, offset, Kind::Head)?;
    offset += HEADER as u64 + header.len;
    let lines = meta.trace_count();
    let mut found_blocks = Vec::new();
    let mut segments = vec![Vec::new(); lines];
    let mut totals = vec![0u64; lines];
    let mut next = 0;
    let mut codes = FoundCodes::new(&meta);
    let mut next_code = None;
    while let Some(header) = Header::read(file, offset) {
        let at = offset;
        offset += HEADER as u64 + header.len;
        match header.kind {
            Kind::Edges => {
                let in_order = header.start == next
                    && header.end > header.start
                    && header.end - header.start <= LONGEST_RANGE;
                let entries = directory(file, at, &header, lines);
                let Some(entries) = entries.filter(|_| in_order) else { break };
                for (line, (entry, _)) in entries.iter().enumerate() {
                    segments[line].push((entry.level, totals[line]));
                    totals[line] += u64::from(entry.edges);
                }
                found_blocks.push(StoredBlock { offset: at, start: header.start, end: header.end });
                next = header.end;
            }
            Kind::Codes => {
                let found = codes::directory(file, at, &header, meta.analog_count())
                    .filter(|_| next_code.is_none_or(|next| next == header.start));
                let Some((first, entries)) = found else { break };
                let entries = entries
                    .iter()
                    .map(|(entry, _)| StoredCodes { count: entry.count as usize, extremes: entry.extremes });
                if !codes.push(at, entries) {
                    break;
                }
                if next_code.is_none() {
                    codes.first = first;
                }
                next_code = Some(header.end);
            }
            Kind::Meta => {
                // Written at the end: it knows more than the head, if it is for the same lines.
                if let Some((later, _)) =
                    read_meta(file, at, Kind::Meta).filter(|(m, _)| m.is_of_the_same_lines(&meta))
                {
                    meta = later;
                }
            }
            Kind::Head | Kind::Index => {}
        }
    }
    Some(Found {
        meta,
        blocks: found_blocks,
        segments,
        totals,
        codes,
        len: next,
        whole: false,
        being_written: false,
    })
}

fn build(path: &Path, file: FileBytes, found: Found) -> Result<Opened> {
    let located = |error: Error| {
        let message = format!("the file's description is wrong: {}", error.message());
        Error::new(ErrorKind::Capture, message).at(Place::File(path.to_path_buf()))
    };
    let base = found.meta.base().map_err(located)?;
    let damage = DamageLog::default();
    let mut builder = found.meta.builder(found.len).map_err(located)?.damage(damage.clone());
    let lines = (0..found.meta.line_count()).map(|l| found.meta.line(l)).collect::<Result<Vec<_>>>();
    let lines = lines.map_err(located)?;
    let analog = (0..found.meta.analog_count()).map(|l| found.meta.analog(l)).collect::<Result<Vec<_>>>();
    let analog = analog.map_err(located)?;
    let stored = Arc::new(FileSource {
        path: path.to_path_buf(),
        file,
        blocks: found.blocks.clone(),
        lines: lines.len(),
        len: found.len,
        holds: found.meta.holds(),
        names: (0..found.meta.trace_count()).map(|l| found.meta.line_name(LineId(l)).to_string()).collect(),
        codes: found.codes.blocks,
        analog: analog.iter().map(|(line, ..)| line.name.clone()).collect(),
        damage,
    });
    let source: Arc<dyn SegmentSource> = Arc::<FileSource>::clone(&stored);
    let trace = |number: usize| {
        let stored: Vec<StoredSegment> = found
            .blocks
            .iter()
            .zip(&found.segments[number])
            .map(|(block, (entry, before))| StoredSegment {
                start: Tick(block.start),
                edges_before: *before,
                entry: *entry,
            })
            .collect();
        if stored.is_empty() {
            Trace::constant(Level::Unknown, found.len)
        } else {
            Trace::from_stored(&source, LineId(number), &stored, found.len, found.totals[number])
        }
    };
    for (number, line) in lines.into_iter().enumerate() {
        builder = builder.line(line, trace(number));
    }
    let source: Arc<dyn AnalogSource> = stored;
    for (number, ((line, scale, every), stored)) in analog.into_iter().zip(&found.codes.stored).enumerate() {
        let (id, first) = (AnalogId(number), found.codes.first);
        let codes = match found.meta.changes_of(number) {
            Some(changes) => AnalogTrace::held_from_stored(&source, id, stored, scale, trace(changes.0)),
            None => AnalogTrace::from_stored(&source, id, stored, scale, first, every),
        };
        builder = builder.analog(line, codes);
    }
    let mut cut_short_at = None;
    if !found.whole {
        let end = base.time_of(Tick(found.len));
        cut_short_at = Some(end);
        let at = end.rounded(base.tick());
        builder = builder.remark(match (found.being_written, found.len) {
            (true, 0) => "the file is still being written and has no complete block yet".to_string(),
            (true, _) => format!("the file is still being written: what is in it so far ends at {at}"),
            (false, 0) => {
                "the file was cut short or damaged before its first complete block: nothing is left"
                    .to_string()
            }
            (false, _) => format!("the file was cut short or damaged: its record ends at {at}"),
        });
    }
    let capture = builder.build().map_err(located)?;
    Ok(Opened { capture, cut_short_at })
}

#[derive(Debug)]
struct FileSource {
    path: PathBuf,
    file: FileBytes,
    blocks: Vec<StoredBlock>,
    /// How many lines there are, and ticks.
    lines: usize,
    len: u64,
    /// Whether blocks of codes are in numbers of samples, and not in ticks.
    holds: bool,
    /// Of the lines, and of analog lines whose changes are kept like edges.
    names: Vec<String>,
    /// Offsets of the blocks of analog codes.
    codes: Vec<u64>,
    analog: Vec<String>,
    damage: DamageLog,
}

impl FileSource {
    fn try_load(&self, line: LineId, block: &StoredBlock) -> Result<Chunks, &'static str> {
        let header = Header::read(&self.file, block.offset).filter(|h| h.kind == Kind::Edges);
        let header = header.ok_or("the block's header is damaged")?;
        if (header.start, header.end) != (block.start, block.end) {
            return Err("the block is not the one that the index names");
        }
        let entries = directory(&self.file, block.offset, &header, self.names.len())
            .ok_or("the block's directory is damaged")?;
        let (entry, at) = entries.get(line.0).ok_or("the line is not in the block")?;
        let stored = part(&self.file, block.offset, &header, *at, entry.stored.into())
            .ok_or("the line's edges are cut off")?;
        decode(entry, &stored, block.end - block.start)
    }
}

impl SegmentSource for FileSource {
    fn load(&self, line: LineId, block: usize) -> Option<Chunks> {
        let stored = self.blocks.get(block)?;
        match self.try_load(line, stored) {
            Ok(chunks) => Some(chunks),
            Err(what) => {
                let name = self.names.get(line.0).map_or("?", String::as_str);
                self.damage.note(Damage {
                    ticks: Tick(stored.start)..Tick(stored.end),
                    lines: Some(line).filter(|line| line.0 < self.lines).into_iter().collect(),
                    what: format!("{}: edges of {name}: {what}", self.path.display()),
                });
                None
            }
        }
    }
}

impl FileSource {
    fn try_load_codes(&self, line: AnalogId, offset: u64) -> Result<Vec<i16>, (Range<u64>, &'static str)> {
        let nowhere = 0..0;
        let header = Header::read(&self.file, offset).filter(|h| h.kind == Kind::Codes);
        let header = header.ok_or((nowhere.clone(), "the block's header is damaged"))?;
        let range = if self.holds { 0..self.len } else { header.start..header.end };
        let wrong = |what: &'static str| (range.clone(), what);
        let (_, entries) = codes::directory(&self.file, offset, &header, self.analog.len())
            .ok_or_else(|| wrong("the block's directory is damaged"))?;
        let (entry, at) = entries.get(line.0).ok_or_else(|| wrong("the line is not in the block"))?;
        let stored = part(&self.file, offset, &header, *at, entry.stored.into());
        codes::decode(entry, &stored.ok_or_else(|| wrong("the codes are cut off"))?).map_err(wrong)
    }
}

impl AnalogSource for FileSource {
    fn load(&self, line: AnalogId, block: usize) -> Option<Vec<i16>> {
        let offset = self.codes.get(block)?;
        match self.try_load_codes(line, *offset) {
            Ok(codes) => Some(codes),
            Err((ticks, what)) => {
                let name = self.analog.get(line.0).map_or("?", String::as_str);
                self.damage.note(Damage {
                    ticks: Tick(ticks.start)..Tick(ticks.end),
                    lines: Vec::new(),
                    what: format!("{}: codes of analog line {name}: {what}", self.path.display()),
                });
                None
            }
        }
    }
}
