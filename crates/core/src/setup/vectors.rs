//! The vectors of a record, whose bits the buses of a setup may be.

use crate::capture::Capture;
use crate::line::{Input, Line};

/// Which vectors there are.
#[derive(Clone, Copy)]
pub(super) enum Vectors<'a> {
    /// Nobody knows: there is no record.
    None,
    /// The record comes later: any that is named, as wide as a bus can be.
    Later,
    /// Those of this record.
    Of(&'a Capture),
}

impl Vectors<'_> {
    /// The bits of a vector, the most significant first.
    pub(super) fn bits(self, signal: &str) -> Option<Vec<i64>> {
        let index = |name: &str| name.strip_suffix(']')?.rsplit_once('[')?.1.parse::<i64>().ok();
        match self {
            Vectors::None => None,
            Vectors::Later => Some((0..64).rev().collect()),
            Vectors::Of(capture) => match capture.bus_named(signal) {
                Some(bus) => {
                    let lines = capture.buses()[bus.0].lines.iter();
                    lines.map(|line| index(&capture.line(*line).name)).collect()
                }
                // A record that had this setup before has its lines.
                None => {
                    let prefix = format!("{signal}[");
                    let of_it = |line: &Line| match &line.input {
                        Some(Input::Signal(input)) if input.starts_with(&prefix) => index(input),
                        _ => None,
                    };
                    let bits: Vec<i64> = capture.lines().iter().filter_map(of_it).collect();
                    (!bits.is_empty()).then_some(bits)
                }
            },
        }
    }
}
