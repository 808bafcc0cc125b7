//! Where a record is read from: a file or bytes, plain or compressed, from the beginning as often as needed.
//!
//! Files are read in blocks by position and never mapped: a file that shrinks meanwhile is an error, and no
//! signal ends the process.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use crate::error::{Error, ErrorKind, Place, Result};

/// What a compressed file begins with (RFC 1952, section 2.3.1).
const GZIP: [u8; 2] = [0x1f, 0x8b];
/// Bytes from the beginning that are enough to recognise any format.
const HEAD: usize = 1 << 16;

/// A file or bytes that hold a record.
///
/// ```
/// use deep_tap_core::format::Source;
///
/// let source = Source::of_bytes(b"time_s,CLK\n0,1\n".to_vec(), "pasted");
/// assert_eq!(source.name().to_str(), Some("pasted"));
/// ```
#[derive(Debug)]
pub struct Source {
    name: PathBuf,
    bytes: Bytes,
    packed: bool,
}

#[derive(Debug)]
enum Bytes {
    File { file: File, len: u64 },
    Memory(Vec<u8>),
}

impl Source {
    /// A file of the file system.
    ///
    /// # Errors
    /// When it cannot be opened, or is a folder, a device or a pipe, which have no end to find.
    pub fn open(path: &Path) -> Result<Source> {
        let about = |message: &str, help: &str| {
            Err(Error::new(ErrorKind::Io, message).with_help(help).at(Place::File(path.to_path_buf())))
        };
        // Asked before opening, since opening a pipe waits for somebody to write into it.
        let kind = std::fs::metadata(path).map_err(|e| Error::io(path, "open", e))?;
        if kind.is_dir() {
            return about("this is a folder", "give the path of a file in it");
        }
        if !kind.is_file() {
            let help = "what comes through a pipe is read from standard input: deep-tap … - < PIPE";
            return about("this is neither a file nor a folder, but a device or a pipe", help);
        }
        let file = File::open(path).map_err(|e| Error::io(path, "open", e))?;
        Source::of_file(file, path)
    }

    /// An open file, read from its beginning whatever was read of it before. `name` is for messages.
    ///
    /// # Errors
    /// When its length cannot be found out, or its first bytes cannot be read.
    pub fn of_file(file: File, name: impl Into<PathBuf>) -> Result<Source> {
        let name = name.into();
        let len = file.metadata().map_err(|e| Error::io(&name, "open", e))?.len();
        Source { name, bytes: Bytes::File { file, len }, packed: false }.recognised()
    }

    /// Bytes in memory. `name` is for messages.
    pub fn of_bytes(bytes: Vec<u8>, name: impl Into<PathBuf>) -> Source {
        let packed = bytes.starts_with(&GZIP);
        Source { name: name.into(), bytes: Bytes::Memory(bytes), packed }
    }

    fn recognised(mut self) -> Result<Source> {
        let mut first = [0; 2];
        let mut raw = Raw { source: &self, at: 0 };
        let whole = raw.read_exact(&mut first).is_ok();
        self.packed = whole && first == GZIP;
        Ok(self)
    }

    /// What messages call it.
    pub fn name(&self) -> &Path {
        &self.name
    }

    /// Bytes to read, compressed ones where it is compressed.
    pub(crate) fn len(&self) -> u64 {
        match &self.bytes {
            Bytes::File { len, .. } => *len,
            Bytes::Memory(bytes) => bytes.len() as u64,
        }
    }

    /// Reads from the beginning, unpacked.
    pub(crate) fn reader(&self) -> Reader<'_> {
        let raw = BufReader::with_capacity(1 << 18, Raw { source: self, at: 0 });
        let from = match self.packed {
            true => From::Packed(Box::new(flate2::bufread::MultiGzDecoder::new(raw))),
            false => From::Plain(raw),
        };
        Reader { from, given: 0 }
    }

    /// The first bytes, unpacked; as many as there are where they are few, and none where they cannot be
    /// read.
    pub(crate) fn head(&self) -> Vec<u8> {
        self.first(HEAD)
    }

    /// The same, up to so many.
    pub(crate) fn first(&self, bytes: usize) -> Vec<u8> {
        let mut head = vec![0; bytes];
        let mut reader = self.reader();
        let mut filled = 0;
        while filled < bytes {
            match reader.read(&mut head[filled..]) {
                Ok(0) | Err(_) => break,
                Ok(more) => filled += more,
            }
        }
        head.truncate(filled);
        head
    }

    /// The number of the line, from 1, in which a byte lies.
    pub(crate) fn line_of(&self, byte: u64) -> u64 {
        let mut reader = BufReader::with_capacity(1 << 18, self.reader().take(byte));
        let mut line = 1;
        while let Ok(block) = reader.fill_buf() {
            if block.is_empty() {
                break;
            }
            line += memchr::memchr_iter(b'\n', block).count() as u64;
            let read = block.len();
            reader.consume(read);
        }
        line
    }

    /// An error about the line in which a byte lies.
    pub(crate) fn wrong(&self, byte: u64, message: impl Into<String>) -> Error {
        let place = Place::FileLine { path: self.name.clone(), line: self.line_of(byte) };
        Error::new(ErrorKind::Capture, message).at(place)
    }

    /// An error about all of it.
    pub(crate) fn refused(&self, message: impl Into<String>) -> Error {
        Error::new(ErrorKind::Capture, message).at(Place::File(self.name.clone()))
    }

    /// What a failure to read means to the user, after `good` bytes of content that could be read.
    pub(crate) fn unreadable(&self, error: io::Error, good: u64) -> Error {
        let shrank = error.kind() == io::ErrorKind::UnexpectedEof;
        if self.packed {
            let what = if shrank { "ends too early" } else { "is damaged" };
            let message =
                format!("this compressed file {what}: good are the first {good} bytes of its content");
            let help = "compress it again, or read only what is good of it";
            return self.refused(message).with_help(help).with_source(error);
        }
        if shrank {
            let message = "this file became shorter while it was read";
            return self.refused(message).with_help("read it when nobody writes it any more");
        }
        Error::io(&self.name, "read", error)
    }

    /// Whether it is compressed.
    pub(crate) fn is_packed(&self) -> bool {
        self.packed
    }
}

/// The bytes as they lie there, without asking what they are.
struct Raw<'a> {
    source: &'a Source,
    at: u64,
}

impl Read for Raw<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let read = match &self.source.bytes {
            Bytes::Memory(bytes) => (&bytes[(self.at as usize).min(bytes.len())..]).read(to)?,
            Bytes::File { file, len } => {
                // A file that grows is read up to where it ended when it was opened.
                let left = usize::try_from(len - self.at.min(*len)).unwrap_or(usize::MAX);
                let room = to.len().min(left);
                let read = read_at(file, &mut to[..room], self.at)?;
                if read == 0 && room > 0 {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                read
            }
        };
        self.at += read as u64;
        Ok(read)
    }
}

/// Reads at a position, without moving one that others share.
#[cfg(unix)]
pub(crate) fn read_at(file: &File, to: &mut [u8], at: u64) -> io::Result<usize> {
    loop {
        match std::os::unix::fs::FileExt::read_at(file, to, at) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            done => return done,
        }
    }
}

/// Reads at a position.
#[cfg(windows)]
pub(crate) fn read_at(file: &File, to: &mut [u8], at: u64) -> io::Result<usize> {
    std::os::windows::fs::FileExt::seek_read(file, to, at)
}

/// Reads the content from its beginning.
pub(crate) struct Reader<'a> {
    from: From<'a>,
    /// Bytes of content given out.
    given: u64,
}

enum From<'a> {
    Plain(BufReader<Raw<'a>>),
    Packed(Box<flate2::bufread::MultiGzDecoder<BufReader<Raw<'a>>>>),
}

impl Reader<'_> {
    /// Bytes given out so far.
    pub(crate) fn given(&self) -> u64 {
        self.given
    }

    /// Bytes of the source that were read for that.
    pub(crate) fn consumed(&self) -> u64 {
        match &self.from {
            From::Plain(raw) => raw.get_ref().at,
            From::Packed(packed) => packed.get_ref().get_ref().at,
        }
    }
}

impl Read for Reader<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let read = match &mut self.from {
            From::Plain(raw) => raw.read(to)?,
            From::Packed(packed) => packed.read(to)?,
        };
        self.given += read as u64;
        Ok(read)
    }
}
