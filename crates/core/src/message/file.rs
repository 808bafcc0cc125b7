//! Messages in the files that firmware is built from.

use std::path::Path;

use super::parse::unescaped;
use crate::error::{Error, ErrorKind, Result, suggest};

/// How values stand in a file.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FileForm {
    /// A byte each.
    Binary,
    /// Numbers in hexadecimal, with spaces between them; what stands behind `#` or `//` is a comment, a word that
    /// ends with a colon an offset.
    Hex,
    /// The numbers between the braces of an array in C or the brackets of one in Rust, or a text in quotes: of
    /// this name, or of the only one there is.
    Array(Option<String>),
    /// A column of a CSV with names in its first row: of this name, or the only one there is.
    Column(Option<String>),
}

impl FileForm {
    /// What is likely in a file of this name, by its ending.
    pub fn of(path: &Path) -> Option<FileForm> {
        let ending = path.extension()?.to_str()?.to_ascii_lowercase();
        Some(match ending.as_str() {
            "bin" | "img" | "rom" => FileForm::Binary,
            "hex" | "txt" => FileForm::Hex,
            "c" | "h" | "cc" | "cpp" | "hpp" | "inc" | "rs" => FileForm::Array(None),
            "csv" => FileForm::Column(None),
            _ => return None,
        })
    }

    /// The values in a file.
    ///
    /// ```
    /// use deep_tap_core::message::file::FileForm;
    ///
    /// let source = b"/* start */ static const uint8_t hello[] = { 0x08, 16, 'A' };";
    /// assert_eq!(FileForm::Array(None).values(source)?, [0x08, 16, 0x41]);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// When something in it is not a number, there is no such array or column, or there are several and none was
    /// named.
    pub fn values(&self, bytes: &[u8]) -> Result<Vec<u64>> {
        let text = || {
            std::str::from_utf8(bytes).map_err(|error| {
                let message = format!("byte {} is not part of a text in UTF-8", error.valid_up_to());
                wrong(message, "is this a binary file? then state format = \"binary\"")
            })
        };
        match self {
            FileForm::Binary => Ok(bytes.iter().copied().map(u64::from).collect()),
            FileForm::Hex => hex(text()?),
            FileForm::Array(name) => array(text()?, name.as_deref()),
            FileForm::Column(name) => column(text()?, name.as_deref()),
        }
    }
}

fn wrong(message: String, help: impl Into<String>) -> Error {
    Error::new(ErrorKind::Unknown, message).with_help(help)
}

fn hex(text: &str) -> Result<Vec<u64>> {
    let mut values = Vec::new();
    for (number, line) in text.lines().enumerate() {
        let end = [line.find('#'), line.find("//")].into_iter().flatten().min().unwrap_or(line.len());
        for word in line[..end].split(|c: char| c.is_whitespace() || c == ',') {
            if word.is_empty() || word.ends_with(':') {
                continue;
            }
            let digits = word.strip_prefix("0x").unwrap_or(word);
            values.push(u64::from_str_radix(digits, 16).map_err(|_| {
                let message = format!("line {}: '{word}' is not a hexadecimal number", number + 1);
                wrong(message, "write one value after the other, with spaces between them: 08 10 00")
            })?);
        }
    }
    Ok(values)
}

fn column(text: &str, name: Option<&str>) -> Result<Vec<u64>> {
    let refused =
        |error: csv::Error| wrong(format!("{error}"), "write a row of names, then a value in each row");
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
    let names = reader.headers().map_err(refused)?.clone();
    let place = match name {
        Some(name) => names.iter().position(|own| own == name).ok_or_else(|| {
            wrong(format!("there is no column '{name}'"), suggest(name, names.iter(), "column"))
        })?,
        None if names.len() == 1 => 0,
        None => {
            let known: Vec<&str> = names.iter().collect();
            let help = format!("say which: column = \"{}\"", known.first().unwrap_or(&"value"));
            return Err(wrong(format!("there are {} columns: {}", known.len(), known.join(", ")), help));
        }
    };
    let mut values = Vec::new();
    for row in reader.records() {
        let row = row.map_err(refused)?;
        let line = row.position().map_or(0, csv::Position::line);
        let cell = row.get(place).unwrap_or_default();
        values.push(number(cell).ok_or_else(|| {
            let message = format!("line {line}: '{cell}' is not a number");
            wrong(message, "write whole numbers from 0 on, such as 16 or 0x10")
        })?);
    }
    Ok(values)
}

/// An array in a source text.
struct Found<'t> {
    name: &'t str,
    /// What stands between its braces, or the quoted texts.
    inside: &'t str,
    /// Where that begins.
    at: usize,
    quoted: bool,
}

fn array(text: &str, name: Option<&str>) -> Result<Vec<u64>> {
    let text = without_comments(text);
    let all = arrays(&text);
    let known = || all.iter().map(|found| found.name);
    let found = match (name, all.as_slice()) {
        (_, []) => {
            let help = "an array looks like: const uint8_t name[] = { 0x08, 0x10 };";
            return Err(wrong("there is no array in it".to_string(), help));
        }
        (Some(name), all) => all
            .iter()
            .find(|found| found.name == name)
            .ok_or_else(|| wrong(format!("there is no array '{name}'"), suggest(name, known(), "array")))?,
        (None, [only]) => only,
        (None, several) => {
            let names: Vec<&str> = known().take(8).collect();
            let message = format!("there are {} arrays: {}", several.len(), names.join(", "));
            return Err(wrong(message, format!("say which: array = \"{}\"", names[0])));
        }
    };
    if found.quoted {
        let bytes = quoted(found.inside);
        return bytes.ok_or_else(|| {
            let help = "known are \\n, \\r, \\t, \\0, \\\\, \\\", \\' and \\x1b";
            wrong(format!("the text of '{}' has an unknown escape", found.name), help)
        });
    }
    let mut values = Vec::new();
    let mut at = found.at;
    for item in found.inside.split(',') {
        let token = item.trim_matches(|c: char| c.is_whitespace() || "{}[]".contains(c));
        if !token.is_empty() {
            let line = text[..at + (item.len() - item.trim_start().len())].matches('\n').count() + 1;
            values.push(element(token).ok_or_else(|| {
                let message = format!("line {line}: '{token}' is not a number");
                wrong(message, "only numbers and characters are read: 0x08, 16, 0b1010, 'A'")
            })?);
        }
        at += item.len() + 1;
    }
    Ok(values)
}

/// The text with spaces in place of its comments, so that places stay.
fn without_comments(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let skipped = match rest.get(..2) {
            Some("//") => rest.find('\n').unwrap_or(rest.len()),
            Some("/*") => rest[2..].find("*/").map_or(rest.len(), |end| end + 4),
            _ => 0,
        };
        if skipped > 0 {
            out.extend(rest[..skipped].bytes().map(|byte| if byte == b'\n' { '\n' } else { ' ' }));
            rest = &rest[skipped..];
            continue;
        }
        // What stands in quotes is no comment.
        let whole = match first {
            '"' => past_quote(rest).unwrap_or(rest.len()),
            '\'' if rest.get(1..2) == Some("\\") => rest[2..].find('\'').map_or(rest.len(), |end| end + 3),
            '\'' => rest.char_indices().nth(2).filter(|(_, c)| *c == '\'').map_or(1, |(end, _)| end + 1),
            _ => first.len_utf8(),
        };
        out.push_str(&rest[..whole]);
        rest = &rest[whole..];
    }
    out
}

/// The end of the text in quotes that this one begins with, behind its last quote.
fn past_quote(text: &str) -> Option<usize> {
    let mut escaped = false;
    for (at, c) in text.char_indices().skip(1) {
        match c {
            '"' if !escaped => return Some(at + 1),
            _ => escaped = c == '\\' && !escaped,
        }
    }
    None
}

/// All that is assigned in braces, in brackets or as a text.
fn arrays(text: &str) -> Vec<Found<'_>> {
    let mut found = Vec::new();
    for (sign, _) in text.match_indices('=') {
        let before = &text[..sign];
        let begin = declaration(before);
        let Some(name) = declared(&before[begin..]) else { continue };
        let mut at = sign + 1;
        loop {
            let rest = &text[at..];
            let space = rest.len() - rest.trim_start_matches(|c: char| c.is_whitespace() || c == '&').len();
            at += space;
            if space == 0 {
                break;
            }
        }
        let rest = &text[at..];
        let rest = rest.strip_prefix('b').filter(|rest| rest.starts_with('"')).unwrap_or(rest);
        let at = text.len() - rest.len();
        match rest.chars().next() {
            Some('{' | '[') => {
                let Some(end) = closing(rest) else { continue };
                found.push(Found { name, inside: &rest[1..end], at: at + 1, quoted: false });
            }
            Some('"') => {
                let end = rest.find(';').unwrap_or(rest.len());
                let end = past_quotes(rest).unwrap_or(end);
                found.push(Found { name, inside: &rest[..end], at, quoted: true });
            }
            _ => {}
        }
    }
    found
}

/// The end of texts in quotes that follow each other.
fn past_quotes(text: &str) -> Option<usize> {
    let mut end = 0;
    loop {
        let rest = &text[end..];
        let space = rest.len() - rest.trim_start().len();
        if !rest[space..].starts_with('"') {
            return (end > 0).then_some(end);
        }
        end += space + past_quote(&rest[space..])?;
    }
}

/// Where the brace or bracket that a text begins with is closed.
fn closing(text: &str) -> Option<usize> {
    let mut depth = 0usize;
    for (at, c) in text.char_indices() {
        match c {
            '{' | '[' => depth += 1,
            '}' | ']' => depth -= 1,
            _ => {}
        }
        if depth == 0 {
            return Some(at);
        }
    }
    None
}

/// Where the declaration begins that ends here; what stands in brackets belongs to it.
fn declaration(text: &str) -> usize {
    let mut depth = 0usize;
    for (at, c) in text.char_indices().rev() {
        match c {
            ']' => depth += 1,
            '[' => depth = depth.saturating_sub(1),
            ';' | '{' | '}' | '=' if depth == 0 => return at + 1,
            _ => {}
        }
    }
    0
}

/// The name that a declaration gives: what stands before `[` in C, before `:` in Rust.
fn declared(text: &str) -> Option<&str> {
    let end = text.find([':', '[']).unwrap_or(text.len());
    let before = text[..end].trim_end();
    let name = |c: char| c.is_alphanumeric() || c == '_';
    let begin =
        before.rfind(|c| !name(c)).map_or(0, |at| at + before[at..].chars().next().map_or(1, char::len_utf8));
    Some(&before[begin..]).filter(|name| !name.is_empty())
}

/// A number or a character, with what a compiler needs of types taken away.
fn element(token: &str) -> Option<u64> {
    let token = match token.strip_prefix('(') {
        // A cast.
        Some(cast) => cast.split_once(')')?.1.trim(),
        None => token,
    };
    let character = token.strip_prefix('b').filter(|rest| rest.starts_with('\'')).unwrap_or(token);
    if let Some(inside) = character.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\'')) {
        let bytes = unescaped(inside)?;
        return <[u64; 1]>::try_from(bytes).ok().map(|[byte]| byte);
    }
    let rust = ["u8", "u16", "u32", "u64", "usize", "i8", "i16", "i32", "i64", "isize"];
    let plain = rust.iter().find_map(|suffix| token.strip_suffix(suffix)).unwrap_or(token);
    let plain = plain.trim_end_matches(['u', 'U', 'l', 'L']);
    // As C has it.
    let octal = plain.len() > 1 && plain.starts_with('0') && plain[1..].bytes().all(|c| c.is_ascii_digit());
    if octal { u64::from_str_radix(plain, 8).ok() } else { number(plain) }
}

/// A whole number from zero on: decimal, hexadecimal, binary, octal.
fn number(text: &str) -> Option<u64> {
    let text = text.replace('_', "").to_ascii_lowercase();
    let radix =
        |prefix: &str, radix| text.strip_prefix(prefix).map(|digits| u64::from_str_radix(digits, radix).ok());
    match radix("0x", 16).or_else(|| radix("0b", 2)).or_else(|| radix("0o", 8)) {
        Some(number) => number,
        None => text.parse().ok(),
    }
}

/// The bytes of texts in quotes.
fn quoted(text: &str) -> Option<Vec<u64>> {
    let (mut bytes, mut rest) = (Vec::new(), text.trim_start());
    while let Some(end) = past_quote(rest).filter(|_| rest.starts_with('"')) {
        bytes.extend(unescaped(&rest[1..end - 1])?);
        rest = rest[end..].trim_start();
    }
    Some(bytes)
}
