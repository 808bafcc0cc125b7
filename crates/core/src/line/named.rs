//! Full names, and the ends of them by which they may be called.

/// What a name means among full names such as `tb.u1.q`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Meant {
    /// The one with this number.
    One(usize),
    /// Nothing.
    Nothing,
    /// The ends of several.
    Several(Vec<String>),
}

/// Which of `names` is meant by a name: the one that is called so, or the only one that ends so behind a dot.
pub(crate) fn meant<'a>(names: impl Iterator<Item = &'a str> + Clone, name: &str) -> Meant {
    if let Some(number) = names.clone().position(|known| known == name) {
        return Meant::One(number);
    }
    let ends = |known: &str| {
        !name.is_empty() && known.strip_suffix(name).is_some_and(|before| before.ends_with('.'))
    };
    let found: Vec<(usize, &str)> = names.enumerate().filter(|(_, known)| ends(known)).take(9).collect();
    match found[..] {
        [] => Meant::Nothing,
        [(number, _)] => Meant::One(number),
        _ => Meant::Several(found.into_iter().map(|(_, known)| known.to_string()).collect()),
    }
}

/// What to do about a name that is the end of several.
pub(crate) fn several(names: &[String]) -> String {
    let listed = names.iter().take(8).map(|name| format!("'{name}'")).collect::<Vec<_>>().join(", ");
    let more = if names.len() > 8 { " and others" } else { "" };
    format!("write more of its full name: it is the end of {listed}{more}")
}
