//! Where setup and limits files come from.

use std::path::{Path, PathBuf};

use crate::capture::Attachment;
use crate::error::{Error, ErrorKind, Place, Result};
use crate::reader::{read_bytes, read_text};

/// A way to fetch the texts that a setup refers to, by their names relative to it.
pub trait Texts {
    /// The text with this name; `/` parts folders.
    ///
    /// # Errors
    /// When there is none, or it cannot be read as UTF-8.
    fn read(&self, name: &str) -> Result<String>;

    /// The bytes of a file that may be no text.
    ///
    /// # Errors
    /// When there is none, or it cannot be read.
    fn read_bytes(&self, name: &str) -> Result<Vec<u8>> {
        self.read(name).map(String::into_bytes)
    }

    /// The name as the user would find it, for messages.
    fn display(&self, name: &str) -> String {
        name.to_string()
    }
}

/// The files of a folder.
#[derive(Clone, Debug)]
pub struct Folder {
    path: PathBuf,
    /// A file whose name is no text, by the text that stands for it.
    odd: Option<(String, PathBuf)>,
}

impl Folder {
    /// Reads relative to this folder.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Folder { path: path.into(), odd: None }
    }

    /// The folder of a file, and the file's name in it.
    ///
    /// # Errors
    /// When the path does not end in a file name.
    pub fn of(file: &Path) -> Result<(Self, String)> {
        let name = file.file_name().ok_or_else(|| {
            Error::new(ErrorKind::Io, "this is not the path of a file").at(Place::File(file.to_path_buf()))
        })?;
        let shown = name.to_string_lossy().into_owned();
        let odd = name.to_str().is_none().then(|| (shown.clone(), file.to_path_buf()));
        Ok((Folder { path: file.parent().unwrap_or(Path::new("")).to_path_buf(), odd }, shown))
    }

    fn path(&self, name: &str) -> PathBuf {
        match &self.odd {
            Some((odd, path)) if odd == name => path.clone(),
            _ => self.path.join(name),
        }
    }
}

impl Texts for Folder {
    fn read(&self, name: &str) -> Result<String> {
        let path = self.path(name);
        read_text(&path, ErrorKind::Setup)
    }

    fn read_bytes(&self, name: &str) -> Result<Vec<u8>> {
        read_bytes(&self.path(name), ErrorKind::Setup)
    }

    fn display(&self, name: &str) -> String {
        self.path(name).display().to_string()
    }
}

/// The texts that a capture carries.
#[derive(Clone, Copy, Debug)]
pub struct Attached<'a>(pub &'a [Attachment]);

impl Texts for Attached<'_> {
    fn read(&self, name: &str) -> Result<String> {
        self.0.iter().find(|a| a.name == name).map(|a| a.text.clone()).ok_or_else(|| {
            Error::new(ErrorKind::Setup, format!("the capture does not carry the text '{name}'"))
                .with_help("give the setup with --setup")
        })
    }

    fn read_bytes(&self, name: &str) -> Result<Vec<u8>> {
        self.read(name).map(|text| bytes_of(&text))
    }
}

/// What the text of a file that is none begins with.
const IN_HEX: &str = "bytes in hexadecimal:\n";

/// A file as a text that a capture can carry.
pub(super) fn text_of(bytes: &[u8]) -> String {
    match std::str::from_utf8(bytes) {
        Ok(text) if !text.starts_with(IN_HEX) => text.to_string(),
        _ => bytes.iter().fold(IN_HEX.to_string(), |text, byte| text + &format!("{byte:02x}")),
    }
}

/// The file that a text stands for.
pub(super) fn bytes_of(text: &str) -> Vec<u8> {
    let Some(digits) = text.strip_prefix(IN_HEX) else { return text.as_bytes().to_vec() };
    let digit = |digit: &u8| char::from(*digit).to_digit(16).unwrap_or(0) as u8;
    digits.as_bytes().chunks(2).map(|pair| pair.iter().fold(0, |byte, own| byte << 4 | digit(own))).collect()
}

/// A name relative to the text that mentions it, with `.` and `..` resolved.
pub(super) fn relative(mentioned_in: &str, name: &str) -> String {
    let mut parts: Vec<&str> = Vec::new();
    if !name.starts_with('/') {
        parts.extend(mentioned_in.split('/'));
        parts.pop();
    }
    for part in name.split('/') {
        match part {
            "." => {}
            ".." if parts.last().is_some_and(|p| *p != "..") => {
                parts.pop();
            }
            _ => parts.push(part),
        }
    }
    parts.join("/")
}
