//! The setup that a capture carries, written out as the files that it was.

use std::collections::BTreeMap;
use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};

use super::dtap::{SaveOptions, save};
use crate::capture::{Attachment, Capture};
use crate::error::{Error, ErrorKind, Place, Result};
use crate::setup::{bytes_of, split_carried};
use crate::time::TimeBase;

/// The folder that files are put under which the setup mentions by absolute paths.
const ABSOLUTE: &str = "absolute";
/// The folder of the setup below the one asked for, so that what it mentions as `../parts` lies inside, too.
const BELOW: &str = "setup";

/// What was written of a setup.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct WrittenSetup {
    /// The files, the setup first.
    pub files: Vec<PathBuf>,
    /// What has to be changed by hand before it can be used.
    pub remarks: Vec<String>,
}

/// A file to be written.
enum Content {
    File(Vec<u8>),
    /// What an included capture carries.
    Capture(Vec<Attachment>),
}

/// Writes the setup that a capture carries, and the files it refers to, into a folder, each as it was and
/// so that they find each other. Nothing outside of the folder is touched, whatever the capture calls its texts.
///
/// ```
/// use deep_tap_core::capture::{Attachment, Capture};
/// use deep_tap_core::format::{dtap::SaveOptions, write_setup};
/// use deep_tap_core::time::TimeBase;
///
/// let texts = [("board.toml", "title = \"rev B\""), ("../parts/u3.toml", "part = \"EX-ADC24\"")];
/// let texts = texts.map(|(name, text)| Attachment { name: name.into(), text: text.into() });
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let capture = Capture::builder(base, 0).attachments(texts.to_vec()).build()?;
/// let folder = std::env::temp_dir().join(format!("written-setup-{}", std::process::id()));
/// let written = write_setup(&capture, &folder, SaveOptions { replace: true })?;
/// assert_eq!(written.files[0], folder.join("setup/board.toml"));
/// assert_eq!(written.files[1], folder.join("parts/u3.toml"));
/// # std::fs::remove_dir_all(&folder).unwrap();
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
///
/// # Errors
/// When the capture carries no setup or calls a text by what is no name of a file, when a file is there already,
/// and when writing fails.
pub fn write_setup(capture: &Capture, folder: &Path, options: SaveOptions) -> Result<WrittenSetup> {
    let texts = capture.attachments();
    if texts.is_empty() {
        let error = Error::new(ErrorKind::Setup, "this capture carries no setup");
        return Err(error.with_help("a first one is made of its lines: deep-tap init"));
    }
    let mut written = WrittenSetup::default();
    let mut contents: BTreeMap<PathBuf, Content> = BTreeMap::new();
    let own = |name: &str| split_carried(name).map_or(name, |(capture, _)| capture).to_string();
    let above = |name: &str| own(name).split('/').take_while(|part| *part == "..").count();
    let depth = texts.iter().map(|text| above(&text.name)).max().unwrap_or(0);
    let below: PathBuf = std::iter::repeat_n(BELOW, depth).collect();
    for text in texts {
        let name = own(&text.name);
        let place = folder.join(place(&name, &below)?);
        if name.starts_with('/') {
            written.remarks.push(format!("the setup mentions {name}, which is now {}", place.display()));
        }
        if !contents.contains_key(&place) {
            written.files.push(place.clone());
        }
        match split_carried(&text.name) {
            None => {
                contents.insert(place, Content::File(bytes_of(&text.text)));
            }
            Some((_, inner)) => {
                let inner = Attachment { name: inner.to_string(), text: text.text.clone() };
                match contents.entry(place).or_insert_with(|| Content::Capture(Vec::new())) {
                    Content::Capture(texts) => texts.push(inner),
                    Content::File(_) => return Err(no_name(&text.name)),
                }
            }
        }
    }
    let there = contents.keys().find(|path| path.symlink_metadata().is_ok());
    if let Some(path) = there.filter(|_| !options.replace) {
        let error = Error::new(ErrorKind::Exists, "this file is there already").at(Place::File(path.clone()));
        return Err(error.with_help("write into another folder, or say that files may be replaced"));
    }
    for (path, content) in contents {
        let parent = path.parent().unwrap_or(folder);
        std::fs::create_dir_all(parent).map_err(|error| Error::io(parent, "make", error))?;
        match content {
            Content::File(bytes) => write(&path, &bytes, options)?,
            Content::Capture(texts) => {
                let base = TimeBase::from_rate("1 MS/s".parse()?)?;
                let capture = Capture::builder(base, 0).attachments(texts).build()?;
                save(&capture, &path, options)?;
            }
        }
    }
    Ok(written)
}

fn write(path: &Path, bytes: &[u8], options: SaveOptions) -> Result<()> {
    let failed = |error| Error::io(path, "write", error);
    if options.replace && path.symlink_metadata().is_ok() {
        std::fs::remove_file(path).map_err(failed)?;
    }
    let mut file = OpenOptions::new().write(true).create_new(true).open(path).map_err(failed)?;
    file.write_all(bytes).map_err(failed)
}

/// Where a text goes, relative to the folder.
fn place(name: &str, below: &Path) -> Result<PathBuf> {
    let (mut place, rest) = match name.strip_prefix('/') {
        Some(rest) => (PathBuf::from(ABSOLUTE), rest),
        None => (below.to_path_buf(), name),
    };
    let mut named = false;
    for part in rest.split('/') {
        match part {
            ".." if !named && !name.starts_with('/') => {
                if !place.pop() {
                    return Err(no_name(name));
                }
            }
            "" | "." | ".." => return Err(no_name(name)),
            part if part.contains(['\\', ':', '\0']) || part.chars().any(char::is_control) => {
                return Err(no_name(name));
            }
            part => {
                named = true;
                place.push(part);
            }
        }
    }
    if named { Ok(place) } else { Err(no_name(name)) }
}

fn no_name(name: &str) -> Error {
    let error = Error::new(ErrorKind::Setup, format!("the capture calls a text '{}'", name.escape_debug()));
    error.with_help("this is not a name that a file could have: the capture was not made by this program")
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::place;

    #[test]
    fn no_name_leaves_the_folder() {
        let at = |name| place(name, Path::new("setup")).ok().map(|path| path.display().to_string());
        assert_eq!(at("s.toml").as_deref(), Some("setup/s.toml"));
        assert_eq!(at("../parts/u3.toml").as_deref(), Some("parts/u3.toml"));
        assert_eq!(at("/etc/u3.toml").as_deref(), Some("absolute/etc/u3.toml"));
        for hostile in [
            "",
            ".",
            "..",
            "../..",
            "../../x",
            "a/../../x",
            "a//b",
            "/../x",
            "a\\..\\b",
            "c:x",
            "a\0",
            "a\n",
            "/",
        ] {
            assert_eq!(at(hostile), None, "{hostile:?}");
        }
    }
}
