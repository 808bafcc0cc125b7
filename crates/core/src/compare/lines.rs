//! Lines of two records.

use super::{OneOf, Pair, by_name};
use crate::capture::Capture;
use crate::line::{Level, Line};
use crate::time::Tick;

/// A line that is not the same in both records.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LineComparison {
    /// Its name.
    pub name: String,
    /// In which way.
    pub difference: LineDifference,
    /// Its edges in the first record, and in the second.
    pub edges: (u64, u64),
}

/// In which way a line is not the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LineDifference {
    /// Only one record has it.
    Only(OneOf),
    /// It changes in one record only.
    ChangesOnly(OneOf),
    /// It never changes, and has this level in the first record and that one in the second.
    Rests(Level, Level),
}

/// The lines that differ, and how many both have.
pub(super) fn compare(pair: &Pair<'_>) -> (Vec<LineComparison>, usize) {
    let (a, b) = (&pair.a.capture, &pair.b.capture);
    let mut common = 0;
    let mut found = Vec::new();
    for (first, second) in by_name(a.lines(), b.lines(), |line| line.name.clone()) {
        let Some(name) = first.or(second).map(|line| line.name.clone()) else { continue };
        common += usize::from(first.is_some() && second.is_some());
        let (of_a, of_b) = (Seen::of(a, first), Seen::of(b, second));
        let difference = match (first.is_some(), second.is_some()) {
            (true, false) => LineDifference::Only(OneOf::A),
            (false, true) => LineDifference::Only(OneOf::B),
            _ if of_a.edges > 0 && of_b.edges == 0 => LineDifference::ChangesOnly(OneOf::A),
            _ if of_a.edges == 0 && of_b.edges > 0 => LineDifference::ChangesOnly(OneOf::B),
            _ if of_a.edges == 0 && of_a.level != of_b.level => LineDifference::Rests(of_a.level, of_b.level),
            _ => continue,
        };
        if !pair.ignores(&name) {
            found.push(LineComparison { name, difference, edges: (of_a.edges, of_b.edges) });
        }
    }
    (found, common)
}

/// What a line does in one record.
struct Seen {
    edges: u64,
    level: Level,
}

impl Seen {
    fn of(capture: &Capture, line: Option<&Line>) -> Seen {
        let trace = line.and_then(|line| capture.line_named(&line.name).ok()).map(|line| capture.trace(line));
        match trace {
            Some(trace) if !trace.is_empty() => {
                Seen { edges: trace.edge_count(), level: trace.level_at(Tick(0)) }
            }
            _ => Seen { edges: 0, level: Level::Unknown },
        }
    }
}
