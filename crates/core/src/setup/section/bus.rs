//! The sections of buses of parallel lines.

use super::line::{DraftLine, LineIds, read_pull};
use super::value_names::read_bus_names;
use crate::error::{Error, TextPlace, suggest};
use crate::line::{Bus, BusError, Input, Level, PulseWidths, Radix, ValueNames};
use crate::reader::{Placed, Section};
use crate::setup::files::wrong;
use crate::setup::vectors::Vectors;

/// A bus as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftBus {
    pub(in crate::setup) name: Placed<String>,
    pub(in crate::setup) lines: Vec<Placed<String>>,
    /// The vector of a record whose bits are its lines, which are made of it later.
    pub(in crate::setup) vector: Option<DraftVector>,
    pub(in crate::setup) clock: Option<(Placed<String>, bool)>,
    pub(in crate::setup) radix: Radix,
    pub(in crate::setup) names: ValueNames,
    pub(in crate::setup) place: TextPlace,
}

/// A vector as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftVector {
    /// Its full name or the end of it, and where that is written.
    signal: Placed<String>,
    /// The most and the least significant bit, if stated.
    bits: Option<(i64, i64)>,
    pull: Option<Level>,
}

/// The name of a vector, and the bits of a slice: `tb.q[7:4]`.
fn sliced(signal: &str) -> (&str, Option<(i64, i64)>) {
    let slice = signal.strip_suffix(']').and_then(|rest| rest.rsplit_once('['));
    let bits = slice.and_then(|(_, bits)| {
        let (most, least) = bits.split_once(':')?;
        Some((most.trim().parse::<i32>().ok()?.into(), least.trim().parse::<i32>().ok()?.into()))
    });
    match (slice, bits) {
        (Some((name, _)), Some(bits)) => (name, Some(bits)),
        _ => (signal, None),
    }
}

impl DraftBus {
    /// Makes the lines of a vector, the most significant first; `false` where there is no such vector.
    pub(in crate::setup) fn expand(
        &mut self,
        vectors: &Vectors<'_>,
        made: &mut Vec<DraftLine>,
        problems: &mut Vec<Error>,
    ) -> bool {
        let Some(vector) = &self.vector else { return true };
        let stated = vector.bits.map(|(most, least)| match most >= least {
            true => (least..=most).rev().collect::<Vec<i64>>(),
            false => (most..=least).collect(),
        });
        let Some(bits) = stated.or_else(|| vectors.bits(&vector.signal.value)) else {
            let signal = &vector.signal.value;
            let (message, help) = match vectors {
                Vectors::Of(record) => {
                    let help = suggest(signal, record.names(), "vector");
                    (format!("the record has no vector '{signal}'"), help)
                }
                _ => (
                    format!("how wide '{signal}' is shows only in a record"),
                    format!("say which bits are meant, such as signal = \"{signal}[7:0]\", or width = 8"),
                ),
            };
            problems.push(wrong(&vector.signal.place, message, help));
            return false;
        };
        for bit in bits {
            let place = vector.signal.place.clone();
            let line = Placed { value: format!("{}{bit}", self.name.value), place };
            self.lines.push(line.clone());
            made.push(DraftLine {
                name: line,
                input: Some(Input::Signal(format!("{}[{bit}]", vector.signal.value))),
                threshold: None,
                swing: None,
                pulses: PulseWidths::default(),
                rests: None,
                pull: vector.pull,
                from: None,
                hysteresis: None,
            });
        }
        true
    }

    /// Reads a bus.
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let listed = section.list("lines");
        let signal = section.text("signal");
        let width = section.number_or_text("width");
        let clock = section.text("clock").map(|clock| (clock, section.text("edge")));
        let radix = section.parsed::<Radix>("format").map(|r| r.value).unwrap_or_default();
        let name = section.required("name", "name = \"ADDR\"")?;
        let clock = clock.and_then(|(clock, edge)| {
            let Some(edge) = edge else { return Some((clock, true)) };
            match edge.value.as_str() {
                "rises" => Some((clock, true)),
                "falls" => Some((clock, false)),
                other => {
                    let message = format!("'{other}' is not an edge");
                    section.refuse(&edge.place, message, "it is \"rises\" or \"falls\"");
                    None
                }
            }
        });
        let pull = if signal.is_some() { read_pull(section) } else { None };
        let width = match width {
            None => None,
            Some(Placed { value: Ok(width @ 1..=64), .. }) => Some(i64::from(width)),
            Some(Placed { place, .. }) => {
                section.refuse(&place, "a bus has 1 to 64 lines", "give its width like width = 8");
                return None;
            }
        };
        let (lines, vector) = match (listed, signal, width) {
            (Some(list), None, None) => (list.value, None),
            (None, Some(signal), width) => {
                let (base, slice) = sliced(&signal.value);
                let bits = slice.or(width.map(|width| (width - 1, 0)));
                if bits.is_some_and(|(most, least)| most.abs_diff(least) >= 64) {
                    section.refuse(&signal.place, "a bus has 1 to 64 lines", "take a slice, such as [63:0]");
                    return None;
                }
                let signal = Placed { value: base.to_string(), place: signal.place.clone() };
                (Vec::new(), Some(DraftVector { signal, bits, pull }))
            }
            _ => {
                let example = "lines = [\"A1\", \"A0\"], or for a vector of a record: signal = \"top.addr\"";
                section.missing("lines", example);
                return None;
            }
        };
        let names = read_bus_names(section);
        Some(DraftBus { name, lines, vector, clock, radix, names, place: section.place() })
    }

    pub(in crate::setup) fn resolve(&self, known: &LineIds<'_>, problems: &mut Vec<Error>) -> Option<Bus> {
        let ids: Vec<_> = self.lines.iter().map(|line| known.line(line, problems)).collect();
        let clock = self
            .clock
            .as_ref()
            .map(|(name, rises)| known.line(name, problems).map(|line| (line, Level::from(*rises))));
        let ids = ids.into_iter().collect::<Option<Vec<_>>>()?;
        match Bus::new(self.name.value.clone(), ids.clone()) {
            Ok(made) => {
                let width = made.lines.len();
                let beyond = self.names.iter().last().filter(|(value, _)| width < 64 && value >> width != 0);
                if let Some((value, name)) = beyond {
                    let message =
                        format!("bus '{}' has {width} lines, and '{name}' is 0x{value:X}", self.name.value);
                    problems.push(wrong(&self.name.place, message, "give a value that it can have"));
                }
                Some(Bus { clock: clock.flatten(), radix: self.radix, names: self.names.clone(), ..made })
            }
            Err(BusError::Repeated(line)) => {
                let second =
                    ids.iter().rposition(|id| *id == line).map_or(&self.place, |i| &self.lines[i].place);
                let message = format!("bus '{}' has the line '{}' twice", self.name.value, known.name(line));
                problems.push(wrong(second, message, "name each line once, most significant first"));
                None
            }
            Err(BusError::Empty) => {
                let message = format!("bus '{}' has no lines", self.name.value);
                problems.push(wrong(&self.place, message, "name its lines, most significant first"));
                None
            }
            Err(BusError::TooWide(width)) => {
                let message = format!("bus '{}' has {width} lines; 64 are possible", self.name.value);
                problems.push(wrong(&self.place, message, "split it into two buses"));
                None
            }
        }
    }
}
