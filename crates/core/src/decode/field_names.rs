//! Names of the values that fields have.

use std::collections::{BTreeMap, BTreeSet};

use crate::bus::{Field, FieldKind, Frame};
use crate::line::ValueNames;

/// Most values in a row that are written.
const MOST_IN_A_ROW: usize = 16;

/// Names of the values that the fields of a bus have.
///
/// ```
/// use deep_tap_core::decode::FieldNames;
/// use deep_tap_core::line::ValueNames;
///
/// let parts: ValueNames = [(0x51, "clock chip".to_string())].into_iter().collect();
/// let names = FieldNames::default().field("address", parts);
/// assert_eq!(names.of("address").name(0x51), Some("clock chip"));
/// assert!(names.of("data").is_empty());
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FieldNames {
    fields: BTreeMap<String, ValueNames>,
    none: ValueNames,
}

impl FieldNames {
    /// With those of a field.
    #[must_use]
    pub fn field(mut self, field: impl Into<String>, names: ValueNames) -> Self {
        self.fields.insert(field.into(), names);
        self
    }

    /// Those of a field.
    pub fn of(&self, field: &str) -> &ValueNames {
        self.fields.get(field).unwrap_or(&self.none)
    }

    /// The name of a field's value.
    pub fn name_of(&self, field: &Field) -> Option<&str> {
        self.of(field.name).name(field.value)
    }

    /// The names of all fields that have some.
    pub fn fields(&self) -> impl Iterator<Item = &str> {
        self.fields.keys().map(String::as_str)
    }

    /// A frame in words: its kind, its fields with names or in hexadecimal, data of one name in a row, and the kinds of
    /// its faults.
    pub fn show(&self, frame: &Frame) -> String {
        let data = || frame.fields.iter().filter(|field| field.kind == FieldKind::Data);
        let names: BTreeSet<&str> = data().map(|field| field.name).collect();
        let in_rows = data().count() > names.len();
        let mut text = frame.kind.to_string();
        let mut told: BTreeSet<&str> = BTreeSet::new();
        for field in &frame.fields {
            let in_row = in_rows && field.kind == FieldKind::Data;
            if in_row && !told.insert(field.name) {
                continue;
            }
            text.push(' ');
            text.push_str(&match field.kind {
                FieldKind::Control if field.bits == 1 => field.name.to_string(),
                _ if in_row => self.row(field.name, data().filter(|own| own.name == field.name)),
                _ => format!("{}={}", field.name, self.of(field.name).named(&field.hex(), field.value)),
            });
        }
        frame.faults.iter().for_each(|fault| text.push_str(&format!(" ({})", fault.kind)));
        text
    }

    /// Data of one name in a row.
    fn row<'f>(&self, name: &str, fields: impl Iterator<Item = &'f Field>) -> String {
        let mut text = name.to_string();
        for (number, field) in fields.enumerate() {
            if number == MOST_IN_A_ROW {
                text.push_str(" ...");
                break;
            }
            let hex = field.hex();
            let written = self.of(name).named(hex.trim_start_matches("0x"), field.value);
            text.push_str(&format!(" {written}"));
        }
        text
    }
}
