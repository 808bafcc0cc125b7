//! What decoders find.

use serde::Serialize;

use crate::time::Tick;

/// One unit on a bus.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Frame {
    /// What kind of unit it is, in the words of its standard, such as `byte` or `break`.
    pub kind: &'static str,
    /// Its first tick.
    pub start: Tick,
    /// The tick after its last.
    pub end: Tick,
    /// Its fields, in order of time.
    pub fields: Vec<Field>,
    /// What is wrong with it.
    pub faults: Vec<Fault>,
}

impl Frame {
    /// The field with this name, if it has one.
    pub fn field(&self, name: &str) -> Option<&Field> {
        self.fields.iter().find(|field| field.name == name)
    }
}

/// A part of a frame with a meaning of its own.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Field {
    /// Its name, such as `data` or `address`.
    pub name: &'static str,
    /// Its first tick.
    pub start: Tick,
    /// The tick after its last.
    pub end: Tick,
    /// Its value.
    pub value: u64,
    /// Width of the value in bits.
    pub bits: u32,
    /// What it is for.
    pub kind: FieldKind,
}

/// What a field is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum FieldKind {
    /// What is carried.
    Data,
    /// Whom it is for.
    Address,
    /// What holds the frame together.
    Control,
    /// What proves it.
    Check,
}

/// Something on the wire that is not as the standard says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Fault {
    /// A word for it, such as `parity`, to count and search by.
    pub kind: &'static str,
    /// Where it is seen.
    pub at: Tick,
    /// What it is, in words.
    pub what: String,
}
