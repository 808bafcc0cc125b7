//! Writing a capture file.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::block::{
    ANALOG_VERSION, END_MAGIC, Entry, HEADER, Header, Kind, LATEST_VERSION, LONGEST_RANGE, MAGIC, level_code,
};
use super::codes;
use super::edges::encode;
use super::meta::Meta;
use crate::capture::{ANALOG_BLOCK, AnalogTrace, CHUNK, Capture, Extremes, Trace};
use crate::error::{Error, ErrorKind, Place, Result};
use crate::line::AnalogId;
use crate::time::Tick;

/// Most edges of all lines together in one block.
const BLOCK_EDGES: u64 = 1 << 16;

/// How to save.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SaveOptions {
    /// Whether a file that is there already may be replaced.
    pub replace: bool,
}

/// Where a file lies until it is finished.
pub fn part_path(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_os_string();
    name.push(".part");
    PathBuf::from(name)
}

/// Saves a capture. The file appears under its name only when it is complete; until then it
/// grows as [`part_path`], from which every completed block can be recovered.
///
/// # Errors
/// [`ErrorKind::Exists`] when the file, or an unfinished one, is there already;
/// [`ErrorKind::Io`] when the disk refuses, with what was written kept.
pub fn save(capture: &Capture, path: &Path, options: SaveOptions) -> Result<()> {
    let mut writer = Writer::create(capture, path, options)?;
    writer.blocks(&capture.traces_with_changes(), 0, capture.len())?;
    writer.all_codes(capture)?;
    writer.finish(capture)
}

/// The end of a block that begins at `start` and does not hold too much.
fn block_end(traces: &[&Trace], start: u64, end: u64) -> u64 {
    let edges = |end: u64| -> u64 {
        traces.iter().map(|trace| trace.count(Tick(start)..Tick(end))).fold(0, u64::saturating_add)
    };
    let mut length = (end - start).min(LONGEST_RANGE);
    while length > CHUNK && edges(start + length) > BLOCK_EDGES {
        // Whole chunks, so that those in memory are the same again.
        length = (length / 2).next_multiple_of(CHUNK);
    }
    start + length
}

/// Writes a capture file block by block.
#[derive(Debug)]
pub struct Writer {
    file: BufWriter<File>,
    path: PathBuf,
    part: PathBuf,
    options: SaveOptions,
    offset: u64,
    lines: usize,
    /// Per block: offset, start, end, and per line the level carried in and the edges before.
    index: Vec<u8>,
    edges_before: Vec<u64>,
    next: u64,
    blocks: u64,
    analog: usize,
    every: u64,
    /// Per block of codes: offset, and per analog line the number of codes and their extremes.
    codes_index: Vec<u8>,
    codes_blocks: u64,
    next_code: Option<u64>,
    /// Whether a write has failed.
    broken: bool,
}

impl Writer {
    /// Begins a file that will hold a capture of this description.
    ///
    /// # Errors
    /// As [`save`].
    pub fn create(capture: &Capture, path: &Path, options: SaveOptions) -> Result<Writer> {
        let floats = |trace: &&Trace| trace.is_ever_floating();
        let floating = capture.traces().iter().any(floats);
        Writer::begin(capture, path, options, floating)
    }

    /// The same of a capture whose lines are still to come, and may float.
    pub(crate) fn begin(
        capture: &Capture,
        path: &Path,
        options: SaveOptions,
        floating: bool,
    ) -> Result<Writer> {
        let part = part_path(path);
        if !options.replace && path.exists() {
            return Err(exists(path));
        }
        let file = own_part(&part)?;
        let lines = capture.traces_with_changes().len();
        let holds = lines > capture.lines().len();
        let mut writer = Writer {
            file: BufWriter::with_capacity(1 << 20, file),
            path: path.to_path_buf(),
            part,
            options,
            offset: 0,
            lines,
            index: Vec::new(),
            edges_before: vec![0; lines],
            next: 0,
            blocks: 0,
            analog: capture.analog_lines().len(),
            every: capture.analog_lines().first().map_or(1, |_| capture.analog(AnalogId(0)).every()),
            codes_index: Vec::new(),
            codes_blocks: 0,
            next_code: None,
            broken: false,
        };
        let mut magic = MAGIC;
        // The oldest that has all of it.
        if writer.analog > 0 {
            magic[MAGIC.len() - 1] = ANALOG_VERSION;
        }
        if floating || holds || capture.lines().iter().any(|line| line.pull.is_some()) {
            magic[MAGIC.len() - 1] = LATEST_VERSION;
        }
        writer.put(&magic)?;
        writer.whole_block(Kind::Head, &meta(capture)?)?;
        Ok(writer)
    }

    /// Takes back what was written, of a file that is begun anew.
    pub(crate) fn abandon(self) -> Result<()> {
        let part = self.part.clone();
        drop(self);
        std::fs::remove_file(&part).map_err(|e| Error::io(&part, "remove", e))
    }

    /// Appends the edges of all lines in a range of ticks, in blocks that do not hold too much.
    pub(crate) fn blocks(&mut self, traces: &[&Trace], mut start: u64, end: u64) -> Result<()> {
        while start < end {
            let stop = block_end(traces, start, end);
            self.block(traces, start, stop)?;
            start = stop;
        }
        Ok(())
    }

    /// Where the file lies until it is finished.
    pub fn part(&self) -> &Path {
        &self.part
    }

    fn put(&mut self, bytes: &[u8]) -> Result<()> {
        if self.broken {
            // What came after a write that failed would lie at another place than the index says.
            return Err(self.failed(std::io::Error::other("an earlier write failed")));
        }
        self.file.write_all(bytes).map_err(|error| {
            self.broken = true;
            self.failed(error)
        })?;
        self.offset += bytes.len() as u64;
        Ok(())
    }

    fn failed(&self, error: std::io::Error) -> Error {
        let full = matches!(error.kind(), std::io::ErrorKind::StorageFull | std::io::ErrorKind::FileTooLarge);
        let failed = Error::io(&self.part, "write", error);
        let kept = format!(
            "everything up to the last complete block is kept in {}, which opens as it is",
            self.part.display()
        );
        let room = if full { "the disk is full: make room or save elsewhere; " } else { "" };
        failed.with_help(format!("{room}{kept}"))
    }

    fn whole_block(&mut self, kind: Kind, payload: &[u8]) -> Result<()> {
        let len = payload.len() as u64;
        let header = Header { kind, len, start: 0, end: 0, crc: crc32fast::hash(payload) };
        self.put(&header.to_bytes())?;
        self.put(payload)
    }

    /// Appends the edges of all lines, in their order, with ticks in `start..end` and hands them to the system, so
    /// that they survive the end of this process. Blocks follow each other without gaps.
    ///
    /// # Errors
    /// When the range does not continue the file or is longer than a block may be, and when the
    /// disk refuses.
    pub fn block(&mut self, traces: &[&Trace], start: u64, end: u64) -> Result<()> {
        let fits = start == self.next && end > start && end - start <= LONGEST_RANGE;
        if !fits || traces.len() != self.lines {
            let message =
                format!("the ticks {start} to {end} do not continue the file at tick {}", self.next);
            return Err(Error::new(ErrorKind::Capture, message));
        }
        let coded: Vec<(Entry, Vec<u8>)> = traces.par_iter().map(|trace| encode(trace, start, end)).collect();
        let mut directory = Vec::new();
        let sections: usize = coded.iter().map(|(_, section)| section.len()).sum();
        self.index.extend_from_slice(&self.offset.to_le_bytes());
        self.index.extend_from_slice(&start.to_le_bytes());
        self.index.extend_from_slice(&end.to_le_bytes());
        for (line, (entry, _)) in coded.iter().enumerate() {
            directory.extend_from_slice(&entry.to_bytes());
            self.index.push(level_code(entry.level));
            self.index.extend_from_slice(&self.edges_before[line].to_le_bytes());
            self.edges_before[line] += u64::from(entry.edges);
        }
        let len = (directory.len() + sections) as u64;
        let header = Header { kind: Kind::Edges, len, start, end, crc: crc32fast::hash(&directory) };
        self.put(&header.to_bytes())?;
        self.put(&directory)?;
        coded.iter().try_for_each(|(_, section)| self.put(section))?;
        self.file.flush().map_err(|error| {
            self.broken = true;
            self.failed(error)
        })?;
        self.next = end;
        self.blocks += 1;
        Ok(())
    }

    /// Appends codes of all analog lines, in their order: `count` of each, at most [`ANALOG_BLOCK`],
    /// the first of which was taken at tick `first`. `None` where they were lost. Blocks of codes
    /// follow each other without gaps, but may come before or after those of the edges.
    ///
    /// # Errors
    /// When the codes do not continue the file, and when the disk refuses.
    pub fn codes(&mut self, first: u64, count: usize, lines: &[Option<&[i16]>]) -> Result<()> {
        let follows = self.next_code.is_none_or(|next| next == first);
        let counts = lines.iter().flatten().all(|codes| codes.len() == count);
        if !follows || !counts || lines.len() != self.analog || !(1..=ANALOG_BLOCK).contains(&count) {
            let message = format!("the analog codes from tick {first} on do not continue the file");
            return Err(Error::new(ErrorKind::Capture, message));
        }
        let end = first.saturating_add((count as u64).saturating_mul(self.every));
        let lines: Vec<(usize, Option<&[i16]>)> = lines.iter().map(|codes| (count, *codes)).collect();
        self.put_codes(first, end, &lines)
    }

    /// Appends the codes of all analog lines of a capture.
    pub(crate) fn all_codes(&mut self, capture: &Capture) -> Result<()> {
        let lines: Vec<&AnalogTrace> =
            (0..capture.analog_lines().len()).map(|line| capture.analog(AnalogId(line))).collect();
        let Some(first) = lines.first() else { return Ok(()) };
        let most = lines.iter().map(|line| line.len()).max().unwrap_or(0);
        for start in (0..most).step_by(ANALOG_BLOCK) {
            let blocks = lines.iter().map(|line| {
                let samples = start..line.len().min(start + ANALOG_BLOCK as u64).max(start);
                ((samples.end - samples.start) as usize, line.recorded(samples))
            });
            let blocks: Vec<(usize, Option<Vec<i16>>)> = blocks.collect();
            let blocks: Vec<(usize, Option<&[i16]>)> =
                blocks.iter().map(|(count, codes)| (*count, codes.as_deref())).collect();
            let count = blocks.iter().map(|(count, _)| *count as u64).max().unwrap_or(0);
            match first.holds() {
                // Their numbers, since the lines do not change together.
                true => self.put_codes(start, start + count, &blocks)?,
                false => {
                    let first = first.tick_of(start).0;
                    self.put_codes(first, first.saturating_add(count.saturating_mul(self.every)), &blocks)?;
                }
            }
        }
        Ok(())
    }

    fn put_codes(&mut self, first: u64, end: u64, lines: &[(usize, Option<&[i16]>)]) -> Result<()> {
        let extremes = |count: usize, codes: Option<&[i16]>| match count {
            0 => Extremes { least: 0, most: 0 },
            _ => codes.and_then(Extremes::of).unwrap_or(Extremes { least: i16::MIN, most: i16::MAX }),
        };
        let coded: Vec<(usize, Extremes, Option<&[i16]>)> =
            lines.iter().map(|(count, codes)| (*count, extremes(*count, *codes), *codes)).collect();
        let (payload, crc, entries) = codes::encode(first, &coded);
        self.codes_index.extend_from_slice(&self.offset.to_le_bytes());
        for entry in entries {
            self.codes_index.extend_from_slice(&entry.count.to_le_bytes());
            self.codes_index.extend_from_slice(&entry.extremes.least.to_le_bytes());
            self.codes_index.extend_from_slice(&entry.extremes.most.to_le_bytes());
        }
        let header = Header { kind: Kind::Codes, len: payload.len() as u64, start: first, end, crc };
        self.put(&header.to_bytes())?;
        self.put(&payload)?;
        self.next_code = Some(end);
        self.codes_blocks += 1;
        Ok(())
    }

    /// Completes the file and puts it in its place. `capture` describes it as known by now.
    ///
    /// # Errors
    /// As [`save`].
    pub fn finish(mut self, capture: &Capture) -> Result<()> {
        let meta_offset = self.offset;
        self.whole_block(Kind::Meta, &meta(capture)?)?;
        let mut index = Vec::with_capacity(self.index.len() + 64);
        index.extend_from_slice(&meta_offset.to_le_bytes());
        index.extend_from_slice(&self.next.to_le_bytes());
        index.extend_from_slice(&self.blocks.to_le_bytes());
        index.extend_from_slice(&(self.lines as u64).to_le_bytes());
        for total in &self.edges_before {
            index.extend_from_slice(&total.to_le_bytes());
        }
        index.append(&mut self.index);
        if self.analog > 0 {
            index.extend_from_slice(&self.codes_blocks.to_le_bytes());
            index.append(&mut self.codes_index);
        }
        let index_offset = self.offset;
        self.whole_block(Kind::Index, &index)?;
        self.put(&trailer(index_offset))?;
        self.file.flush().map_err(|e| self.failed(e))?;
        self.file.get_ref().sync_all().map_err(|e| self.failed(e))?;
        place(&self.part, &self.path, self.options)
    }
}

/// The last bytes of a finished file.
pub(super) fn trailer(index_offset: u64) -> [u8; super::block::TRAILER] {
    let mut bytes = [0; super::block::TRAILER];
    bytes[0..8].copy_from_slice(&index_offset.to_le_bytes());
    bytes[8..12].copy_from_slice(&crc32fast::hash(&index_offset.to_le_bytes()).to_le_bytes());
    bytes[16..24].copy_from_slice(&END_MAGIC);
    bytes
}

fn meta(capture: &Capture) -> Result<Vec<u8>> {
    serde_json::to_vec(&Meta::of(capture)).map_err(|error| {
        Error::new(ErrorKind::Capture, "the capture's description cannot be written").with_source(error)
    })
}

/// The unfinished file, which nobody else writes: it is locked until it is closed.
fn own_part(part: &Path) -> Result<File> {
    let failed = |error| Error::io(part, "create", error);
    let wrong = |message: &str, help: String| {
        Error::new(ErrorKind::Exists, message).with_help(help).at(Place::File(part.to_path_buf()))
    };
    let file = OpenOptions::new().create(true).truncate(false).read(true).write(true).open(part);
    let file = file.map_err(failed)?;
    if let Err(TryLockError::WouldBlock) = file.try_lock() {
        let help = "another capture is being written under this name: let it end, or choose another name";
        return Err(wrong("a capture into this file is running", help.to_string()));
    }
    // What is too short holds nothing that could be lost.
    if file.metadata().map_err(failed)?.len() >= SMALLEST as u64 {
        let help = format!(
            "an earlier run was cut short: what it recorded is in this file, which opens as it is (deep-tap info {}); move it away or delete it",
            part.display()
        );
        return Err(wrong("an unfinished capture lies here", help));
    }
    file.set_len(0).map_err(failed)?;
    Ok(file)
}

fn exists(path: &Path) -> Error {
    Error::new(ErrorKind::Exists, "this file is there already")
        .with_help("choose another name, or say that it may be replaced (--replace)")
        .at(Place::File(path.to_path_buf()))
}

/// Moves the finished file to its name, without replacing what came there meanwhile.
fn place(part: &Path, path: &Path, options: SaveOptions) -> Result<()> {
    if !options.replace {
        // A hard link, unlike a rename, refuses to replace; some file systems have none.
        match std::fs::hard_link(part, path) {
            Ok(()) => {
                std::fs::remove_file(part).map_err(|e| Error::io(part, "remove", e))?;
                return entered(path);
            }
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
                let help = format!("the capture is complete in {}: rename it", part.display());
                return Err(exists(path).with_help(help));
            }
            Err(_) if path.exists() => return Err(exists(path)),
            Err(_) => {}
        }
    }
    std::fs::rename(part, path).map_err(|e| Error::io(path, "put the finished file in place at", e))?;
    entered(path)
}

/// Has the folder's entry written, so that the name is there after a power cut, too.
fn entered(path: &Path) -> Result<()> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    match File::open(folder).and_then(|folder| folder.sync_all()) {
        // Some systems cannot open folders, or have nothing to write.
        Err(error) if error.kind() == std::io::ErrorKind::StorageFull => {
            Err(Error::io(path, "put the finished file in place at", error))
        }
        _ => Ok(()),
    }
}

/// Size of the smallest file: magic, an empty header block.
pub(super) const SMALLEST: usize = MAGIC.len() + HEADER;
