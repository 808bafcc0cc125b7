//! The vectors of a record, whose bits the buses of a setup may be.

use std::collections::HashMap;

use crate::capture::Capture;
use crate::line::{Input, NameIndex, NameMeant};

/// Which vectors there are.
pub(super) enum Vectors<'a> {
    /// Nobody knows: there is no record.
    None,
    /// The record comes later: any that is named, as wide as a bus can be.
    Later,
    /// Those of this record.
    Of(RecordVectors<'a>),
}

/// The vectors of a record, by their names.
pub(super) struct RecordVectors<'a> {
    capture: &'a Capture,
    buses: NameIndex<'a>,
    /// Of a record that had this setup before: its lines, by the vector that they were bits of.
    bits: HashMap<&'a str, Vec<i64>>,
}

/// The vector that a name is a bit of, and which: `tb.q[7]`.
fn bit_of(name: &str) -> Option<(&str, i64)> {
    let (vector, bit) = name.strip_suffix(']')?.rsplit_once('[')?;
    Some((vector, bit.parse().ok()?))
}

impl<'a> RecordVectors<'a> {
    fn of(capture: &'a Capture) -> Self {
        let mut bits: HashMap<&str, Vec<i64>> = HashMap::new();
        for line in capture.lines() {
            if let Some(Input::Signal(input)) = &line.input
                && let Some((vector, bit)) = bit_of(input)
            {
                bits.entry(vector).or_default().push(bit);
            }
        }
        let buses = NameIndex::new(capture.buses().iter().map(|bus| bus.name.as_str()));
        RecordVectors { capture, buses, bits }
    }

    /// The names of the vectors.
    pub(super) fn names(&self) -> impl Iterator<Item = &'a str> + Clone {
        self.buses.names()
    }

    fn bits(&self, signal: &str) -> Option<Vec<i64>> {
        match self.buses.meant(signal) {
            NameMeant::One(number) => {
                let lines = self.capture.buses()[number].lines.iter();
                lines.map(|line| Some(bit_of(&self.capture.line(*line).name)?.1)).collect()
            }
            NameMeant::Nothing | NameMeant::Several(_) => self.bits.get(signal).cloned(),
        }
    }
}

impl<'a> Vectors<'a> {
    /// Those of a record.
    pub(super) fn of(capture: &'a Capture) -> Self {
        Vectors::Of(RecordVectors::of(capture))
    }

    /// The bits of a vector, the most significant first.
    pub(super) fn bits(&self, signal: &str) -> Option<Vec<i64>> {
        match self {
            Vectors::None => None,
            Vectors::Later => Some((0..64).rev().collect()),
            Vectors::Of(record) => record.bits(signal),
        }
    }
}
