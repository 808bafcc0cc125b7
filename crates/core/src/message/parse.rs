//! Reading messages.

use super::{CheckKind, Form, Message, Piece};
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::line::BitOrder;

/// Most values that a number takes.
const MOST_VALUES: usize = 16;

fn wrong(message: String, help: impl Into<String>) -> Error {
    Error::new(ErrorKind::Unknown, message).with_help(help)
}

impl Message {
    /// Values in hexadecimal with spaces between them: `"a5 1x {length} ( ... ) {crc-16/modbus lowest-first}"`.
    ///
    /// An `x` is an open digit. `...` is any number of values. `{length}` is the number of values that are
    /// covered, `{length+2}` two more; `{sum}` and its like prove what is covered. Covered is what stands in
    /// parentheses; without any, a length counts what follows it up to the checksum, and a checksum proves all
    /// before it. In braces may follow: the number of values that it takes, `lowest-first`, and `hex` for the
    /// characters of hexadecimal digits.
    ///
    /// # Errors
    /// When a word is none of these.
    pub fn hex(text: &str) -> Result<Message> {
        let mut reading = Reading::default();
        let mut rest = text.trim_start();
        while let Some(first) = rest.chars().next() {
            let end = match first {
                '{' => rest.find('}').map_or(rest.len(), |end| end + 1),
                '(' | ')' => 1,
                _ => rest.find(|c: char| c.is_whitespace() || "(){".contains(c)).unwrap_or(rest.len()),
            };
            let (word, after) = rest.split_at(end);
            match word {
                "(" => reading.open()?,
                ")" => reading.close()?,
                "..." => reading.many()?,
                word if word.starts_with('{') => reading.braces(word)?,
                word => reading.pieces.push(value(word)?),
            }
            rest = after.trim_start();
        }
        reading.finish(false)
    }

    /// Characters in UTF-8. `{digit}` is the character of any decimal digit, `{any}` any value, `{...}` any
    /// number of them, `{(}` and `{)}` stand around what is covered, `{{` is a brace; the rest as in
    /// [`hex`](Message::hex).
    ///
    /// # Errors
    /// When something in braces is none of these.
    pub fn text(text: &str) -> Result<Message> {
        let mut reading = Reading::default();
        let mut rest = text;
        while let Some(first) = rest.chars().next() {
            if first != '{' || rest.starts_with("{{") {
                let bytes = &first.encode_utf8(&mut [0; 4]).bytes().map(u64::from).collect::<Vec<_>>();
                reading.pieces.extend(bytes.iter().map(|bits| Piece::Value { bits: *bits, open: 0 }));
                rest = &rest[first.len_utf8() + usize::from(first == '{')..];
                continue;
            }
            let end = rest.find('}').map_or(rest.len(), |end| end + 1);
            let (word, after) = rest.split_at(end);
            match word {
                "{(}" => reading.open()?,
                "{)}" => reading.close()?,
                "{...}" => reading.many()?,
                "{digit}" => reading.pieces.push(Piece::Digit),
                "{any}" => reading.pieces.push(Piece::Value { bits: 0, open: u64::MAX }),
                word => reading.braces(word)?,
            }
            rest = after;
        }
        reading.finish(true)
    }
}

/// A value in hexadecimal, in which digits may be open.
fn value(word: &str) -> Result<Piece> {
    // `0x` alone has an open digit.
    let digits = word.strip_prefix("0x").filter(|digits| !digits.is_empty()).unwrap_or(word);
    let known = |c: char| c.is_ascii_hexdigit() || c == 'x';
    if digits.is_empty() || digits.len() > 16 || !digits.chars().all(known) {
        let help = "write values in hex with spaces between them, x for an open digit: \"08 1x 00\"";
        return Err(wrong(format!("'{word}' is not a hexadecimal number"), help));
    }
    let (bits, open) = digits.chars().fold((0u64, 0u64), |(bits, open), digit| match digit.to_digit(16) {
        Some(digit) => (bits << 4 | u64::from(digit), open << 4),
        None => (bits << 4, open << 4 | 0xf),
    });
    // Two open digits are a whole value, however many bits it has.
    let open = if digits.chars().all(|digit| digit == 'x') { u64::MAX } else { open };
    Ok(Piece::Value { bits, open })
}

#[derive(Default)]
struct Reading {
    pieces: Vec<Piece>,
    opened: Option<usize>,
    covered: Option<(usize, usize)>,
}

impl Reading {
    fn open(&mut self) -> Result<()> {
        if self.opened.is_some() || self.covered.is_some() {
            let message = "only one part of a message stands in parentheses".to_string();
            return Err(wrong(message, "they say what a length counts and a checksum proves"));
        }
        self.opened = Some(self.pieces.len());
        Ok(())
    }

    fn close(&mut self) -> Result<()> {
        let Some(from) = self.opened.take() else {
            return Err(wrong("a ')' has no '('".to_string(), "put one before what is covered"));
        };
        self.covered = Some((from, self.pieces.len()));
        Ok(())
    }

    fn many(&mut self) -> Result<()> {
        if self.pieces.contains(&Piece::Many) {
            let message = "'...' stands twice: where one stretch ends would be a guess".to_string();
            return Err(wrong(message, "let one part of a message have any number of values"));
        }
        self.pieces.push(Piece::Many);
        Ok(())
    }

    /// A number that is worked out.
    fn braces(&mut self, word: &str) -> Result<()> {
        let inside = word.trim_start_matches('{').strip_suffix('}');
        let inside = inside.ok_or_else(|| wrong(format!("'{word}' has no '}}'"), "close the brace"))?;
        let mut words = inside.split_whitespace();
        let name = words.next().unwrap_or_default();
        let (mut values, mut order, mut digits) = (None, BitOrder::HighestFirst, false);
        for word in words {
            match word {
                "lowest-first" => order = BitOrder::LowestFirst,
                "highest-first" => order = BitOrder::HighestFirst,
                "hex" => digits = true,
                number => match number.parse().ok().filter(|n| (1..=MOST_VALUES).contains(n)) {
                    Some(number) => values = Some(number),
                    None => {
                        let message = format!("'{word}' says nothing about '{name}'");
                        let help = "it may be: a number of values from 1 to 16, lowest-first, hex";
                        return Err(wrong(message, help));
                    }
                },
            }
        }
        let form = |bytes: usize| {
            let usual = if digits { 2 * bytes } else { bytes };
            Form { values: values.unwrap_or(usual), order, digits }
        };
        let more = name.strip_prefix("length").map(|more| match more {
            "" => Some(0),
            more => more.parse().ok(),
        });
        self.pieces.push(match more {
            Some(Some(more)) => Piece::Length { more, form: form(1) },
            Some(None) => {
                let message = format!("'{{{name}}}' is no length");
                return Err(wrong(message, "write {length}, {length+2} or {length-1}"));
            }
            None => {
                let known = CheckKind::all().map(CheckKind::name).chain(["length"]);
                let help = suggest(name, known, "computed value");
                let kind = CheckKind::named(name);
                let kind = kind.map_err(|_| wrong(format!("nothing is called '{{{name}}}'"), help))?;
                Piece::Check { kind, form: form(kind.bytes()) }
            }
        });
        Ok(())
    }

    fn finish(self, is_text: bool) -> Result<Message> {
        if self.opened.is_some() {
            return Err(wrong("a '(' has no ')'".to_string(), "put one after what is covered"));
        }
        let message = Message { pieces: self.pieces, covered: self.covered, is_text };
        let lengths = message.pieces.iter().filter(|piece| matches!(piece, Piece::Length { .. })).count();
        if lengths > 1 {
            return Err(wrong("a message has one length".to_string(), "leave the others open: xx"));
        }
        for (place, piece) in message.pieces.iter().enumerate() {
            let later = matches!(piece, Piece::Check { .. }) && message.proven(place).end > place;
            if later {
                let message = "a checksum stands before the end of what it proves".to_string();
                return Err(wrong(message, "it is compared as it comes: put it behind"));
            }
        }
        Ok(message)
    }
}

/// The bytes of a text in UTF-8 in which `\n`, `\r`, `\t`, `\0`, `\x1b`, and what follows another backslash, stand for
/// what they mean.
pub(crate) fn unescaped(text: &str) -> Option<Vec<u64>> {
    let mut bytes = Vec::new();
    let mut rest = text.chars();
    while let Some(first) = rest.next() {
        if first != '\\' {
            bytes.extend(first.encode_utf8(&mut [0; 4]).bytes().map(u64::from));
            continue;
        }
        bytes.push(match rest.next()? {
            'n' => 0x0a,
            'r' => 0x0d,
            't' => 0x09,
            '0' => 0x00,
            own @ ('\\' | '"' | '\'') => u64::from(own as u32),
            'x' => u64::from(rest.next()?.to_digit(16)? << 4 | rest.next()?.to_digit(16)?),
            _ => return None,
        });
    }
    Some(bytes)
}
