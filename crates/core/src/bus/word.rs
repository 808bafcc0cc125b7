//! Names that a user gives to fields, kinds and instants.

use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};

static WORDS: Mutex<Option<HashSet<&'static str>>> = Mutex::new(None);

/// A name that lives as long as the program, so that frames can carry it as they carry the words of standards.
///
/// Each different one is kept once and never given back: meant for names that stand in setups, not for data.
///
/// ```
/// use deep_tap_core::bus::word;
///
/// assert!(std::ptr::eq(word("pressure"), word(&String::from("pressure"))));
/// ```
pub fn word(name: &str) -> &'static str {
    let mut words = WORDS.lock().unwrap_or_else(PoisonError::into_inner);
    let words = words.get_or_insert_with(HashSet::new);
    match words.get(name) {
        Some(known) => known,
        None => {
            let kept: &'static str = Box::leak(name.into());
            words.insert(kept);
            kept
        }
    }
}
