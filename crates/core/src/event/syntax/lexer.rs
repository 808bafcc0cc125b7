//! Words, numbers and signs of the event language.

use super::tree::TextSpan;
use crate::quantity::exponent_len;

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Token {
    /// A name or keyword.
    Word(String),
    /// A text in double quotes: a name or a value.
    Quoted(String),
    /// A number without its unit.
    Number(String),
    /// An operator or bracket.
    Sign(&'static str),
    /// A character that belongs to nothing, or a quote that is not closed.
    Bad(&'static str),
    End,
}

const SIGNS: [&str; 13] = ["==", "!=", "<=", ">=", "..", "<", ">", "(", ")", "[", "]", ",", "%"];

/// Splits an expression into tokens with their places; the last one is [`Token::End`].
pub(super) fn tokens(text: &str) -> Vec<(Token, TextSpan)> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(first) = text[at..].chars().next() {
        let rest = &text[at..];
        if first.is_whitespace() {
            at += first.len_utf8();
            continue;
        }
        let (token, len) = if first == '"' {
            match rest[1..].find('"') {
                Some(end) => (Token::Quoted(rest[1..=end].to_string()), end + 2),
                None => (Token::Bad("a quote that is not closed"), rest.len()),
            }
        } else if let Some(sign) = SIGNS.iter().find(|s| rest.starts_with(**s)) {
            (Token::Sign(sign), sign.len())
        } else if first.is_ascii_digit()
            || (first == '-' && rest[1..].starts_with(|c: char| c.is_ascii_digit()))
        {
            let len = number_len(rest);
            (Token::Number(rest[..len].to_string()), len)
        } else if is_word_start(first) {
            let len = word_len(rest);
            (Token::Word(rest[..len].to_string()), len)
        } else {
            (Token::Bad("a character that means nothing here"), first.len_utf8())
        };
        tokens.push((token, at..at + len));
        at += len;
    }
    tokens.push((Token::End, text.len()..text.len()));
    tokens
}

pub(super) fn is_word_start(c: char) -> bool {
    c.is_alphabetic() || c == '_'
}

fn number_len(text: &str) -> usize {
    if text.starts_with("0x") || text.starts_with("0b") {
        let digits = text[2..].find(|c: char| !(c.is_ascii_hexdigit() || "xX_".contains(c)));
        return digits.map_or(text.len(), |n| n + 2);
    }
    let mut previous = ' ';
    for (i, c) in text.char_indices() {
        let range = c == '.' && text[i..].starts_with("..");
        let point = c == '.' && !range && previous.is_ascii_digit();
        if !(c.is_ascii_digit() || c == '_' || point || (i == 0 && c == '-')) {
            return i + exponent_len(&text[i..]);
        }
        previous = c;
    }
    text.len()
}

/// Names may hold `-` and `.` between letters or digits, as in `conversion-done` or `top.clk`.
fn word_len(text: &str) -> usize {
    let mut chars = text.char_indices().peekable();
    while let Some((i, c)) = chars.next() {
        let joins =
            matches!(c, '-' | '.') && chars.peek().is_some_and(|(_, n)| n.is_alphanumeric() || *n == '_');
        if !(c.is_alphanumeric() || c == '_' || joins) {
            return i;
        }
    }
    text.len()
}
