//! Reading a TOML text so that every problem in it is reported at once, at its place.

use std::cell::RefCell;
use std::ops::Range;
use std::str::FromStr;
use std::sync::Arc;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::error::{Error, ErrorKind, Place, TextPlace, suggest};

/// One text being read, and the problems found in it.
pub(super) struct Reader {
    pub(super) name: Arc<str>,
    pub(super) text: Arc<str>,
    kind: ErrorKind,
    problems: RefCell<Vec<Error>>,
}

/// A text as written: one for all cases, or one for each of several.
#[derive(Clone, Debug)]
pub(super) enum OneOrEach {
    Always(Placed<String>),
    Under(Vec<NamedText>),
}

/// A name of the user's choice with its text, or with `false`.
pub(super) type NamedText = (Placed<String>, Placed<Option<String>>);

/// A value with its place.
#[derive(Clone, Debug)]
pub(super) struct Placed<T> {
    pub(super) value: T,
    pub(super) place: TextPlace,
}

impl Reader {
    pub(super) fn new(name: &str, text: &str, kind: ErrorKind) -> Self {
        Reader { name: name.into(), text: text.into(), kind, problems: RefCell::default() }
    }

    /// Parses the text and hands its top level to `read`.
    pub(super) fn read<T>(&self, read: impl FnOnce(&Section<'_>) -> T) -> T {
        let (table, errors) = DeTable::parse_recoverable(&self.text);
        for error in errors {
            let span = error.span().unwrap_or(0..0);
            self.problem(
                span,
                error.message().trim(),
                Some("this is not TOML as its version 1.1 defines it"),
            );
        }
        let empty = DeTable::new();
        // After a syntax error the rest would only be misunderstood.
        let slips = self.problems.borrow().len();
        let broken = slips > 0;
        let table = if broken { &empty } else { table.get_ref() };
        let section = Section::new(self, table, 0..0, String::new());
        let result = read(&section);
        match broken {
            true => self.problems.borrow_mut().truncate(slips),
            false => section.finish(),
        }
        result
    }

    pub(super) fn into_problems(self) -> Vec<Error> {
        self.problems.into_inner()
    }

    pub(super) fn place(&self, span: Range<usize>) -> TextPlace {
        TextPlace { name: Arc::clone(&self.name), text: Arc::clone(&self.text), span }
    }

    fn problem(&self, span: Range<usize>, message: impl Into<String>, help: Option<&str>) {
        let error = Error::new(self.kind, message).at(Place::Text(self.place(span)));
        self.report(match help {
            Some(help) => error.with_help(help),
            None => error,
        });
    }

    pub(super) fn report(&self, error: Error) {
        self.problems.borrow_mut().push(error);
    }
}

/// A table of the text. Keys that nobody asks for are reported by [`finish`](Section::finish).
pub(super) struct Section<'a> {
    pub(super) reader: &'a Reader,
    table: &'a DeTable<'a>,
    span: Range<usize>,
    /// What it is, for messages: `[[line]] 'ADC_SCLK'`; empty at the top.
    what: String,
    asked: RefCell<Vec<&'static str>>,
}

impl<'a> Section<'a> {
    fn new(reader: &'a Reader, table: &'a DeTable<'a>, span: Range<usize>, what: String) -> Self {
        Section { reader, table, span, what, asked: RefCell::default() }
    }

    fn get(&self, key: &'static str) -> Option<&'a Spanned<DeValue<'a>>> {
        self.asked.borrow_mut().push(key);
        self.table.iter().find(|(k, _)| k.get_ref().as_ref() == key).map(|(_, value)| value)
    }

    pub(super) fn place(&self) -> TextPlace {
        self.reader.place(self.span.clone())
    }

    pub(super) fn missing(&self, key: &str, example: &str) {
        let whole = if self.what.is_empty() { "the file".to_string() } else { self.what.clone() };
        self.reader.problem(
            self.span.clone(),
            format!("{whole} has no '{key}'"),
            Some(&format!("add a line like: {example}")),
        );
    }

    fn wrong(&self, value: &Spanned<DeValue<'_>>, key: &str, wanted: &str) {
        let found = describe(value.get_ref());
        self.reader.problem(value.span(), format!("'{key}' is {found}; it should be {wanted}"), None);
    }

    /// A text.
    pub(super) fn text(&self, key: &'static str) -> Option<Placed<String>> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::String(text) => Some(self.placed(text.to_string(), value.span())),
            _ => {
                self.wrong(value, key, "a text in quotes");
                None
            }
        }
    }

    /// Whether a key has this very text.
    pub(super) fn text_is(&self, key: &'static str, text: &str) -> bool {
        matches!(self.get(key).map(Spanned::get_ref), Some(DeValue::String(own)) if own == text)
    }

    /// A text that must be there.
    pub(super) fn required(&self, key: &'static str, example: &str) -> Option<Placed<String>> {
        self.must_be_there(key, example);
        self.text(key)
    }

    fn must_be_there(&self, key: &'static str, example: &str) {
        if self.table.iter().all(|(k, _)| k.get_ref().as_ref() != key) {
            self.missing(key, example);
        }
    }

    /// A whole number that must be there.
    pub(super) fn required_count(&self, key: &'static str, example: &str) -> Option<Placed<u64>> {
        self.must_be_there(key, example);
        self.count(key)
    }

    /// A number with its unit, or another type that is read from a text.
    pub(super) fn parsed<T: FromStr<Err = Error>>(&self, key: &'static str) -> Option<Placed<T>> {
        let value = self.get(key)?;
        let text = match value.get_ref() {
            DeValue::String(text) => text.to_string(),
            // A bare number is read as it stands: the type says which unit is missing.
            DeValue::Integer(number) => number.as_str().to_string(),
            DeValue::Float(number) => number.as_str().to_string(),
            _ => {
                self.wrong(value, key, "a text in quotes, such as \"12.5 ns\"");
                return None;
            }
        };
        match text.parse() {
            Ok(parsed) => Some(self.placed(parsed, value.span())),
            Err(error) => {
                let help = error.help().map(str::to_string);
                self.reader.problem(value.span(), error.message(), help.as_deref());
                None
            }
        }
    }

    /// A whole number that is not negative, or a text.
    pub(super) fn number_or_text(&self, key: &'static str) -> Option<Placed<Result<u32, String>>> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::Integer(_) => match whole(value).and_then(|number| u32::try_from(number).ok()) {
                Some(number) => Some(self.placed(Ok(number), value.span())),
                None => {
                    self.wrong(value, key, "a whole number from 0 on");
                    None
                }
            },
            DeValue::String(text) => Some(self.placed(Err(text.to_string()), value.span())),
            _ => {
                self.wrong(value, key, "a number of an input, or the name of a signal in quotes");
                None
            }
        }
    }

    /// `true` or `false`.
    pub(super) fn flag(&self, key: &'static str) -> Option<bool> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::Boolean(flag) => Some(*flag),
            _ => {
                self.wrong(value, key, "true or false");
                None
            }
        }
    }

    /// A list of texts, or one text alone.
    pub(super) fn list(&self, key: &'static str) -> Option<Placed<Vec<Placed<String>>>> {
        let value = self.get(key)?;
        let items = match value.get_ref() {
            DeValue::String(text) => vec![self.placed(text.to_string(), value.span())],
            DeValue::Array(array) => {
                let mut items = Vec::new();
                for item in array {
                    match item.get_ref() {
                        DeValue::String(text) => items.push(self.placed(text.to_string(), item.span())),
                        _ => self.wrong(item, key, "a list of texts in quotes"),
                    }
                }
                items
            }
            _ => {
                self.wrong(value, key, "a list of texts in quotes");
                return None;
            }
        };
        Some(self.placed(items, value.span()))
    }

    /// One of several words, or the first of them when none is given.
    pub(super) fn word<T: Copy>(&self, key: &'static str, words: &[(&str, T)]) -> Option<T> {
        self.choice(key, words, words.first().map(|(_, value)| *value))
    }

    /// One of several words, or something usual when none is given.
    pub(super) fn choice<T: Copy>(
        &self,
        key: &'static str,
        words: &[(&str, T)],
        usual: Option<T>,
    ) -> Option<T> {
        let Some(text) = self.text(key) else { return usual };
        let found = words.iter().find(|(word, _)| *word == text.value).map(|(_, value)| *value);
        if found.is_none() {
            let known: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
            let message = format!("'{}' is none of the words for {key}", text.value);
            let error = Error::new(ErrorKind::Setup, message);
            let error = error.with_help(format!("it is one of: {}", known.join(", ")));
            self.reader.report(error.at(Place::Text(text.place)));
        }
        found
    }

    /// A problem of the section as a whole.
    pub(super) fn complain(&self, message: impl Into<String>, help: &str) {
        let error = Error::new(ErrorKind::Setup, message).with_help(help);
        self.reader.report(error.at(Place::Text(self.place())));
    }

    /// A whole number that is not negative, in any base.
    pub(super) fn count(&self, key: &'static str) -> Option<Placed<u64>> {
        let value = self.get(key)?;
        let number = whole(value);
        if number.is_none() {
            self.wrong(value, key, "a whole number from 0 on, such as 0x51");
        }
        number.map(|number| self.placed(number, value.span()))
    }

    /// A list of whole numbers that are not negative.
    pub(super) fn numbers(&self, key: &'static str) -> Option<Vec<u32>> {
        let value = self.get(key)?;
        let number = |item: &Spanned<DeValue<'_>>| u32::try_from(whole(item)?).ok();
        let DeValue::Array(array) = value.get_ref() else {
            self.wrong(value, key, "a list of numbers");
            return None;
        };
        let numbers: Option<Vec<u32>> = array.iter().map(number).collect();
        if numbers.is_none() {
            self.wrong(value, key, "a list of whole numbers from 0 on");
        }
        numbers
    }

    /// A figure: one, or one for each of several conditions.
    pub(super) fn figure(&self, key: &'static str) -> Option<OneOrEach> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::String(text) => Some(OneOrEach::Always(self.placed(text.to_string(), value.span()))),
            // A bare number is read as it stands: what asks for it says which unit is missing.
            DeValue::Integer(number) => {
                Some(OneOrEach::Always(self.placed(number.as_str().to_string(), value.span())))
            }
            DeValue::Float(number) => {
                Some(OneOrEach::Always(self.placed(number.as_str().to_string(), value.span())))
            }
            DeValue::Table(_) => self.map(key).map(OneOrEach::Under),
            _ => {
                self.wrong(value, key, "a text in quotes, such as \"12.5 ns\"");
                None
            }
        }
    }

    /// A text, or a table of texts.
    pub(super) fn text_or_map(&self, key: &'static str) -> Option<OneOrEach> {
        match self.get(key)?.get_ref() {
            DeValue::Table(_) => self.map(key).map(OneOrEach::Under),
            _ => self.text(key).map(OneOrEach::Always),
        }
    }

    /// A table with keys of the user's choice: each key with its value, a text or `false`.
    pub(super) fn map(&self, key: &'static str) -> Option<Vec<NamedText>> {
        let value = self.get(key)?;
        let DeValue::Table(table) = value.get_ref() else {
            self.wrong(value, key, "a table of names");
            return None;
        };
        let mut entries = Vec::new();
        for (name, value) in table {
            let name = self.placed(name.get_ref().to_string(), name.span());
            match value.get_ref() {
                DeValue::String(text) => {
                    entries.push((name, self.placed(Some(text.to_string()), value.span())));
                }
                DeValue::Boolean(false) => entries.push((name, self.placed(None, value.span()))),
                _ => self.wrong(value, &name.value, "a text in quotes"),
            }
        }
        entries.sort_by_key(|(name, _)| name.place.span.start);
        Some(entries)
    }

    /// A table.
    pub(super) fn section(&self, key: &'static str) -> Option<Section<'a>> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::Table(table) => Some(Section::new(self.reader, table, value.span(), format!("[{key}]"))),
            _ => {
                self.wrong(value, key, &format!("a table: write [{key}]"));
                None
            }
        }
    }

    /// A list of tables, each called by its `name_key` in messages.
    pub(super) fn sections(&self, key: &'static str, name_key: &str) -> Vec<Section<'a>> {
        let Some(value) = self.get(key) else { return Vec::new() };
        let DeValue::Array(array) = value.get_ref() else {
            self.wrong(value, key, &format!("a list of tables: write [[{key}]]"));
            return Vec::new();
        };
        let mut sections = Vec::new();
        for item in array {
            let DeValue::Table(table) = item.get_ref() else {
                self.wrong(item, key, &format!("a list of tables: write [[{key}]]"));
                continue;
            };
            let name = table.iter().find(|(k, _)| k.get_ref().as_ref() == name_key).map(|(_, v)| v.get_ref());
            let what = match name {
                Some(DeValue::String(name)) => format!("[[{key}]] '{name}'"),
                _ => format!("[[{key}]]"),
            };
            sections.push(Section::new(self.reader, table, item.span(), what));
        }
        sections
    }

    /// Reports the keys that nobody asked for.
    pub(super) fn finish(&self) {
        let asked = self.asked.borrow();
        for (key, _) in self.table {
            let name = key.get_ref().as_ref();
            if !asked.contains(&name) {
                let place = if self.what.is_empty() { String::new() } else { format!(" in {}", self.what) };
                let help = suggest(name, asked.iter().copied(), "key");
                self.reader.problem(key.span(), format!("there is no key '{name}'{place}"), Some(&help));
            }
        }
    }

    fn placed<T>(&self, value: T, span: Range<usize>) -> Placed<T> {
        Placed { value, place: self.reader.place(span) }
    }
}

fn describe(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) | DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

/// A whole number that is not negative, in whatever base it is written.
fn whole(value: &Spanned<DeValue<'_>>) -> Option<u64> {
    match value.get_ref() {
        DeValue::Integer(number) => u64::from_str_radix(number.as_str(), number.radix()).ok(),
        _ => None,
    }
}

/// Moves an error about an expression to the file that the expression stands in.
pub(super) fn moved(error: Error, kind: ErrorKind, value: &TextPlace) -> Error {
    let mut span = value.span.clone();
    if let Some(Place::Text(inner)) = error.place() {
        // In a plain string, the expression's columns are the file's, shifted by the quote.
        let (start, end) = (span.start + 1, span.end.saturating_sub(1));
        if value.text.get(start..end) == Some(&*inner.text) {
            span = start + inner.span.start..start + inner.span.end;
        }
    }
    let moved = Error::new(kind, error.message()).at(Place::Text(TextPlace { span, ..value.clone() }));
    match error.help() {
        Some(help) => moved.with_help(help),
        None => moved,
    }
}
