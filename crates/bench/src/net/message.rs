//! Program messages as IEEE 488.2 has them: units joined by semicolons, each a header and its
//! parameters; and the errors of SCPI-1999.

use std::borrow::Cow;

use deep_tap_core::quantity::Rational;

/// An error of SCPI-1999, volume 2, chapter 21: number, standard words, and what happened here.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ScpiError {
    pub(crate) number: i32,
    pub(crate) detail: String,
}

impl ScpiError {
    pub(crate) fn new(number: i32, detail: impl Into<String>) -> Self {
        ScpiError { number, detail: detail.into() }
    }

    /// The standard's words for a number.
    fn words(number: i32) -> &'static str {
        match number {
            0 => "No error",
            -102 => "Syntax error",
            -104 => "Data type error",
            -108 => "Parameter not allowed",
            -109 => "Missing parameter",
            -113 => "Undefined header",
            -114 => "Header suffix out of range",
            -131 => "Invalid suffix",
            -200 => "Execution error",
            -203 => "Command protected",
            -211 => "Trigger ignored",
            -213 => "Init ignored",
            -221 => "Settings conflict",
            -222 => "Data out of range",
            -224 => "Illegal parameter value",
            -230 => "Data corrupt or stale",
            -350 => "Queue overflow",
            -363 => "Input buffer overrun",
            _ => "Device-specific error",
        }
    }

    /// The bit of the event status register that it sets (IEEE 488.2, 11.5.1).
    pub(crate) fn event_bit(&self) -> u8 {
        match -self.number {
            100..=199 => 1 << 5,
            200..=299 => 1 << 4,
            400..=499 => 1 << 2,
            _ => 1 << 3,
        }
    }
}

impl std::fmt::Display for ScpiError {
    /// As `SYSTem:ERRor?` answers.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let words = Self::words(self.number);
        match self.detail.is_empty() {
            true => write!(f, "{},\"{words}\"", self.number),
            false => write!(f, "{},{}", self.number, quoted(&format!("{words};{}", self.detail))),
        }
    }
}

/// A text as string response data: quotes doubled, and one line.
pub(crate) fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('"', "\"\"").replace(['\n', '\r'], " / "))
}

/// One unit of a program message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Unit<'a> {
    /// The mnemonics of the header from the root on, upper case, without suffixes; one that begins
    /// with `*` for a common command.
    pub(crate) path: Vec<String>,
    /// The numeric suffixes of the mnemonics.
    pub(crate) suffixes: Vec<u32>,
    pub(crate) query: bool,
    pub(crate) parameters: Vec<Cow<'a, str>>,
}

/// The parts of a text between separators, strings in quotes and lists in brackets left whole.
pub(crate) fn split(text: &str, separator: char) -> Vec<&str> {
    let (mut parts, mut start, mut quote, mut depth) = (Vec::new(), 0, None, 0u32);
    for (at, c) in text.char_indices() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(c),
            (None, '(') => depth += 1,
            (None, ')') => depth = depth.saturating_sub(1),
            // A list that is not closed ends with its unit at the latest.
            (None, c) if c == separator && (depth == 0 || c == ';') => {
                depth = 0;
                parts.push(&text[start..at]);
                start = at + c.len_utf8();
            }
            _ => {}
        }
    }
    parts.push(&text[start..]);
    parts
}

/// Reads the units of a message. A header without a leading colon continues where the one before
/// left off, as SCPI-1999, volume 1, 6.2.4 has it.
pub(crate) fn units(message: &str) -> Vec<Result<Unit<'_>, ScpiError>> {
    let mut here: Vec<(String, u32)> = Vec::new();
    let parts = split(message, ';').into_iter().map(str::trim).filter(|part| !part.is_empty());
    parts.map(|part| unit(part, &mut here)).collect()
}

fn unit<'a>(text: &'a str, here: &mut Vec<(String, u32)>) -> Result<Unit<'a>, ScpiError> {
    let (header, rest) = text.split_once(|c: char| c.is_ascii_whitespace()).unwrap_or((text, ""));
    let (header, query) = header.strip_suffix('?').map_or((header, false), |header| (header, true));
    let bad = || ScpiError::new(-102, format!("in '{}'", short(text)));
    let mut parameters: Vec<Cow<'a, str>> = Vec::new();
    if !rest.trim().is_empty() {
        for parameter in split(rest, ',') {
            let parameter = parameter.trim();
            if parameter.is_empty() {
                return Err(bad());
            }
            parameters.push(Cow::Borrowed(parameter));
        }
    }
    if let Some(common) = header.strip_prefix('*') {
        let word = common.to_ascii_uppercase();
        if word.is_empty() || !word.chars().all(|c| c.is_ascii_uppercase()) {
            return Err(bad());
        }
        return Ok(Unit { path: vec![format!("*{word}")], suffixes: vec![0], query, parameters });
    }
    let mut path: Vec<(String, u32)> = Vec::new();
    let own = match header.strip_prefix(':') {
        Some(own) => own,
        None => {
            path.clone_from(here);
            header
        }
    };
    for mnemonic in own.split(':') {
        let digits = mnemonic.len() - mnemonic.trim_end_matches(|c: char| c.is_ascii_digit()).len();
        let (word, number) = mnemonic.split_at(mnemonic.len() - digits);
        if word.is_empty() || !word.chars().all(|c| c.is_ascii_alphabetic() || c == '_') || word.len() > 12 {
            return Err(bad());
        }
        let number = if number.is_empty() { Ok(0) } else { number.parse() };
        path.push((word.to_ascii_uppercase(), number.map_err(|_| ScpiError::new(-114, ""))?));
    }
    here.clone_from(&path);
    here.pop();
    let (path, suffixes) = path.into_iter().unzip();
    Ok(Unit { path, suffixes, query, parameters })
}

/// A text short enough to be quoted in a message.
pub(crate) fn short(text: &str) -> String {
    let clean: String = text.chars().map(|c| if c.is_control() { '.' } else { c }).collect();
    if clean.chars().count() > 40 {
        format!("{}…", clean.chars().take(40).collect::<String>())
    } else {
        clean
    }
}

/// Whether a mnemonic is the long or the short form of a keyword, whose capitals are its short form.
pub(crate) fn matches(mnemonic: &str, keyword: &str) -> bool {
    let short: String = keyword.chars().filter(|c| !c.is_ascii_lowercase()).collect();
    mnemonic == short || mnemonic.eq_ignore_ascii_case(keyword)
}

/// A decimal number with an optional suffix from a table of units and their powers of ten, exact.
pub(crate) fn number(text: &str, units: &[(&str, i32)]) -> Result<Rational, ScpiError> {
    let text = text.trim().to_ascii_uppercase();
    let end = text.find(|c: char| !(c.is_ascii_digit() || "+-.E".contains(c))).unwrap_or(text.len());
    let (digits, unit) = text.split_at(end);
    let unit = unit.trim();
    let bad = || ScpiError::new(-104, format!("'{}' is not a number", short(&text)));
    if !digits.contains(|c: char| c.is_ascii_digit()) {
        return Err(bad());
    }
    let power = match unit {
        "" => 0,
        unit => units
            .iter()
            .find(|(name, _)| *name == unit)
            .map(|(_, power)| *power)
            .ok_or_else(|| ScpiError::new(-131, format!("'{}'", short(unit))))?,
    };
    let (mantissa, exponent) = digits.split_once('E').unwrap_or((digits, "0"));
    let exponent: i32 = exponent.parse().map_err(|_| bad())?;
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    if whole.len() + fraction.len() > 30 || exponent.abs() > 30 || fraction.contains(['+', '-']) {
        return Err(bad());
    }
    let joined = format!("{whole}{fraction}");
    let value: i128 = joined.parse().map_err(|_| bad())?;
    let scale = Rational::power_of_ten(exponent + power - fraction.len() as i32).ok_or_else(bad)?;
    Rational::new(value, 1).and_then(|value| value.checked_mul(scale)).ok_or_else(bad)
}

/// The numbers of a channel list, `(@0:3,7)`.
pub(crate) fn channels(text: &str) -> Result<Vec<u32>, ScpiError> {
    let bad = || ScpiError::new(-104, format!("'{}' is not a channel list such as (@0:3,7)", short(text)));
    let inner = text.trim().strip_prefix("(@").and_then(|t| t.strip_suffix(')')).ok_or_else(bad)?;
    let mut channels = Vec::new();
    for part in inner.split(',').map(str::trim).filter(|part| !part.is_empty()) {
        let (from, to) = part.split_once(':').unwrap_or((part, part));
        let (from, to): (u32, u32) =
            (from.trim().parse().map_err(|_| bad())?, to.trim().parse().map_err(|_| bad())?);
        if from.abs_diff(to) > 1023 || channels.len() > 1023 {
            return Err(ScpiError::new(-222, "at most 1024 channels"));
        }
        if from <= to { channels.extend(from..=to) } else { channels.extend((to..=from).rev()) }
    }
    Ok(channels)
}

/// The text inside quotes, if it is one.
pub(crate) fn string(text: &str) -> Option<String> {
    for quote in ['"', '\''] {
        if let Some(inner) = text.strip_prefix(quote).and_then(|t| t.strip_suffix(quote)) {
            return Some(inner.replace(&format!("{quote}{quote}"), &quote.to_string()));
        }
    }
    None
}
