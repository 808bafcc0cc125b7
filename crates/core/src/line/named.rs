//! Full names, and the ends of them by which they may be called.

use std::cell::OnceCell;
use std::collections::HashMap;

/// So many are looked for, of which all but one are listed.
const MOST_FOUND: usize = 9;

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
    let found: Vec<(usize, &str)> =
        names.enumerate().filter(|(_, known)| ends(known)).take(MOST_FOUND).collect();
    match found[..] {
        [] => Meant::Nothing,
        [(number, _)] => Meant::One(number),
        _ => Meant::Several(found.into_iter().map(|(_, known)| known.to_string()).collect()),
    }
}

/// The same answers as [`meant`] for many names among the same ones, each in constant time.
pub(crate) struct NameIndex<'a> {
    names: Vec<&'a str>,
    full: HashMap<&'a str, usize>,
    /// Of each end behind a dot, the first few names that have it. Made when a name is asked for that is no full
    /// one.
    ends: OnceCell<HashMap<&'a str, Vec<usize>>>,
}

impl<'a> NameIndex<'a> {
    pub(crate) fn new(names: impl Iterator<Item = &'a str>) -> Self {
        let names: Vec<&str> = names.collect();
        let mut full = HashMap::with_capacity(names.len());
        for (number, name) in names.iter().enumerate() {
            full.entry(*name).or_insert(number);
        }
        NameIndex { names, full, ends: OnceCell::new() }
    }

    /// Which one is meant by a name.
    pub(crate) fn meant(&self, name: &str) -> Meant {
        if let Some(number) = self.full.get(name) {
            return Meant::One(*number);
        }
        match self.ends.get_or_init(|| self.all_ends()).get(name).map(Vec::as_slice) {
            None | Some([]) => Meant::Nothing,
            Some([number]) => Meant::One(*number),
            Some(several) => Meant::Several(several.iter().map(|n| self.names[*n].to_string()).collect()),
        }
    }

    fn all_ends(&self) -> HashMap<&'a str, Vec<usize>> {
        let mut ends: HashMap<&str, Vec<usize>> = HashMap::new();
        for (number, name) in self.names.iter().enumerate() {
            for (dot, _) in name.match_indices('.') {
                let known = ends.entry(&name[dot + 1..]).or_default();
                if known.len() < MOST_FOUND && known.last() != Some(&number) {
                    known.push(number);
                }
            }
        }
        ends.remove("");
        ends
    }

    /// All of them, in order.
    pub(crate) fn names(&self) -> impl Iterator<Item = &'a str> + Clone {
        self.names.iter().copied()
    }
}

/// What to do about a name that is the end of several.
pub(crate) fn several(names: &[String]) -> String {
    let listed = names.iter().take(8).map(|name| format!("'{name}'")).collect::<Vec<_>>().join(", ");
    let more = if names.len() > 8 { " and others" } else { "" };
    format!("write more of its full name: it is the end of {listed}{more}")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{NameIndex, meant};

    proptest! {
        /// The slow way is the obvious one.
        #[test]
        fn the_index_means_what_a_search_does(
            names in prop::collection::vec("[ab.]{0,5}", 0..30),
            asked in prop::collection::vec("[ab.]{0,4}", 1..30),
        ) {
            let index = NameIndex::new(names.iter().map(String::as_str));
            for name in asked.iter().chain(&names) {
                prop_assert_eq!(index.meant(name), meant(names.iter().map(String::as_str), name), "{}", name);
            }
        }
    }
}
