//! A board whose changes are given, such as a recorded simulation.

use deep_tap_core::capture::Capture;
use deep_tap_core::line::{Level, LineId};
use deep_tap_core::quantity::Rational;
use deep_tap_core::{Error, ErrorKind, Result};

use super::{Board, Change, Emit, NodeId};
use crate::instant::Instant;

/// A board whose changes are given.
#[derive(Clone, Debug)]
pub struct Script {
    what: String,
    names: Vec<String>,
    start: Vec<Level>,
    changes: Vec<Vec<(Instant, Level)>>,
    /// Per node, the changes already reported.
    done: Vec<usize>,
    end: Option<Instant>,
}

impl Script {
    /// A board without nodes.
    pub fn new(what: impl Into<String>) -> Self {
        let (names, start, changes, done) = Default::default();
        Script { what: what.into(), names, start, changes, done, end: None }
    }

    /// Adds a node with its changes, which are put in order of time.
    #[must_use]
    pub fn node(mut self, name: impl Into<String>, start: Level, mut changes: Vec<(Instant, Level)>) -> Self {
        changes.sort_by_key(|(at, _)| *at);
        self.names.push(name.into());
        self.start.push(start);
        self.changes.push(changes);
        self.done.push(0);
        self
    }

    /// The lines of a capture as nodes, so that a simulation can be probed like a board. Its first
    /// tick is instant 0.
    ///
    /// # Errors
    /// When an instant is no whole number of femtoseconds, or later than two and a half hours.
    pub fn replay(capture: &Capture) -> Result<Self> {
        let femto =
            Rational::power_of_ten(15).and_then(|p| capture.base().tick().to_rational().checked_mul(p));
        let femto = femto.filter(|t| t.denominator() == 1).map(Rational::numerator).ok_or_else(|| {
            let message = format!("a record with a tick of {} cannot be replayed", capture.base().tick());
            Error::new(ErrorKind::Instrument, message)
                .with_help("its tick must be a whole number of femtoseconds")
        })?;
        let instant = |tick: u64| i64::try_from(i128::from(tick).checked_mul(femto)?).ok().map(Instant);
        let too_long = || {
            Error::new(
                ErrorKind::Instrument,
                format!("a record of {} cannot be replayed", capture.duration()),
            )
            .with_help("a replay covers two and a half hours at the most")
        };
        let mut script = Script::new(capture.origin().source.clone());
        script.end = Some(instant(capture.len()).ok_or_else(too_long)?);
        for (number, line) in capture.lines().iter().enumerate() {
            let trace = capture.trace(LineId(number));
            let start = trace.level_at(deep_tap_core::time::Tick(0));
            let changes = trace.edges(capture.range()).map(|e| Some((instant(e.tick.0)?, e.to)));
            let changes = changes.collect::<Option<Vec<_>>>().ok_or_else(too_long)?;
            script = script.node(line.name.clone(), start, changes);
        }
        Ok(script)
    }
}

impl Board for Script {
    fn describe(&self) -> String {
        self.what.clone()
    }

    fn nodes(&self) -> &[String] {
        &self.names
    }

    fn initial(&self, node: NodeId) -> Change {
        Change::Level(self.start.get(node.0).copied().unwrap_or(Level::Unknown))
    }

    fn advance(&mut self, until: Instant, emit: &mut Emit<'_>) {
        for (node, changes) in self.changes.iter().enumerate() {
            while let Some((at, level)) = changes.get(self.done[node]).filter(|(at, _)| *at <= until) {
                emit(NodeId(node), *at, Change::Level(*level));
                self.done[node] += 1;
            }
        }
    }

    fn restart(&mut self, _: u64) {
        self.done.fill(0);
    }

    fn end(&self) -> Option<Instant> {
        self.end
    }
}
