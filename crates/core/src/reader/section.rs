//! One table of a text: its keys, each asked for as what it should be.

use std::cell::RefCell;
use std::fmt::Display;
use std::ops::{Range, RangeInclusive};
use std::str::FromStr;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{NamedText, OneOrEach, Placed, Reader};
use crate::error::{Error, Place, TextPlace, suggest};
use crate::printable::printable_lines;

/// A table of the text. What is asked of it and is not there is `None`, without a problem unless its
/// method says so; a value of another type is a problem.
pub struct Section<'a> {
    reader: &'a Reader,
    table: &'a DeTable<'a>,
    span: Range<usize>,
    /// What it is, for messages: `[[line]] 'ADC_SCLK'`; empty at the top.
    what: String,
    asked: RefCell<Vec<&'static str>>,
}

type Value<'a> = Spanned<DeValue<'a>>;

/// The key of what is sent, or expected: a text that is kept as it is, control characters and all.
const PAYLOAD: &str = "text";

/// A name, or another text, that changes nothing but the place that it is shown in.
fn shown(text: &str) -> String {
    // Both ends of lines mean the same.
    printable_lines(&text.replace("\r\n", "\n")).into_owned()
}

impl<'a> Section<'a> {
    pub(super) fn new(reader: &'a Reader, table: &'a DeTable<'a>, span: Range<usize>, what: String) -> Self {
        Section { reader, table, span, what, asked: RefCell::default() }
    }

    fn find(&self, key: &str) -> Option<&'a Value<'a>> {
        self.table.iter().find(|(k, _)| k.get_ref().as_ref() == key).map(|(_, value)| value)
    }

    fn get(&self, key: &'static str) -> Option<&'a Value<'a>> {
        self.asked.borrow_mut().push(key);
        self.find(key)
    }

    fn placed<T>(&self, value: T, span: Range<usize>) -> Placed<T> {
        Placed { value, place: self.reader.place(span) }
    }

    /// Where the section stands.
    pub fn place(&self) -> TextPlace {
        self.reader.place(self.span.clone())
    }
}

/// Problems.
impl Section<'_> {
    /// A problem that was found elsewhere, and has its place.
    pub fn report(&self, error: Error) {
        self.reader.report(error);
    }

    /// A problem at a place.
    pub fn refuse(&self, place: &TextPlace, message: impl Into<String>, help: impl Into<String>) {
        let error = Error::new(self.reader.kind, message).with_help(help);
        self.reader.report(error.at(Place::Text(place.clone())));
    }

    /// A problem of the section as a whole.
    pub fn complain(&self, message: impl Into<String>, help: impl Into<String>) {
        self.refuse(&self.place(), message, help);
    }

    /// A key that must be there is not; `example` is a line that has it.
    pub fn missing(&self, key: &str, example: &str) {
        let whole = if self.what.is_empty() { "the file" } else { &self.what };
        self.complain(format!("{whole} has no '{key}'"), format!("add a line like: {example}"));
    }

    /// Whether a key is there, of whatever kind its value is.
    pub fn has(&self, key: &str) -> bool {
        self.find(key).is_some()
    }

    /// Reports a key that is not there.
    pub fn must_have(&self, key: &'static str, example: &str) {
        if self.find(key).is_none() {
            self.missing(key, example);
        }
    }

    /// Reports the keys that nobody asked for. To be called when all have been.
    pub fn finish(&self) {
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

    fn wrong(&self, value: &Value<'_>, key: &str, wanted: impl Display) {
        let found = describe(value.get_ref());
        self.reader.problem(value.span(), format!("'{key}' is {found}; it should be {wanted}"), None);
    }
}

/// Texts, and what is read from them.
impl<'a> Section<'a> {
    /// A text.
    pub fn text(&self, key: &'static str) -> Option<Placed<String>> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::String(text) if key == PAYLOAD => Some(self.placed(text.to_string(), value.span())),
            DeValue::String(text) => Some(self.placed(shown(text), value.span())),
            _ => {
                self.wrong(value, key, "a text in quotes");
                None
            }
        }
    }

    /// Whether a key has this very text.
    pub fn text_is(&self, key: &'static str, text: &str) -> bool {
        matches!(self.get(key).map(Spanned::get_ref), Some(DeValue::String(own)) if own == text)
    }

    /// A text that must be there.
    pub fn required(&self, key: &'static str, example: &str) -> Option<Placed<String>> {
        self.must_have(key, example);
        self.text(key)
    }

    /// A number with its unit, or another type that is read from a text.
    pub fn parsed<T: FromStr<Err = Error>>(&self, key: &'static str) -> Option<Placed<T>> {
        self.parse(self.get(key)?, key)
    }

    /// A list of what is read from a text each; the items that cannot be read are problems and left out.
    pub fn parsed_list<T: FromStr<Err = Error>>(&self, key: &'static str) -> Option<Vec<Placed<T>>> {
        let value = self.get(key)?;
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong(value, key, "a list: write it in [ ]");
            return None;
        };
        Some(items.iter().filter_map(|item| self.parse(item, key)).collect())
    }

    fn parse<T: FromStr<Err = Error>>(&self, value: &Value<'_>, key: &str) -> Option<Placed<T>> {
        let Some(text) = self.written(value) else {
            self.wrong(value, key, "a text in quotes, such as \"12.5 ns\"");
            return None;
        };
        match text.value.parse() {
            Ok(parsed) => Some(self.placed(parsed, value.span())),
            Err(error) => {
                let help = error.help().map(str::to_string);
                self.reader.problem(value.span(), error.message(), help.as_deref());
                None
            }
        }
    }

    /// A text, or a bare number as it stands: what reads it says which unit is missing.
    fn written(&self, value: &Value<'_>) -> Option<Placed<String>> {
        let text = match value.get_ref() {
            DeValue::String(text) => shown(text),
            DeValue::Integer(_) | DeValue::Float(_) => self.as_written(value).to_string(),
            _ => return None,
        };
        Some(self.placed(text, value.span()))
    }

    fn as_written(&self, value: &Value<'_>) -> &'a str {
        self.reader.text.get(value.span()).unwrap_or_default()
    }

    /// A list of texts, or one text alone.
    pub fn list(&self, key: &'static str) -> Option<Placed<Vec<Placed<String>>>> {
        let value = self.get(key)?;
        let items = match value.get_ref() {
            DeValue::String(text) => vec![self.placed(shown(text), value.span())],
            DeValue::Array(array) => {
                let mut items = Vec::new();
                for item in array {
                    match item.get_ref() {
                        DeValue::String(text) => items.push(self.placed(shown(text), item.span())),
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
    pub fn word<T: Copy>(&self, key: &'static str, words: &[(&str, T)]) -> Option<T> {
        self.choice(key, words, words.first().map(|(_, value)| *value))
    }

    /// One of several words, or something usual when none is given.
    pub fn choice<T: Copy>(&self, key: &'static str, words: &[(&str, T)], usual: Option<T>) -> Option<T> {
        let Some(text) = self.text(key) else { return usual };
        let found = words.iter().find(|(word, _)| *word == text.value).map(|(_, value)| *value);
        if found.is_none() {
            let known: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
            let message = format!("'{}' is none of the words for {key}", text.value);
            self.refuse(&text.place, message, format!("it is one of: {}", known.join(", ")));
        }
        found
    }

    /// A figure: one, or one for each of several conditions.
    pub fn figure(&self, key: &'static str) -> Option<OneOrEach> {
        let value = self.get(key)?;
        if let DeValue::Table(_) = value.get_ref() {
            return self.map(key).map(OneOrEach::Under);
        }
        let text = self.written(value);
        if text.is_none() {
            self.wrong(value, key, "a text in quotes, such as \"12.5 ns\"");
        }
        text.map(OneOrEach::Always)
    }

    /// A text, or a table of texts.
    pub fn text_or_map(&self, key: &'static str) -> Option<OneOrEach> {
        match self.get(key)?.get_ref() {
            DeValue::Table(_) => self.map(key).map(OneOrEach::Under),
            _ => self.text(key).map(OneOrEach::Always),
        }
    }

    /// A table with keys of the user's choice: each key with its value, a text or `false`.
    pub fn map(&self, key: &'static str) -> Option<Vec<NamedText>> {
        let value = self.get(key)?;
        let DeValue::Table(table) = value.get_ref() else {
            self.wrong(value, key, "a table of names");
            return None;
        };
        Some(self.entries(table))
    }

    /// The keys of a table, each with a text or `false`.
    fn entries(&self, table: &DeTable<'_>) -> Vec<NamedText> {
        let mut entries = Vec::new();
        for (name, value) in table {
            let name = self.placed(shown(name.get_ref()), name.span());
            match value.get_ref() {
                DeValue::String(text) => {
                    entries.push((name, self.placed(Some(shown(text)), value.span())));
                }
                DeValue::Boolean(false) => entries.push((name, self.placed(None, value.span()))),
                _ => self.wrong(value, &name.value, "a text in quotes"),
            }
        }
        entries.sort_by_key(|(name, _)| name.place.span.start);
        entries
    }

    /// A table of such tables, with keys of the user's choice, too.
    pub fn maps(&self, key: &'static str) -> Option<Vec<(Placed<String>, Vec<NamedText>)>> {
        let value = self.get(key)?;
        let DeValue::Table(table) = value.get_ref() else {
            self.wrong(value, key, "a table of tables");
            return None;
        };
        let mut all = Vec::new();
        for (name, value) in table {
            let name = self.placed(shown(name.get_ref()), name.span());
            match value.get_ref() {
                DeValue::Table(inner) => {
                    all.push((name, self.entries(inner)));
                }
                _ => self.wrong(value, &name.value, "a table: names of the values of a field"),
            }
        }
        all.sort_by_key(|(name, _)| name.place.span.start);
        Some(all)
    }
}

/// Numbers and flags.
impl Section<'_> {
    /// `true` or `false`.
    pub fn flag(&self, key: &'static str) -> Option<bool> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::Boolean(flag) => Some(*flag),
            _ => {
                self.wrong(value, key, "true or false");
                None
            }
        }
    }

    /// A whole number that is not negative, in any base.
    pub fn count(&self, key: &'static str) -> Option<Placed<u64>> {
        let value = self.get(key)?;
        let number = whole(value);
        if number.is_none() {
            self.wrong(value, key, "a whole number from 0 on, such as 0x51");
        }
        number.map(|number| self.placed(number, value.span()))
    }

    /// A whole number that must be there.
    pub fn required_count(&self, key: &'static str, example: &str) -> Option<Placed<u64>> {
        self.must_have(key, example);
        self.count(key)
    }

    /// A whole number of a range.
    pub fn within<T>(&self, key: &'static str, range: RangeInclusive<T>) -> Option<Placed<T>>
    where
        T: TryFrom<u64> + PartialOrd + Display,
    {
        self.number(self.get(key)?, key, &range)
    }

    /// A list of whole numbers of a range; the others are problems and left out.
    pub fn numbers<T>(&self, key: &'static str, range: RangeInclusive<T>) -> Option<Vec<T>>
    where
        T: TryFrom<u64> + PartialOrd + Display,
    {
        let value = self.get(key)?;
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong(value, key, "a list of numbers");
            return None;
        };
        Some(items.iter().filter_map(|item| Some(self.number(item, key, &range)?.value)).collect())
    }

    fn number<T>(&self, value: &Value<'_>, key: &str, range: &RangeInclusive<T>) -> Option<Placed<T>>
    where
        T: TryFrom<u64> + PartialOrd + Display,
    {
        let number = whole(value).and_then(|number| T::try_from(number).ok());
        let number = number.filter(|number| range.contains(number));
        if number.is_none() {
            let found = match value.get_ref() {
                DeValue::Integer(_) => self.as_written(value),
                other => describe(other),
            };
            let message = format!(
                "'{key}' is {found}; it should be a whole number from {} to {}",
                range.start(),
                range.end()
            );
            self.reader.problem(value.span(), message, None);
        }
        number.map(|number| self.placed(number, value.span()))
    }

    /// A whole number that is not negative, or a text.
    pub fn number_or_text(&self, key: &'static str) -> Option<Placed<Result<u32, String>>> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::Integer(_) => match whole(value).and_then(|number| u32::try_from(number).ok()) {
                Some(number) => Some(self.placed(Ok(number), value.span())),
                None => {
                    self.wrong(value, key, "a whole number from 0 on");
                    None
                }
            },
            DeValue::String(text) => Some(self.placed(Err(shown(text)), value.span())),
            _ => {
                self.wrong(value, key, "a number of an input, or the name of a signal in quotes");
                None
            }
        }
    }
}

/// Tables.
impl<'a> Section<'a> {
    /// A table.
    pub fn section(&self, key: &'static str) -> Option<Section<'a>> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::Table(table) => Some(Section::new(self.reader, table, value.span(), format!("[{key}]"))),
            _ => {
                self.wrong(value, key, format_args!("a table: write [{key}]"));
                None
            }
        }
    }

    /// A list of tables, each called by its `name_key` in messages.
    pub fn sections(&self, key: &'static str, name_key: &str) -> Vec<Section<'a>> {
        let Some(value) = self.get(key) else { return Vec::new() };
        let wanted = format!("a list of tables: write [[{key}]]");
        let DeValue::Array(array) = value.get_ref() else {
            self.wrong(value, key, wanted);
            return Vec::new();
        };
        let mut sections = Vec::new();
        for item in array {
            let DeValue::Table(table) = item.get_ref() else {
                self.wrong(item, key, &wanted);
                continue;
            };
            let mut section = Section::new(self.reader, table, item.span(), format!("[[{key}]]"));
            if let Some(DeValue::String(name)) = section.find(name_key).map(Spanned::get_ref) {
                section.what = format!("[[{key}]] '{name}'");
            }
            sections.push(section);
        }
        sections
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
fn whole(value: &Value<'_>) -> Option<u64> {
    match value.get_ref() {
        DeValue::Integer(number) => u64::from_str_radix(number.as_str(), number.radix()).ok(),
        _ => None,
    }
}
