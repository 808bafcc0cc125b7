//! The declarations at the head of a dump (IEEE 1364-2005, clause 18.2; IEEE 1800-2017, clause 21.7).

use std::io::Read;

use super::note::Note;
use crate::error::{Error, ErrorKind, Place, Result};
use crate::format::source::{Reader, Source};
use crate::quantity::{Rational, Time};

/// Most bytes of declarations.
const LONGEST: usize = 1 << 29;
/// Most bytes of a scope's full name: a hostile file may nest scopes without end.
const LONGEST_PATH: usize = 4096;

/// What a variable holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sort {
    /// Bits of four states.
    Bits,
    /// Floating-point numbers.
    Real,
    /// An instant each.
    Event,
    /// Texts.
    Text,
    /// A constant.
    Constant,
}

/// A declared variable.
#[derive(Debug)]
pub(super) struct Variable<'a> {
    pub(super) sort: Sort,
    pub(super) width: u32,
    pub(super) code: &'a [u8],
    /// Full name of its scope; empty outside of any.
    pub(super) scope: usize,
    pub(super) name: String,
    /// Bits of a part of a vector: the most and the least significant one.
    pub(super) range: Option<(i64, i64)>,
    /// Where its declaration begins.
    pub(super) at: usize,
}

/// All that stands before the values.
pub(super) struct Header<'a> {
    /// Full names of scopes, the first of them empty.
    pub(super) scopes: Vec<String>,
    pub(super) variables: Vec<Variable<'a>>,
    /// Seconds per unit of the times, if stated.
    pub(super) scale: Option<Rational>,
    /// What the dump says of its record, if it was written here.
    pub(super) note: Option<Note>,
    /// The date as the file has it.
    pub(super) date: Option<String>,
    /// Bytes up to the end of the declarations.
    pub(super) len: usize,
}

/// Reads as much of a text as holds the declarations.
///
/// # Errors
/// When it is not a dump, or ends before its declarations do.
pub(super) fn read_head(source: &Source, reader: &mut Reader<'_>) -> Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut wanted = 1 << 16;
    loop {
        let more = reader.by_ref().take((wanted - bytes.len()) as u64).read_to_end(&mut bytes);
        more.map_err(|error| source.unreadable(error, reader.given()))?;
        match Words::new(source, &bytes).header() {
            Err(error) if error.message() == CUT && bytes.len() == wanted => {}
            read => return read.map(|_| ()).map(|()| bytes),
        }
        if bytes.len() >= LONGEST {
            return Err(source.refused("the declarations of this dump have no end within 512 MB"));
        }
        wanted = bytes.len() * 2;
    }
}

const CUT: &str = "the dump ends in the middle of its declarations";

/// The words of the declarations.
pub(super) struct Words<'a> {
    source: &'a Source,
    bytes: &'a [u8],
    at: usize,
    /// Where the last word began.
    start: usize,
}

impl<'a> Words<'a> {
    pub(super) fn new(source: &'a Source, bytes: &'a [u8]) -> Self {
        // A byte order mark is no part of the text.
        let at = if bytes.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
        Words { source, bytes, at, start: at }
    }

    fn next(&mut self) -> Option<&'a [u8]> {
        let blank = |byte: &u8| byte.is_ascii_whitespace() || *byte == 0x0b;
        let start = self.at + self.bytes[self.at..].iter().position(|byte| !blank(byte))?;
        let len = self.bytes[start..].iter().position(blank).unwrap_or(self.bytes.len() - start);
        (self.start, self.at) = (start, start + len);
        Some(&self.bytes[start..start + len])
    }

    fn wrong(&self, message: impl Into<String>) -> Error {
        self.source.wrong(self.start as u64, message)
    }

    fn cut(&self) -> Error {
        self.source.refused(CUT).with_help("it was cut off, or it is not a value change dump")
    }

    /// The words up to `$end`.
    fn section(&mut self) -> Result<Vec<&'a [u8]>> {
        let mut words = Vec::new();
        loop {
            match self.next() {
                Some(b"$end") => return Ok(words),
                Some(word) => words.push(word),
                None => return Err(self.cut()),
            }
        }
    }

    /// The text up to `$end`.
    fn text(&mut self) -> Result<String> {
        let start = self.at;
        loop {
            match self.next() {
                Some(b"$end") => return Ok(lossy(&self.bytes[start..self.start]).trim().to_string()),
                Some(_) => {}
                None => return Err(self.cut()),
            }
        }
    }

    /// All declarations.
    ///
    /// # Errors
    /// With the line, for what is none.
    pub(super) fn header(&mut self) -> Result<Header<'a>> {
        let mut header = Header {
            scopes: vec![String::new()],
            variables: Vec::new(),
            scale: None,
            note: None,
            date: None,
            len: 0,
        };
        let mut open = vec![0];
        loop {
            let Some(word) = self.next() else {
                return Err(match self.bytes.trim_ascii().is_empty() {
                    true => self.source.refused("this file is empty").with_help("export the record again"),
                    false => self.cut(),
                });
            };
            if self.at == self.bytes.len() && word.starts_with(b"$") {
                return Err(self.cut());
            }
            match word {
                b"$enddefinitions" => {
                    self.section()?;
                    header.len = self.at;
                    return Ok(header);
                }
                b"$scope" => {
                    let scope = self.scope(&header.scopes[open[open.len() - 1]])?;
                    open.push(header.scopes.len());
                    header.scopes.push(scope);
                }
                b"$upscope" => {
                    self.section()?;
                    if open.len() > 1 {
                        open.pop();
                    }
                }
                b"$var" => {
                    let scope = open[open.len() - 1];
                    header.variables.push(self.variable(scope)?);
                }
                b"$timescale" => header.scale = Some(self.scale()?),
                b"$date" => header.date = Some(self.text()?).filter(|date| !date.is_empty()),
                b"$comment" => {
                    let comment = self.text()?;
                    if header.note.is_none() {
                        let note = Note::read(&comment).transpose();
                        header.note = note.map_err(|e| e.at(Place::File(self.source.name().into())))?;
                    }
                }
                b"$dumpports" | b"$dumpportson" => return Err(self.ports()),
                // Version, attributes and whatever a writer adds.
                word if word.starts_with(b"$") && word.len() > 1 => drop(self.text()?),
                word => {
                    let message =
                        format!("this is not a value change dump: '{}' is no declaration", shown(word));
                    return Err(self.wrong(message).with_help("the text must follow IEEE 1364, clause 18"));
                }
            }
        }
    }

    fn ports(&self) -> Error {
        let message = "this is an extended value change dump ($dumpports), which says who drives a port";
        self.wrong(message).with_help("dump with $dumpvars instead")
    }

    fn scope(&mut self, outer: &str) -> Result<String> {
        let words = self.section()?;
        // The type of the scope stands before its name, which some writers leave empty.
        let name: Vec<String> = words.iter().skip(1).map(|word| lossy(plain(word))).collect();
        let path = match (outer.is_empty(), name.is_empty()) {
            (_, true) => outer.to_string(),
            (true, false) => name.join(" "),
            (false, false) => format!("{outer}.{}", name.join(" ")),
        };
        match path.len() <= LONGEST_PATH {
            true => Ok(path),
            false => Err(self.wrong("the scopes of this dump are nested without end")),
        }
    }

    fn scale(&mut self) -> Result<Rational> {
        let words: Vec<String> = self.section()?.into_iter().map(lossy).collect();
        let text = words.concat();
        let time = text.parse::<Time>().ok().filter(|time| *time > Time::ZERO);
        time.map(Time::to_rational).ok_or_else(|| {
            self.wrong(format!("'{text}' is no time scale")).with_help("a time scale is like 1 ns or 10 ps")
        })
    }

    fn variable(&mut self, scope: usize) -> Result<Variable<'a>> {
        let at = self.start;
        let words = self.section()?;
        let [sort, size, code, reference, index @ ..] = words.as_slice() else {
            let message = "a declaration has a type, a size, a code and a name";
            return Err(self.source.wrong(at as u64, message));
        };
        let sort = match *sort {
            b"real" | b"realtime" | b"shortreal" => Sort::Real,
            b"event" => Sort::Event,
            b"string" => Sort::Text,
            b"parameter" | b"localparam" => Sort::Constant,
            b"port" => return Err(self.ports()),
            _ => Sort::Bits,
        };
        let number = std::str::from_utf8(size).ok().and_then(|size| size.parse::<u32>().ok());
        let Some(width) = number.or(match sort {
            Sort::Bits => None,
            _ => Some(0),
        }) else {
            let message = format!("'{}' is no number of bits", shown(size));
            return Err(self.source.wrong(at as u64, message));
        };
        let (name, range) = named(reference, index, width);
        Ok(Variable { sort, width, code, scope, name, range, at })
    }
}

/// Name and bits of a reference: `q`, `q[3]`, `q [7:0]`, `\odd[name] [7:0]`.
fn named(reference: &[u8], index: &[&[u8]], width: u32) -> (String, Option<(i64, i64)>) {
    let name = lossy(plain(reference));
    let escaped = reference.starts_with(b"\\");
    let index = lossy(&index.concat());
    let attached = name.rfind('[').filter(|at| !escaped && *at > 0 && index.is_empty());
    let (base, index) = match attached {
        Some(at) => (name[..at].to_string(), name[at..].to_string()),
        None => (name, index),
    };
    if index.is_empty() {
        return (base, None);
    }
    let bits = bits(&index);
    let length = bits.map(|(most, least)| most.abs_diff(least) + 1);
    match (bits, length) {
        (Some(bits), Some(length)) if length == u64::from(width) => (base, Some(bits)),
        // An element of an array, or several dimensions.
        _ => (base + &index, None),
    }
}

/// The bits that `[7:0]` or `[3]` stands for.
fn bits(index: &str) -> Option<(i64, i64)> {
    let inner = index.strip_prefix('[')?.strip_suffix(']')?;
    let (most, least) = inner.split_once(':').unwrap_or((inner, inner));
    let number = |text: &str| text.trim().parse::<i32>().ok().map(i64::from);
    Some((number(most)?, number(least)?))
}

/// A name without the mark of escaped ones.
fn plain(word: &[u8]) -> &[u8] {
    word.strip_prefix(b"\\").filter(|rest| !rest.is_empty()).unwrap_or(word)
}

pub(super) fn lossy(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// A word for a message, shortened.
pub(super) fn shown(word: &[u8]) -> String {
    let text: String = lossy(word).chars().take(40).flat_map(char::escape_debug).collect();
    if word.len() > 40 { format!("{text}…") } else { text }
}

/// The error of a dump that counts its times in nobody knows what.
pub(super) fn no_scale(source: &Source) -> Error {
    let error = Error::new(ErrorKind::Capture, "this dump does not say what its times count in ($timescale)");
    let help = "state it: time = \"1 ns\" in [import]";
    error.with_help(help).at(Place::File(source.name().into()))
}
