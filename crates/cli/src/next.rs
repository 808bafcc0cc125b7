//! What to type next, as a shell takes it.

use std::path::Path;

use crate::args::{Changes, Source, Stated};

/// A line that says what to type next.
pub(crate) fn next(command: &str, words: impl AsRef<str>) -> String {
    format!("next: {}", typed(command, words))
}

/// A command of this tool, as it is typed.
pub(crate) fn typed(command: &str, words: impl AsRef<str>) -> String {
    format!("deep-tap {command} {}", words.as_ref())
}

/// The command to look around in a record with, in this build.
pub(crate) const LOOK_AROUND: &str = if cfg!(feature = "view") { "view" } else { "show" };

/// A path as a shell takes it, and no option.
pub(crate) fn path_word(path: &Path) -> String {
    let text = path.display().to_string();
    if text.starts_with('-') && text != "-" { word(&format!("./{text}")) } else { word(&text) }
}

/// A word as a shell takes it.
pub(crate) fn word(text: &str) -> String {
    let plain = !text.is_empty() && text.chars().all(|c| c.is_alphanumeric() || "._-/:+,=%".contains(c));
    if plain { text.to_string() } else { format!("'{}'", text.replace('\'', r"'\''")) }
}

/// The surroundings of an instant, as it was printed.
pub(crate) fn around(at: impl AsRef<str>) -> String {
    format!("--around {}", word(&at.as_ref().replace(' ', "")))
}

/// Lines that say how to look at an instant of a record, as it was printed: drawn, and to move about in.
pub(crate) fn look(source: &str, at: impl AsRef<str>) -> Vec<String> {
    let mut lines = vec![next("show", format!("{source} {}", around(&at)))];
    if cfg!(feature = "view") {
        let at = word(&at.as_ref().replace(' ', ""));
        lines.push(next("view", format!("{source} --at {at}")));
    }
    lines
}

/// The same record as that of this command.
pub(crate) fn source_words(source: &Source) -> String {
    let mut words = path_word(&source.file);
    if let Some(setup) = &source.setup {
        words.push_str(&format!(" --setup {}", path_word(setup)));
    }
    for bus in &source.with_bus {
        words.push_str(&format!(" --with-bus {}", word(bus)));
    }
    let Stated { sampled, skew, accuracy, import, partial } = &source.stated;
    for (option, value) in [("sampled", sampled), ("skew", skew), ("accuracy", accuracy)] {
        words.extend(value.iter().map(|value| format!(" --{option} {}", word(value))));
    }
    words.extend(import.iter().map(|stated| format!(" --import {}", word(stated))));
    if *partial {
        words.push_str(" --partial");
    }
    words
}

/// The same changes of the setup as those of this command.
pub(crate) fn changes_words(changes: &Changes) -> String {
    let Changes { rate, trigger, length, before_trigger, lines } = changes;
    let options =
        [("rate", rate), ("trigger", trigger), ("length", length), ("before-trigger", before_trigger)];
    let stated = options.into_iter().filter_map(|(option, value)| Some((option, value.as_ref()?)));
    let mut words: String = stated.map(|(option, value)| format!(" --{option} {}", word(value))).collect();
    if !lines.is_empty() {
        words.push_str(&format!(" --lines {}", word(&lines.join(","))));
    }
    words
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::{path_word, word};

    #[test]
    fn a_shell_takes_words_as_they_are() {
        assert_eq!(word("5 ms"), "'5 ms'");
        assert_eq!(word("it's"), r"'it'\''s'");
        assert_eq!(word(""), "''");
        assert_eq!(word("$(rm x)"), "'$(rm x)'");
        assert_eq!(path_word(Path::new("--replace")), "./--replace");
        assert_eq!(path_word(Path::new("a/tide-gauge.dtap")), "a/tide-gauge.dtap");
    }
}
