//! Numbers of things, in words.

use std::fmt::Display;

/// So many things: `1 line`, `2 lines`, `3 buses`.
pub(crate) fn counted(count: impl Display, what: &str) -> String {
    let count = count.to_string();
    let plural = match (count.as_str(), what.ends_with('s')) {
        ("1", _) => "",
        (_, true) => "es",
        (_, false) => "s",
    };
    format!("{count} {what}{plural}")
}

#[cfg(test)]
mod tests {
    use super::counted;

    #[test]
    fn things_are_counted_in_words() {
        assert_eq!(counted(1, "bus"), "1 bus");
        assert_eq!(counted(0u64, "edge"), "0 edges");
        assert_eq!(counted(21usize, "bus"), "21 buses");
    }
}
