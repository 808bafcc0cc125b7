//! What every logic instrument can wait for by itself.

use crate::error::{Error, ErrorKind, Result};
use crate::event::{Direction, LineEdge, Program};

/// An edge of one input while others have given levels.
///
/// Inputs are numbered by their place in the [`Configuration`](crate::instrument::Configuration).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct QualifiedEdge {
    /// The input with the edge.
    pub input: usize,
    /// Which way it changes.
    pub direction: Direction,
    /// Inputs and whether they must be high, at the first sample that shows the edge.
    pub levels: Vec<(usize, bool)>,
}

impl QualifiedEdge {
    /// The trigger that an event asks for; lines are the inputs of the same number.
    ///
    /// # Errors
    /// When the event is more than an edge while lines have given levels.
    pub fn from_program(program: &Program) -> Result<Self> {
        let Some(LineEdge { line, direction, levels }) = program.as_qualified_edge() else {
            let message = format!("the instrument cannot trigger on '{}' by itself", program.text());
            return Err(Error::new(ErrorKind::Instrument, message).with_help(
                "it can wait for an edge of one line while other lines have given levels, as in 'A rises while B low and BUS == 0x4'",
            ));
        };
        let levels = levels.into_iter().map(|(line, high)| (line.0, high)).collect();
        Ok(QualifiedEdge { input: line.0, direction, levels })
    }

    /// Whether it happens between one sample and the next.
    pub fn happens(&self, before: u64, now: u64) -> bool {
        self.edge(before, now) && self.unmet(now).next().is_none()
    }

    /// Whether the edge alone happens between one sample and the next.
    pub fn edge(&self, before: u64, now: u64) -> bool {
        let bit = |sample: u64| sample >> self.input & 1 == 1;
        match self.direction {
            Direction::Rises => !bit(before) && bit(now),
            Direction::Falls => bit(before) && !bit(now),
            Direction::Changes => bit(before) != bit(now),
        }
    }

    /// The inputs that do not have their level in a sample.
    pub fn unmet(&self, now: u64) -> impl Iterator<Item = (usize, bool)> + '_ {
        self.levels.iter().copied().filter(move |(input, high)| (now >> input & 1 == 1) != *high)
    }
}

/// What an instrument saw while it waited for its trigger.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Seen {
    /// How often the trigger's edge came, whatever the levels.
    pub edges: u64,
    /// Per required level, in the order of the trigger, how often it was not met at an edge.
    pub unmet: Vec<u64>,
}
