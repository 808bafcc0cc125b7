//! What is tried without any file: limits in a line of words, `width of WE_N low, min 35 ns`, and serial buses
//! in the setup's own, `kind = "spi", clock = "L3", …`.

use super::Setup;
use super::section::limit::{OwnLimit, resolve_limits};
use super::section::line::LineIds;
use super::section::serial::read_serial;
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Place, Result, TextPlace, suggest};
use crate::event::{Event, Scope};
use crate::limit::Kind;
use crate::line::LineId;
use crate::reader::Reader;

/// What may follow the events, each with a value.
const KEYS: [&str; 15] = [
    "min", "max", "typ", "setup", "hold", "while", "within", "unless", "answer", "symbol", "what", "level",
    "low", "high", "nominal",
];
/// What may stand between two events.
const BETWEEN: [&str; 6] = [" to ", " before ", " after ", " around ", " until ", " and "];

impl Setup {
    /// Adds limits that are said in a line of words each: the kind, `of` its event or events, then its other
    /// keys with their values as a limits file has them, separated by commas. Names are those of `scope`.
    ///
    /// ```
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::event::Scope;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::setup::Setup;
    /// use deep_tap_core::time::TimeBase;
    ///
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?;
    /// let strobe = Trace::toggling(Level::High, [40, 44], 100)?;
    /// let capture = Capture::builder(base, 100).line("WE_N", strobe).build()?;
    /// let mut setup = Setup::default();
    /// setup.try_limits(&["width of WE_N low, min 25 ns"], &Scope::of(&capture))?;
    /// assert_eq!(setup.limits().count(), 1);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// With the place in the words, for what is no limit, and for names that are not known.
    pub fn try_limits(&mut self, words: &[impl AsRef<str>], scope: &Scope) -> Result<()> {
        let read = words.iter().map(|words| read(words.as_ref())).collect::<Result<Vec<_>>>()?;
        let (limits, texts): (Vec<OwnLimit>, Vec<String>) = read.into_iter().unzip();
        let mut problems = Vec::new();
        let part = resolve_limits(&limits, scope, &mut problems);
        if let Some(error) = Error::many(problems) {
            let stands_in =
                |text: &String| matches!(error.place(), Some(Place::Text(at)) if *at.text == **text);
            let words = texts.iter().position(stands_in).map(|number| words[number].as_ref());
            return Err(words.and_then(|words| found_in(&error, words)).unwrap_or(error));
        }
        self.parts.extend(part);
        Ok(())
    }
}

/// What a bus is called that says no name.
const TRIED: &str = "tried";

impl Setup {
    /// Adds a serial bus that is said in the words of a `[[bus]]` section, separated by commas, on lines of a
    /// capture; it is called `tried` where it says no name, and takes the place of another of its name. Its name.
    ///
    /// ```
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::setup::Setup;
    /// use deep_tap_core::time::TimeBase;
    ///
    /// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
    /// let capture = Capture::builder(base, 100).line("L3", Trace::toggling(Level::High, [], 100)?).build()?;
    /// let mut setup = Setup::default();
    /// let name = setup.try_bus("kind = \"uart\", line = \"L3\", bit-rate = \"9600 Hz\"", &capture)?;
    /// assert_eq!((name.as_str(), setup.serial.len()), ("tried", 1));
    /// let error = setup.try_bus("kind = \"uart\", line = \"L4\"", &capture).unwrap_err();
    /// assert!(error.to_string().contains("bit-rate"), "{error}");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// With the place in the words, for what is no bus, and for lines that the capture does not have.
    pub fn try_bus(&mut self, words: &str, capture: &Capture) -> Result<String> {
        let named = words.split(',').any(|word| {
            let key = word.split('=').next().unwrap_or("").trim();
            key == "name"
        });
        let head = if named { "bus = [{ ".to_string() } else { format!("bus = [{{ name = \"{TRIED}\", ") };
        let text = format!("{head}{words} }}]");
        let lines = capture.lines().iter().enumerate();
        let known = LineIds::of(lines.map(|(number, line)| (line.name.as_str(), LineId(number))));
        let reader = Reader::new("", &text, ErrorKind::Setup);
        let draft = reader.read(|top| {
            let sections = top.sections("bus", "name");
            let section = sections.first()?;
            let kind = section.required("kind", "kind = \"spi\"");
            let draft = kind.and_then(|kind| read_serial(section, &kind));
            section.finish();
            draft
        });
        let mut problems = reader.into_problems();
        let bus =
            draft.filter(|_| problems.is_empty()).and_then(|bus| bus.resolve(&known, &[], &mut problems));
        match (Error::many(problems), bus) {
            (None, Some(bus)) => {
                let name = bus.name().to_string();
                self.serial.retain(|other| other.name() != name);
                self.serial.push(bus);
                Ok(name)
            }
            (Some(error), _) => Err(in_words(&error, words, head.len())),
            (None, None) => {
                Err(wrong(words, 0..words.len(), "this is no bus", "write it as in a [[bus]] section"))
            }
        }
    }
}

/// An error in words that stand in a text behind so many bytes, at its place in the words.
fn in_words(error: &Error, words: &str, head: usize) -> Error {
    let span = match error.place() {
        Some(Place::Text(at)) => at.span.start.saturating_sub(head)..at.span.end.saturating_sub(head),
        _ => 0..words.len(),
    };
    let inside = span.start < span.end && span.end <= words.len() && words.is_char_boundary(span.start);
    let span = if inside && words.is_char_boundary(span.end) { span } else { 0..words.len() };
    wrong(words, span, error.message(), error.help().unwrap_or(""))
}

/// The limit that words say, and the section that they were made into.
fn read(words: &str) -> Result<(OwnLimit, String)> {
    let text = section_of(words)?;
    let reader = Reader::new("", &text, ErrorKind::Limits);
    let limit = reader.read(|top| {
        let sections = top.sections("limit", "symbol");
        let read = sections.first().and_then(OwnLimit::read);
        sections.iter().for_each(crate::reader::Section::finish);
        read
    });
    match (Error::many(reader.into_problems()), limit) {
        (None, Some(limit)) => Ok((limit, text)),
        (Some(error), _) => Err(found_in(&error, words).unwrap_or(error)),
        (None, None) => Err(wrong(
            words,
            0..words.len(),
            "this is not a limit",
            "write it like: width of WE_N low, min 35 ns",
        )),
    }
}

/// The same error at its place in the words, if what it is about stands there.
fn found_in(error: &Error, words: &str) -> Option<Error> {
    let at = match error.place() {
        Some(Place::Text(at)) => at.text.get(at.span.clone())?.trim_matches('"'),
        _ => "",
    };
    let at = if at.contains('\n') { "" } else { at };
    // As a word of its own.
    let inside = |c: Option<char>| c.is_some_and(|c| c.is_alphanumeric() || c == '_' || c == '.');
    let whole = |start: &usize| {
        let (before, after) = (words[..*start].chars().next_back(), words[start + at.len()..].chars().next());
        !inside(before) && !inside(after)
    };
    let start = words.match_indices(at).map(|(start, _)| start).find(whole).or(words.find(at))?;
    let moved = wrong(
        words,
        start..start + at.len().max(1).min(words.len()),
        error.message(),
        error.help().unwrap_or(""),
    );
    Some(moved)
}

fn wrong(words: &str, span: std::ops::Range<usize>, message: impl Into<String>, help: &str) -> Error {
    let place = TextPlace { name: "".into(), text: words.into(), span };
    let error = Error::new(ErrorKind::Limits, message).at(Place::Text(place));
    if help.is_empty() { error } else { error.with_help(help) }
}

/// The words as a section of a setup.
fn section_of(words: &str) -> Result<String> {
    let trimmed = words.trim();
    let (name, rest) = trimmed.split_once(char::is_whitespace).unwrap_or((trimmed, ""));
    let kind: Kind = name.parse().map_err(|_| {
        let kinds = Kind::ALL.iter().map(|(_, name)| *name);
        let help =
            format!("{}; such as: width of WE_N low, min 35 ns", suggest(name, kinds, "kind of limit"));
        wrong(words, 0..name.len().max(1), format!("'{name}' is not a kind of limit"), &help)
    })?;
    let mut clauses = clauses(rest);
    let head = clauses.remove(0);
    let head =
        ["of ", "from ", "between "].iter().find_map(|of| head.strip_prefix(of)).unwrap_or(head).trim();
    let mut text = format!("[[limit]]\nkind = {:?}\n", kind.name());
    let mut put = |key: &str, value: &str| text.push_str(&format!("{key} = {value:?}\n"));
    let keys = match kind {
        Kind::Setup | Kind::Hold | Kind::Window => ["data", "reference"],
        Kind::Recovery | Kind::Removal => ["control", "reference"],
        Kind::Delay | Kind::Skew => ["from", "to"],
        Kind::Settle => ["data", "from"],
        Kind::Stable => ["data", "while"],
        Kind::Width | Kind::Duty => ["pulse", ""],
        Kind::Period => ["event", ""],
        Kind::RiseTime | Kind::FallTime | Kind::Level => ["line", ""],
        Kind::Rate => ["bus", ""],
    };
    match (kind, keys) {
        (_, [key, ""]) => put(key, head),
        (Kind::Stable, [first, second]) => match head.split_once(" while ") {
            Some((data, condition)) => {
                put(first, data.trim());
                put(second, condition.trim());
            }
            None => put(first, head),
        },
        (_, [first, second]) => {
            let (a, b) = pair(head).ok_or_else(|| {
                let message = format!("a limit of kind {} is about two events", kind.name());
                let help = format!("write it like: {} of DQ to WE_N rises, min 5 ns", kind.name());
                wrong(words, 0..words.len(), message, &help)
            })?;
            put(first, a);
            put(second, b);
        }
    }
    for clause in clauses {
        let (key, value) = clause.split_once([' ', '=']).unwrap_or((clause, ""));
        put(key, value.trim_start_matches('=').trim());
    }
    Ok(text)
}

/// The parts between commas, each but the first of which begins with a key.
fn clauses(text: &str) -> Vec<&str> {
    let mut clauses = Vec::new();
    let mut start = 0;
    for (comma, _) in text.match_indices(',') {
        let next = text[comma + 1..].trim_start();
        let key = next.split([' ', '=']).next().unwrap_or("");
        if KEYS.contains(&key) {
            clauses.push(text[start..comma].trim());
            start = comma + 1;
        }
    }
    clauses.push(text[start..].trim());
    clauses
}

/// Two events, wherever the words between them stand.
fn pair(text: &str) -> Option<(&str, &str)> {
    let places = BETWEEN.iter().flat_map(|word| text.match_indices(word));
    let mut pairs: Vec<(usize, &str)> = places.collect();
    pairs.sort_unstable();
    let split = pairs.into_iter().map(|(at, word)| (text[..at].trim(), text[at + word.len()..].trim()));
    split.into_iter().find(|(a, b)| Event::parse(a).is_ok() && Event::parse(b).is_ok())
}
