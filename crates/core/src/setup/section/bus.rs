//! The sections of buses of parallel lines.

use super::line::{DraftLine, line_id, read_pull};
use crate::error::{Error, TextPlace};
use crate::line::{Bus, BusError, Input, Level, PulseWidths, Radix};
use crate::reader::{Placed, Section};
use crate::setup::files::wrong;

/// A bus as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftBus {
    pub(in crate::setup) name: Placed<String>,
    pub(in crate::setup) lines: Vec<Placed<String>>,
    pub(in crate::setup) clock: Option<(Placed<String>, bool)>,
    pub(in crate::setup) radix: Radix,
    pub(in crate::setup) place: TextPlace,
}

impl DraftBus {
    /// Reads a bus; a vector of a simulation makes its lines, too.
    pub(in crate::setup) fn read(section: &Section<'_>, made: &mut Vec<DraftLine>) -> Option<Self> {
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
        let lines = match (listed, signal, width) {
            (Some(list), None, None) => list.value,
            (None, Some(signal), Some(Placed { value: Ok(width @ 1..=64), .. })) => {
                // A vector of a simulation: its lines are made here, most significant first.
                let mut lines = Vec::new();
                for bit in (0..width).rev() {
                    let line = Placed { value: format!("{}{bit}", name.value), place: signal.place.clone() };
                    let input = Some(Input::Signal(format!("{}[{bit}]", signal.value)));
                    lines.push(line.clone());
                    made.push(DraftLine {
                        name: line,
                        input,
                        threshold: None,
                        swing: None,
                        pulses: PulseWidths::default(),
                        rests: None,
                        pull,
                    });
                }
                lines
            }
            _ => {
                let example = "lines = [\"A1\", \"A0\"], or for a vector of a simulation: signal = \"top.addr\" and width = 2 (1 to 64)";
                section.missing("lines", example);
                return None;
            }
        };
        Some(DraftBus { name, lines, clock, radix, place: section.place() })
    }

    pub(in crate::setup) fn resolve(&self, known: &[DraftLine], problems: &mut Vec<Error>) -> Option<Bus> {
        let ids: Vec<_> = self.lines.iter().map(|line| line_id(line, known, problems)).collect();
        let clock = self
            .clock
            .as_ref()
            .map(|(name, rises)| line_id(name, known, problems).map(|line| (line, Level::from(*rises))));
        let ids = ids.into_iter().collect::<Option<Vec<_>>>()?;
        match Bus::new(self.name.value.clone(), ids.clone()) {
            Ok(made) => Some(Bus { clock: clock.flatten(), radix: self.radix, ..made }),
            Err(BusError::Repeated(line)) => {
                let second =
                    ids.iter().rposition(|id| *id == line).map_or(&self.place, |i| &self.lines[i].place);
                let message =
                    format!("bus '{}' has the line '{}' twice", self.name.value, known[line.0].name.value);
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
