//! A part's timing table, and what binds it to a board.

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use crate::error::{Error, ErrorKind, Result, suggest};
use crate::event::{ConditionProgram, Meaning, Program, Scope};
use crate::line::{Crossing, LineId};
use crate::time::{Time, TimeBase};

/// A part with its timing limits, as printed in its datasheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// The part number.
    pub name: String,
    /// Where the figures come from: document, revision, table.
    pub source: String,
    /// The operating conditions under which they hold.
    pub conditions: Option<String>,
    /// Whether the part was made up, for demonstration.
    pub made_up: bool,
    /// Its pins, in the order of the file.
    pub pins: Vec<Pin>,
    /// Its limits, in the order of the file.
    pub limits: Vec<Limit>,
}

/// A pin of a part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pin {
    /// Its name in the datasheet.
    pub name: String,
    /// What it is, in one line.
    pub what: String,
}

/// What one occurrence of a limit is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Kind {
    /// From the last change of the data to the reference event.
    Setup,
    /// From the reference event to the first change of the data.
    Hold,
    /// The length of one stretch in which a condition holds.
    Width,
    /// From one occurrence of an event to the next.
    Period,
    /// From an event to the first following partner event.
    Delay,
}

impl Kind {
    /// All kinds with their names, which are those of the timing checks of IEEE 1364.
    pub const ALL: [(Kind, &'static str); 5] = [
        (Kind::Setup, "setup"),
        (Kind::Hold, "hold"),
        (Kind::Width, "width"),
        (Kind::Period, "period"),
        (Kind::Delay, "delay"),
    ];
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(Self::ALL.iter().find(|(kind, _)| kind == self).map_or("", |(_, name)| name))
    }
}

impl FromStr for Kind {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        Self::ALL.iter().find(|(_, name)| *name == text).map(|(kind, _)| *kind).ok_or_else(|| {
            Error::new(ErrorKind::Limits, format!("'{text}' is not a kind of limit")).with_help(suggest(
                text,
                Self::ALL.iter().map(|(_, name)| *name),
                "kind",
            ))
        })
    }
}

impl Serialize for Kind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// The events of a limit, as texts in the event language that name pins.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Events {
    /// `setup` and `hold`: the data event and the reference event.
    Data {
        /// When the data changes.
        data: String,
        /// When it must stand.
        reference: String,
    },
    /// `width`: the condition that must last.
    Pulse(String),
    /// `period`: the event that repeats.
    Repeat(String),
    /// `delay`: the starting event and its answer.
    Pair {
        /// What starts the time.
        from: String,
        /// What ends it.
        to: String,
    },
}

/// The required range of an interval. At least one end is given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Required {
    /// Not shorter than this.
    pub min: Option<Time>,
    /// Not longer than this.
    pub max: Option<Time>,
}

impl fmt::Display for Required {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = match (self.min, self.max) {
            (Some(min), Some(max)) => format!("{min} .. {max}"),
            (Some(min), None) => format!("≥ {min}"),
            (None, Some(max)) => format!("≤ {max}"),
            (None, None) => "anything".to_string(),
        };
        f.pad(&text)
    }
}

/// One row of a timing table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Limit {
    /// The datasheet's symbol, such as `tDH`.
    pub symbol: String,
    /// The datasheet's words.
    pub what: String,
    /// What one occurrence is.
    pub kind: Kind,
    /// Its events.
    pub events: Events,
    /// The required range.
    pub required: Required,
    /// The typical value, for information.
    pub typical: Option<Time>,
    /// Counts only where this condition holds: at the reference or starting event, or where a
    /// pulse begins.
    pub condition: Option<String>,
}

/// A limit bound to the lines of a board, ready to be checked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BoundLimit {
    /// The part's reference on the board, such as `U3`.
    pub reference: String,
    /// The part number.
    pub part: String,
    /// The limit.
    pub limit: Limit,
    pub(super) programs: Programs,
}

/// The compiled events of a limit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Programs {
    Data { data: Program, reference: Program },
    Pulse { pulse: ConditionProgram, condition: Option<ConditionProgram> },
    Repeat(Program),
    Pair { from: Program, to: Program },
}

impl BoundLimit {
    /// Binds a limit whose events name pins to what `pins` says they are.
    ///
    /// # Errors
    /// The errors of the event language, for the field of the limit that is wrong: its name comes
    /// first in the result's pair.
    pub fn bind(
        reference: &str,
        part: &str,
        limit: &Limit,
        pins: &Scope,
    ) -> Result<Self, (&'static str, Error)> {
        let event = |field, text: &str| Program::compile(text, pins).map_err(|e| (field, e));
        let data_event = |field, text: &str| {
            // `data = "DQ"` is short for `data = "DQ changes"`.
            match pins.get(text) {
                Some(Meaning::Line(_) | Meaning::Bus(_)) => event(field, &format!("\"{text}\" changes")),
                _ => event(field, text),
            }
        };
        let condition = match &limit.condition {
            Some(text) => Some(ConditionProgram::compile(text, pins).map_err(|e| ("while", e))?),
            None => None,
        };
        let guarded = |program: Program| match &condition {
            Some(condition) => program.guarded(condition),
            None => program,
        };
        let programs = match &limit.events {
            Events::Data { data, reference } => Programs::Data {
                data: data_event("data", data)?,
                reference: guarded(event("reference", reference)?),
            },
            Events::Pulse(pulse) => Programs::Pulse {
                pulse: ConditionProgram::compile(pulse, pins).map_err(|e| ("pulse", e))?,
                condition,
            },
            Events::Repeat(text) => Programs::Repeat(guarded(event("event", text)?)),
            Events::Pair { from, to } => {
                Programs::Pair { from: guarded(event("from", from)?), to: data_event("to", to)? }
            }
        };
        let (reference, part) = (reference.to_string(), part.to_string());
        Ok(BoundLimit { reference, part, limit: limit.clone(), programs })
    }

    /// The crossings of analog lines that it looks at, each once.
    pub fn crossings(&self) -> Vec<Crossing> {
        self.lines().into_iter().filter_map(Crossing::of_line).collect()
    }

    /// Its events, but for a pulse.
    fn events(&self) -> Vec<&Program> {
        match &self.programs {
            Programs::Data { data: a, reference: b } | Programs::Pair { from: a, to: b } => vec![a, b],
            Programs::Repeat(event) => vec![event],
            Programs::Pulse { .. } => Vec::new(),
        }
    }

    /// Whether the buses whose frames it looks at can be decoded at this clock.
    pub(super) fn check_frames(&self, base: TimeBase) -> Result<()> {
        self.events().into_iter().try_for_each(|event| event.check_frames(base))
    }

    /// Whether one of its events is of several parts, or a frame: what a sampled record does not show of
    /// those may still have happened.
    pub fn is_composite(&self) -> bool {
        self.events().into_iter().any(|event| !event.is_simple())
    }

    /// All lines that it looks at, crossings included, each once.
    pub fn lines(&self) -> Vec<LineId> {
        let mut lines = match &self.programs {
            Programs::Data { data: a, reference: b } | Programs::Pair { from: a, to: b } => {
                [a.lines(), b.lines()].concat()
            }
            Programs::Repeat(event) => event.lines(),
            Programs::Pulse { pulse, condition } => {
                let more = condition.iter().flat_map(ConditionProgram::lines);
                pulse.lines().iter().chain(more).copied().collect()
            }
        };
        lines.sort_unstable();
        lines.dedup();
        lines
    }
}
