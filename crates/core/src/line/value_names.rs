//! Names of values.

use crate::error::suggest;

/// Names that values have, such as those of the states of a machine. Each value has one name at most, and each name
/// one value.
///
/// ```
/// use deep_tap_core::line::ValueNames;
///
/// let names: ValueNames = [(0x51, "clock chip".to_string()), (0x2a, "converter".to_string())].into_iter().collect();
/// assert_eq!((names.name(0x51), names.value("converter")), (Some("clock chip"), Some(0x2a)));
/// assert_eq!(names.named("0x51", 0x51), "0x51 (clock chip)");
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ValueNames {
    /// In the order of the values.
    all: Vec<(u64, String)>,
}

impl ValueNames {
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// The name of a value.
    pub fn name(&self, value: u64) -> Option<&str> {
        let place = self.all.binary_search_by_key(&value, |(own, _)| *own).ok()?;
        Some(&self.all[place].1)
    }

    /// The value of a name.
    pub fn value(&self, name: &str) -> Option<u64> {
        self.all.iter().find(|(_, own)| own == name).map(|(value, _)| *value)
    }

    /// A value as written, with its name behind it.
    pub fn named(&self, written: &str, value: u64) -> String {
        match self.name(value) {
            Some(name) => format!("{written} ({name})"),
            None => written.to_string(),
        }
    }

    /// All of them, in the order of the values.
    pub fn iter(&self) -> impl Iterator<Item = (u64, &str)> + Clone {
        self.all.iter().map(|(value, name)| (*value, name.as_str()))
    }

    /// What may have been meant by a name that is none.
    pub fn suggest(&self, name: &str) -> String {
        suggest(name, self.iter().map(|(_, name)| name), "name of a value")
    }
}

/// The first of two names of one value stays.
impl FromIterator<(u64, String)> for ValueNames {
    fn from_iter<I: IntoIterator<Item = (u64, String)>>(names: I) -> Self {
        let mut all: Vec<(u64, String)> = names.into_iter().collect();
        all.sort_by_key(|(value, _)| *value);
        all.dedup_by_key(|(value, _)| *value);
        ValueNames { all }
    }
}
