//! Texts from files, shown so that they change nothing but the place that they stand in.

use std::borrow::Cow;

/// Whether a character does something else than being seen: control characters, and those that change the
/// direction or the shape of the text around them (Unicode 16, general categories Cc and Cf).
fn acts(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{ad}' | '\u{61c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}')
        || matches!(c, '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// A text on one line, in which what acts is written as `\u{1b}`.
///
/// ```
/// use deep_tap_core::printable;
/// assert_eq!(printable("WE_N"), "WE_N");
/// assert_eq!(printable("WE\u{1b}[2J"), "WE\\u{1b}[2J");
/// assert_eq!(printable("a\u{202e}b\n"), "a\\u{202e}b\\u{a}");
/// ```
pub fn printable(text: &str) -> Cow<'_, str> {
    escaped(text, acts)
}

/// A text of several lines, in which what acts, but for ends of lines and tabulators, is written as `\u{1b}`.
pub fn printable_lines(text: &str) -> Cow<'_, str> {
    escaped(text, |c| acts(c) && !matches!(c, '\n' | '\t'))
}

fn escaped(text: &str, acts: impl Fn(char) -> bool) -> Cow<'_, str> {
    if !text.contains(&acts) {
        return text.into();
    }
    let mut shown = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match acts(c) {
            true => shown.extend(c.escape_unicode()),
            false => shown.push(c),
        }
    }
    shown.into()
}
