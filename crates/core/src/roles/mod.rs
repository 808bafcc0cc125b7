//! Which line is what: on a record whose lines have no meaning yet, the buses that they make.
//!
//! Every kind of bus is tried on every line, or pair of lines, that can be one by the pace of its edges; what
//! counts is how much of the record the kind's own decoder then reads without a fault, and whether all edges
//! are accounted for. A guess that explains more takes its lines first; what is left over stays without a
//! meaning, and says so.

mod clocked;
mod setup;
mod single;
mod track;

use crate::capture::Capture;
use crate::decode::{Protocol, SerialBus};
use crate::diagnose::Sureness;
use crate::line::{Level, LineId};
use crate::time::Tick;

use track::Track;

/// Lines that are looked at.
const MOST_LINES: usize = 64;
/// Edges of the busiest line that are looked at.
const MOST_EDGES: u64 = 40_000;
/// Fewest edges of a line that can be part of a bus.
const FEWEST_EDGES: usize = 4;

/// A bus that lines seem to be.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct BusGuess {
    /// The bus with its lines, ready to be decoded; its name counts the guesses.
    pub bus: SerialBus,
    /// How sure it is.
    pub sureness: Sureness,
    /// What speaks for it, a sentence each.
    pub reasons: Vec<String>,
    /// What cannot be told.
    pub open: Vec<String>,
    /// Frames that were read, nearly all of them without a fault.
    pub frames: usize,
}

/// A line without a meaning.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LineLeft {
    /// The line.
    pub line: LineId,
    /// Its edges in the record.
    pub edges: u64,
    /// Its level where it has none.
    pub level: Level,
}

/// What the lines of a record seem to be.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Roles {
    /// The buses, the surest first.
    pub buses: Vec<BusGuess>,
    /// Lines that never change.
    pub idle: Vec<LineLeft>,
    /// Lines that change and belong to no bus that could be told.
    pub left: Vec<LineLeft>,
}

/// A guess before it is known which of several wins.
struct Candidate {
    guess: BusGuess,
    /// Lines that no other bus can have.
    own: Vec<LineId>,
    /// Lines that several buses can share: clock and data of parts with selects of their own.
    shared: Vec<LineId>,
    /// What kinds prove by themselves (a checksum, an answer) comes before what only fits.
    rank: u32,
}

impl Candidate {
    fn order(&self) -> (Sureness, u32, std::cmp::Reverse<usize>) {
        (self.guess.sureness, self.rank, std::cmp::Reverse(self.guess.frames))
    }
}

/// Looks for buses among the lines of a record.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::line::{Level, Line};
/// use deep_tap_core::roles::roles;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// // Thirty bytes, 10 ticks a bit, and a line that does nothing.
/// let mut line = TraceBuilder::new(Level::High);
/// for byte in 0..30u64 {
///     let start = 300 * (byte + 1);
///     let value = byte * 37 % 256;
///     for bit in 0..10u64 {
///         let high = bit == 9 || (bit > 0 && value >> (bit - 1) & 1 == 1);
///         let _ = line.push_edge(Tick(start + 10 * bit), Level::from(high));
///     }
/// }
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let quiet = TraceBuilder::new(Level::Low).finish(9600);
/// let capture = Capture::builder(base, 9600)
///     .line(Line::named("L0"), quiet)
///     .line(Line::named("L1"), line.finish(9600))
///     .build()?;
/// let found = roles(&capture);
/// assert_eq!((found.buses.len(), found.idle.len()), (1, 1));
/// assert_eq!(found.buses[0].bus.protocol().name(), "uart");
/// assert!(found.buses[0].reasons[0].contains("100 kHz"), "{:?}", found.buses[0].reasons);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn roles(capture: &Capture) -> Roles {
    let lines = (0..capture.lines().len()).map(LineId);
    let left = |line: LineId| {
        let trace = capture.trace(line);
        LineLeft { line, edges: trace.edge_count(), level: trace.level_at(Tick(0)) }
    };
    let (idle, active): (Vec<LineId>, Vec<LineId>) = lines.partition(|line| left(*line).edges == 0);
    let ends = active.iter().filter_map(|line| capture.trace(*line).nth_edge(MOST_EDGES));
    let end = ends.map(|edge| edge.tick).min().unwrap_or(capture.range().end);
    let tracks: Vec<Track> = active
        .iter()
        .map(|line| Track::new(capture, *line, end))
        .filter(|track| track.edges.len() >= FEWEST_EDGES)
        .take(MOST_LINES)
        .collect();
    let record = Record { capture, end };
    let mut candidates = clocked::candidates(&record, &tracks);
    candidates.extend(single::candidates(&record, &tracks));
    candidates.sort_by_key(Candidate::order);
    let mut roles = Roles { idle: idle.into_iter().map(left).collect(), ..Roles::default() };
    let (mut taken, mut shared): (Vec<LineId>, Vec<LineId>) = (Vec::new(), Vec::new());
    for candidate in candidates {
        let mut lines = candidate.own.iter().chain(&candidate.shared);
        let clash =
            lines.any(|line| taken.contains(line)) || candidate.own.iter().any(|line| shared.contains(line));
        if clash {
            continue;
        }
        taken.extend(&candidate.own);
        shared.extend(&candidate.shared);
        let number = roles.buses.len() + 1;
        let guess = candidate.guess;
        let bus = SerialBus::of_lines(
            format!("bus{number}"),
            guess.bus.protocol().clone(),
            guess.bus.lines().to_vec(),
        );
        roles.buses.extend(bus.map(|bus| BusGuess { bus, ..guess }));
    }
    let known = |line: &LineId| taken.contains(line) || shared.contains(line);
    roles.left = active.into_iter().filter(|line| !known(line)).map(left).collect();
    roles
}

/// The record, as far as it is looked at.
struct Record<'a> {
    capture: &'a Capture,
    end: Tick,
}

/// What a decoder makes of lines.
#[derive(Clone, Copy, Debug, Default)]
struct Reading {
    frames: usize,
    /// Those with a fault, a frame that the record cuts off aside.
    faulty: usize,
    /// Those that carry something and have none.
    whole: usize,
}

impl Reading {
    /// Whether nearly all is read without a fault.
    fn is_clean(self, fewest: usize) -> bool {
        self.whole >= fewest && self.faulty * 33 <= self.frames
    }
}

impl Record<'_> {
    fn name(&self, line: LineId) -> &str {
        &self.capture.line(line).name
    }

    fn bus(&self, protocol: Protocol, lines: Vec<LineId>) -> Option<SerialBus> {
        SerialBus::of_lines("tried", protocol, lines).ok()
    }

    /// Reads the lines with a protocol.
    fn read(&self, protocol: &Protocol, lines: &[LineId]) -> Option<Reading> {
        let bus = self.bus(protocol.clone(), lines.to_vec())?;
        let mut reading = Reading::default();
        for frame in bus.frames(self.capture, Tick(0)..self.end).ok()? {
            if frame.faults.iter().any(|fault| fault.kind == "cut-off") {
                continue;
            }
            reading.frames += 1;
            // Of an edge that comes with its clock, the record does not know more; that nobody answers is no
            // fault of the reading, but proves nothing.
            let unanswered = |kind: &str| matches!(kind, "no-answer" | "no-presence" | "wait" | "refused");
            let counts = |kind: &str| !matches!(kind, "order" | "no-ack") && !unanswered(kind);
            let silent = frame.faults.iter().any(|fault| unanswered(fault.kind));
            let faulty = frame.faults.iter().any(|fault| counts(fault.kind))
                || matches!(frame.kind, "noise" | "partial" | "error" | "overload" | "fd");
            reading.faulty += usize::from(faulty);
            reading.whole += usize::from(!faulty && !silent && !frame.fields.is_empty());
        }
        Some(reading)
    }
}
