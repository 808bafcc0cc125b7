//! Where setup and limits files come from.

use crate::capture::Attachment;
use crate::error::{Error, ErrorKind, Result};

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

    /// The name of the setup that a capture carries, which is a folder of texts: `old.dtap/power-up.toml` for
    /// `old.dtap`.
    ///
    /// # Errors
    /// When there is no such capture, or it carries no setup.
    fn setup_in(&self, capture: &str) -> Result<String> {
        Err(Error::new(ErrorKind::Setup, format!("the capture '{capture}' is not at hand"))
            .with_help("include the setup file instead"))
    }

    /// Whether a capture carries the text of this name.
    fn is_carried(&self, _name: &str) -> bool {
        false
    }

    /// The name as the user would find it, for messages.
    fn display(&self, name: &str) -> String {
        name.to_string()
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

    fn is_carried(&self, _: &str) -> bool {
        true
    }

    fn setup_in(&self, capture: &str) -> Result<String> {
        let carried = |text: &&Attachment| split_carried(&text.name).is_some_and(|(own, _)| own == capture);
        self.0.iter().find(carried).map(|text| text.name.clone()).ok_or_else(|| {
            Error::new(ErrorKind::Setup, format!("the capture does not carry the setup of '{capture}'"))
                .with_help("give the setup with --setup")
        })
    }
}

/// Whether a name is that of a capture.
pub(crate) fn is_capture(name: &str) -> bool {
    let ending = name.len().checked_sub(CAPTURE.len()).and_then(|at| name.get(at..));
    ending.is_some_and(|ending| ending.eq_ignore_ascii_case(CAPTURE))
}

const CAPTURE: &str = ".dtap";

/// The capture that carries a text, and the text's name in it: `old.dtap/parts/u3.toml`.
pub(crate) fn split_carried(name: &str) -> Option<(&str, &str)> {
    let mut ends = name.match_indices('/').map(|(at, _)| at);
    ends.find(|at| is_capture(&name[..*at])).map(|at| (&name[..at], &name[at + 1..]))
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

/// The file that a text which a capture carries stands for.
pub(crate) fn bytes_of(text: &str) -> Vec<u8> {
    let Some(digits) = text.strip_prefix(IN_HEX) else { return text.as_bytes().to_vec() };
    let digit = |digit: &u8| char::from(*digit).to_digit(16).unwrap_or(0) as u8;
    digits.as_bytes().chunks(2).map(|pair| pair.iter().fold(0, |byte, own| byte << 4 | digit(own))).collect()
}

/// A name relative to the text that mentions it, with `.` and `..` resolved. What a capture carries mentions
/// nothing outside of it, neither by `..` nor by an absolute name.
pub(super) fn relative(mentioned_in: &str, name: &str) -> String {
    if let Some((capture, inner)) = split_carried(mentioned_in) {
        return format!("{capture}/{}", relative(inner, name));
    }
    let mut parts: Vec<&str> = Vec::new();
    if !name.starts_with('/') {
        parts.extend(mentioned_in.split('/'));
        parts.pop();
    }
    for part in name.split('/') {
        match part {
            "." => {}
            ".." if parts.last().is_some_and(|p| *p != ".." && !is_capture(p)) => {
                parts.pop();
            }
            _ => parts.push(part),
        }
    }
    parts.join("/")
}

#[cfg(test)]
mod tests {
    use super::relative;

    #[test]
    fn a_capture_is_a_folder_that_nothing_leaves() {
        let cases = [
            ("board.toml", "parts/u3.toml", "parts/u3.toml"),
            ("a/board.toml", "../parts/./u3.toml", "parts/u3.toml"),
            ("board.toml", "../../parts/u3.toml", "../../parts/u3.toml"),
            ("board.toml", "../old.dtap", "../old.dtap"),
            ("../old.dtap/s.toml", "../parts/u3.toml", "../old.dtap/../parts/u3.toml"),
            ("old.dtap/s.toml", "../../../etc/passwd", "old.dtap/../../../etc/passwd"),
            ("old.dtap/s.toml", "/etc/passwd", "old.dtap//etc/passwd"),
            ("old.dtap/s.toml", "older.dtap", "old.dtap/older.dtap"),
            ("old.dtap/older.DTAP/s.toml", "../p.toml", "old.dtap/older.DTAP/../p.toml"),
            ("s.toml", "old.dtap/../p.toml", "old.dtap/../p.toml"),
        ];
        for (mentioned_in, name, means) in cases {
            assert_eq!(relative(mentioned_in, name), means, "{name} in {mentioned_in}");
        }
    }
}
