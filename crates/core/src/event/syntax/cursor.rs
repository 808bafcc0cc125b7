//! Walking over the words of an expression: what comes next, names and numbers, and the failure that got
//! furthest.

use std::sync::Arc;

use super::lexer::{Token, tokens};
use super::tree::{Name, TextSpan, ValuePattern};
use crate::error::{Error, ErrorKind, Place, Result, TextPlace, nearest};
use crate::message::unescaped;
use crate::quantity::{Time, Voltage};

/// Words with a meaning of their own; a line called like one is written in quotes.
pub const KEYWORDS: [&str; 18] = [
    "rises", "falls", "changes", "while", "when", "for", "then", "no", "or", "and", "not", "high", "low",
    "has", "in", "within", "after", "times",
];

/// Deepest nesting of parentheses and `not`.
const DEEPEST: usize = 64;
/// Why an attempt failed: where, what to say, how to help.
#[derive(Clone, Debug)]
pub(super) struct Failure {
    pub(super) span: TextSpan,
    pub(super) message: String,
    pub(super) help: Option<String>,
}

pub(super) type Attempt<T> = Result<T, Failure>;

pub(super) struct Parser<'a> {
    text: &'a str,
    tokens: Vec<(Token, TextSpan)>,
    at: usize,
    depth: usize,
    /// The failure that got furthest among abandoned attempts.
    furthest: Option<Failure>,
}

impl<'a> Parser<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        Parser { text, tokens: tokens(text), at: 0, depth: 0, furthest: None }
    }

    pub(super) fn whole<T>(mut self, rule: impl FnOnce(&mut Self) -> Attempt<T>) -> Result<T> {
        let outcome = rule(&mut self).and_then(|tree| match self.peek() {
            Token::End => Ok(tree),
            _ => Err(self.unexpected("the end of the expression")),
        });
        outcome.map_err(|failure| {
            let failure = match self.furthest.take() {
                Some(other) if other.span.start > failure.span.start => other,
                _ => failure,
            };
            located(self.text, failure.span, failure.message, failure.help)
        })
    }

    pub(super) fn peek(&self) -> &Token {
        &self.tokens[self.at].0
    }

    pub(super) fn span(&self) -> TextSpan {
        self.tokens[self.at].1.clone()
    }

    pub(super) fn last_end(&self) -> usize {
        self.at.checked_sub(1).map_or(0, |i| self.tokens[i].1.end)
    }

    pub(super) fn advance(&mut self) -> Token {
        let token = self.tokens[self.at].0.clone();
        if self.at + 1 < self.tokens.len() {
            self.at += 1;
        }
        token
    }

    pub(super) fn is_word(&self, word: &str) -> bool {
        matches!(self.peek(), Token::Word(w) if w == word)
    }

    pub(super) fn take_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        if found {
            self.advance();
        }
        found
    }

    pub(super) fn take_sign(&mut self, sign: &str) -> bool {
        let found = matches!(self.peek(), Token::Sign(s) if *s == sign);
        if found {
            self.advance();
        }
        found
    }

    pub(super) fn fail<T>(
        &self,
        span: TextSpan,
        message: impl Into<String>,
        help: Option<String>,
    ) -> Attempt<T> {
        Err(Failure { span, message: message.into(), help })
    }

    pub(super) fn unexpected(&self, wanted: &str) -> Failure {
        let message = match self.peek() {
            Token::End => format!("the expression ends where {wanted} should follow"),
            Token::Bad(what) => format!("{what}; {wanted} was expected"),
            _ => format!("'{}' cannot follow here", &self.text[self.span()]),
        };
        let misspelt = match self.peek() {
            // 'through' is no reserved word: it only means something after 'rises' and 'falls'.
            Token::Word(word) if !KEYWORDS.contains(&word.as_str()) => nearest(
                word,
                KEYWORDS.into_iter().chain(["through", "floats", "driven", "floating", "at", "transfer"]),
            ),
            _ => None,
        };
        let help = match (misspelt, self.peek()) {
            (Some(keyword), _) => Some(format!("did you mean '{keyword}'?")),
            (None, Token::End) => None,
            _ => Some(format!("expected {wanted}")),
        };
        Failure { span: self.span(), message, help }
    }

    /// Runs a rule; on failure goes back and remembers how far it came.
    pub(super) fn attempt<T>(&mut self, rule: impl FnOnce(&mut Self) -> Attempt<T>) -> Option<T> {
        let (at, depth) = (self.at, self.depth);
        match rule(self) {
            Ok(tree) => Some(tree),
            Err(failure) => {
                (self.at, self.depth) = (at, depth);
                self.abandon(failure);
                None
            }
        }
    }

    pub(super) fn abandon(&mut self, failure: Failure) {
        let further = self.furthest.as_ref().is_none_or(|f| failure.span.start > f.span.start);
        if further {
            self.furthest = Some(failure);
        }
    }

    pub(super) fn nested<T>(&mut self, rule: impl FnOnce(&mut Self) -> Attempt<T>) -> Attempt<T> {
        if self.depth == DEEPEST {
            return self.fail(self.span(), format!("nested more than {DEEPEST} deep"), None);
        }
        self.depth += 1;
        let tree = rule(self);
        self.depth -= 1;
        tree
    }

    /// A number and its unit, joined or apart.
    pub(super) fn quantity<T: std::str::FromStr<Err = Error>>(&mut self, wanted: &str) -> Attempt<T> {
        let start = self.span().start;
        let Token::Number(_) = self.peek() else { return Err(self.unexpected(wanted)) };
        self.advance();
        if let Token::Word(unit) = self.peek()
            && !KEYWORDS.contains(&unit.as_str())
        {
            self.advance();
        }
        let span = start..self.last_end();
        self.text[span.clone()].parse().map_err(|error: Error| Failure {
            span,
            message: error.message().to_string(),
            help: error.help().map(str::to_string),
        })
    }

    pub(super) fn duration(&mut self) -> Attempt<Time> {
        let start = self.span().start;
        let time: Time = self.quantity("a time such as '20 ns'")?;
        if time < Time::ZERO {
            return self.fail(start..self.last_end(), "a duration is not negative", None);
        }
        Ok(time)
    }

    pub(super) fn voltage(&mut self) -> Attempt<Voltage> {
        self.quantity("a voltage such as '1.65 V'")
    }

    pub(super) fn name(&mut self, wanted: &str) -> Attempt<Name> {
        let span = self.span();
        match self.peek().clone() {
            Token::Word(word) if !KEYWORDS.contains(&word.as_str()) => {
                self.advance();
                Ok(Name { text: word, span })
            }
            Token::Quoted(text) if !text.is_empty() => {
                self.advance();
                Ok(Name { text, span })
            }
            Token::Word(word) => {
                let help = format!("'{word}' is a word of the language; write \"{word}\" to mean a line");
                self.fail(span, format!("'{word}' stands where {wanted} was expected"), Some(help))
            }
            _ => Err(self.unexpected(wanted)),
        }
    }

    pub(super) fn value(&mut self) -> Attempt<ValuePattern> {
        let span = self.span();
        match self.peek().clone() {
            Token::Number(number) => {
                self.advance();
                match pattern(&number.replace('_', "").to_lowercase()) {
                    Some((bits, open)) => Ok(ValuePattern { bits, open, name: None, span }),
                    None => self.fail(span, format!("'{number}' is not a value of at most 64 bits"), None),
                }
            }
            // A name, or the characters themselves, which ones is known with the bus.
            Token::Quoted(text) if !text.is_empty() => {
                self.advance();
                let bits = characters(&text).unwrap_or(0);
                Ok(ValuePattern { bits, open: 0, name: Some(text), span })
            }
            Token::Quoted(_) => self.fail(span, "a text value has 1 to 8 ASCII characters", None),
            Token::Word(word) if !KEYWORDS.contains(&word.as_str()) => {
                self.advance();
                Ok(ValuePattern { bits: 0, open: 0, name: Some(word), span })
            }
            _ => Err(self.unexpected("a value such as 12, 0x2A, 0b1x0, \"A\", or its name")),
        }
    }
}

/// The value that up to eight ASCII characters are.
pub(in crate::event) fn characters(text: &str) -> Option<u64> {
    let fits = text.is_ascii() && (1..=8).contains(&text.len());
    fits.then(|| text.bytes().fold(0, |bits, byte| bits << 8 | u64::from(byte)))
}

/// Most values in a row.
const LONGEST_ROW: usize = 4096;

impl Parser<'_> {
    /// The values in a row that stand in quotes: characters, or hexadecimal numbers with `x` for any digit.
    pub(super) fn row(&mut self, is_text: bool) -> Attempt<Vec<ValuePattern>> {
        let span = self.span();
        let Token::Quoted(quoted) = self.peek().clone() else {
            return Err(self.unexpected("what it is, in quotes, such as \"08 10 xx\""));
        };
        self.advance();
        let whole = |bits| ValuePattern { bits, open: 0, name: None, span: span.clone() };
        let row = match is_text {
            true => unescaped(&quoted).map(|bytes| bytes.into_iter().map(whole).collect::<Vec<_>>()),
            false => quoted
                .split([' ', ',', '\t'])
                .filter(|number| !number.is_empty())
                .map(|number| {
                    let number = number.to_lowercase();
                    // `0x` alone has an open digit.
                    let digits = number.strip_prefix("0x").filter(|digits| !digits.is_empty());
                    let digits = digits.unwrap_or(&number);
                    let (bits, open) = pattern(&format!("0x{digits}"))?;
                    Some(ValuePattern { bits, open, name: None, span: span.clone() })
                })
                .collect(),
        };
        match row {
            Some(row) if (1..=LONGEST_ROW).contains(&row.len()) => Ok(row),
            Some(row) if row.is_empty() => self.fail(span, "nothing is asked for", None),
            Some(_) => self.fail(span, format!("more than {LONGEST_ROW} values in a row"), None),
            None if is_text => {
                let help = "write \\r, \\n, \\t, \\\\ or \\x1b for what cannot be printed";
                self.fail(span, "a backslash begins nothing that is known", Some(help.into()))
            }
            None => {
                let help = "write hexadecimal numbers with spaces between, and x for any digit: \"08 10 xx\"";
                self.fail(span, "these are no bytes", Some(help.into()))
            }
        }
    }
}

/// The bits given and the bits left open of a number in any base; `None` beyond 64 bits.
fn pattern(text: &str) -> Option<(u64, u64)> {
    let (digits, per_digit) = match (text.strip_prefix("0x"), text.strip_prefix("0b")) {
        (Some(digits), _) => (digits, 4),
        (_, Some(digits)) => (digits, 1),
        _ => return text.parse().ok().map(|bits| (bits, 0)),
    };
    if digits.is_empty() || digits.len() * per_digit > 64 {
        return None;
    }
    let mut bits = 0u64;
    let mut open = 0u64;
    for digit in digits.chars() {
        (bits, open) = (bits << per_digit, open << per_digit);
        match digit {
            'x' => open |= (1 << per_digit) - 1,
            _ => bits |= u64::from(digit.to_digit(1 << per_digit)?),
        }
    }
    Some((bits, open))
}

/// An error at a place in an expression.
pub(in crate::event) fn located(text: &str, span: TextSpan, message: String, help: Option<String>) -> Error {
    let place = TextPlace { name: Arc::from(""), text: Arc::from(text), span };
    let error = Error::new(ErrorKind::Event, message).at(Place::Text(place));
    match help {
        Some(help) => error.with_help(help),
        None => error,
    }
}
