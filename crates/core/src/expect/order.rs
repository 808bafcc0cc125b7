//! The order in which states may follow each other.

use crate::capture::Capture;
use crate::known::{Instants, Precision, Rule};
use crate::limit::Verdict;
use crate::line::{Bus, Level, LineId, Signal};
use crate::measure::{Intervals, Measure};
use crate::quantity::{Rational, Time, Voltage};
use crate::time::Tick;

/// Most broken transitions that are kept.
const MOST_BROKEN: usize = 1000;

/// States and the order in which they may follow each other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Order {
    /// How the lines tell the state.
    pub states: States,
    /// Which state may follow which, by their numbers.
    pub allowed: Vec<(usize, usize)>,
    /// The state that the record must begin in.
    pub first: Option<usize>,
    /// What does not last longer than this is a passing value and no state. By default, the time within
    /// which the order of edges is not known.
    pub settle: Option<Time>,
}

/// How lines tell a state.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum States {
    /// Each has a value of a bus.
    Encoded {
        /// The bus.
        bus: Bus,
        /// Names and values.
        names: Vec<(String, u64)>,
    },
    /// Each has a line, which alone is high.
    OneHot(Vec<(String, LineId)>),
}

impl States {
    /// The names.
    pub fn names(&self) -> Vec<&str> {
        match self {
            States::Encoded { names, .. } => names.iter().map(|(name, _)| name.as_str()).collect(),
            States::OneHot(lines) => lines.iter().map(|(name, _)| name.as_str()).collect(),
        }
    }

    fn lines(&self) -> Vec<LineId> {
        match self {
            States::Encoded { bus, .. } => bus.lines.clone(),
            States::OneHot(lines) => lines.iter().map(|(_, line)| *line).collect(),
        }
    }

    /// The state at a tick; otherwise what is there instead, in words.
    fn at(&self, capture: &Capture, tick: Tick) -> Result<usize, String> {
        match self {
            States::Encoded { bus, names } => {
                let value = capture.bus_value(bus, tick);
                let known = names.iter().position(|(_, bits)| value.unknown == 0 && value.bits == *bits);
                known.ok_or_else(|| value.show(bus.radix))
            }
            States::OneHot(lines) => {
                let level = |line: &LineId| capture.trace(*line).level_at(tick);
                let high: Vec<usize> =
                    (0..lines.len()).filter(|place| level(&lines[*place].1) != Level::Low).collect();
                match high.as_slice() {
                    [only] if level(&lines[*only].1) == Level::High => Ok(*only),
                    [] => Err("no line high".to_string()),
                    several => {
                        let names: Vec<&str> = several.iter().map(|place| lines[*place].0.as_str()).collect();
                        Err(format!("{} at once", names.join(" and ")))
                    }
                }
            }
        }
    }
}

/// How states followed each other.
#[derive(Clone, Debug, PartialEq)]
pub struct OrderResult {
    /// Pass: every transition is allowed. Fail: one is not. Not seen: nothing ever changed.
    pub verdict: Verdict,
    /// Changes of state.
    pub transitions: u64,
    /// How many of them are not allowed.
    pub broken: u64,
    /// Those, up to a thousand of them.
    pub found: Vec<Broken>,
    /// How long each state lasted.
    pub stays: Vec<Stay>,
}

/// A transition that is not allowed.
#[derive(Clone, Debug, PartialEq)]
pub struct Broken {
    /// The state before; `None` for the one that the record begins in.
    pub from: Option<String>,
    /// The state after, or what is there instead of one.
    pub to: String,
    /// When.
    pub at: Time,
}

/// How long a state lasted, each time from its beginning to its end.
#[derive(Clone, Debug, PartialEq)]
pub struct Stay {
    /// The state.
    pub state: String,
    /// How often it was there.
    pub count: u64,
    /// The shortest of those with a beginning and an end in the record.
    pub shortest: Option<Measure>,
    /// The longest of them.
    pub longest: Option<Measure>,
    /// All of them together, as seen, in seconds.
    pub total: f64,
}

impl Order {
    /// Follows the states through a record.
    pub fn follow(&self, capture: &Capture) -> OrderResult {
        let base = capture.base();
        let lines = self.states.lines();
        let signals: Vec<Signal> = lines.iter().map(Signal::from).collect();
        let order = Precision::of(capture, Rule::Proven).order(&signals, Voltage::ZERO);
        let window = order.reach().unwrap_or(0);
        let edges = Instants::edges(signals);
        let settle = self.settle.and_then(|time| base.ticks_in(time)).map(Rational::floor);
        let settle = settle.map_or(window, |ticks| u64::try_from(ticks).unwrap_or(0));
        let names = self.states.names();
        let mut stays: Vec<(u64, u64, Intervals)> =
            names.iter().map(|_| (0, 0, Intervals::between(capture, &edges, &edges))).collect();
        let mut result = OrderResult {
            verdict: Verdict::NotSeen,
            transitions: 0,
            broken: 0,
            found: Vec::new(),
            stays: Vec::new(),
        };
        let name = |state: &Result<usize, String>| match state {
            Ok(state) => names[*state].to_string(),
            Err(instead) => instead.clone(),
        };
        let mut before: Option<Result<usize, String>> = None;
        self.stretches(capture, settle, &mut |start, end, state| {
            let broken = match (&before, &state) {
                (None, Ok(state)) => self.first.is_some_and(|first| first != *state),
                (None, Err(_)) | (_, Err(_)) => true,
                (Some(Ok(from)), Ok(to)) => !self.allowed.contains(&(*from, *to)),
                // Back from what is no state: that has been told.
                (Some(Err(_)), Ok(_)) => false,
            };
            result.transitions += u64::from(before.is_some());
            if broken {
                result.broken += 1;
                if result.found.len() < MOST_BROKEN {
                    result.found.push(Broken {
                        from: before.as_ref().map(name),
                        to: name(&state),
                        at: base.time_of(start),
                    });
                }
            }
            if let Ok(state) = state {
                let (count, total, whole) = &mut stays[state];
                *count += 1;
                *total += end.0 - start.0;
                if start.0 > 0 && end.0 < capture.len() {
                    whole.add(start, end);
                }
            }
            before = Some(state);
        });
        let stay = |(name, (count, total, whole)): (&&str, (u64, u64, Intervals))| Stay {
            state: name.to_string(),
            count,
            shortest: whole.min(),
            longest: whole.max(),
            total: total as f64 * base.tick().to_f64(),
        };
        result.stays = names.iter().zip(stays).map(stay).collect();
        result.verdict = match (result.broken, result.transitions) {
            (1.., _) => Verdict::Fail,
            (0, 0) => Verdict::NotSeen,
            (0, _) => Verdict::Pass,
        };
        result
    }

    /// Tells the stretches of one state each, those that only pass left out.
    fn stretches(
        &self,
        capture: &Capture,
        settle: u64,
        tell: &mut dyn FnMut(Tick, Tick, Result<usize, String>),
    ) {
        let lines = self.states.lines();
        let mut cursors: Vec<_> =
            lines.iter().map(|line| capture.trace(*line).edges(capture.range()).peekable()).collect();
        // What began, and whether it goes on is not known yet.
        let mut open: Option<(Tick, Result<usize, String>)> = None;
        let mut start = Tick(0);
        loop {
            let next = cursors.iter_mut().filter_map(|edges| edges.peek().map(|edge| edge.tick)).min();
            let end = next.unwrap_or(Tick(capture.len()));
            // What lasts no longer than edges need to settle is on its way to something else, and belongs
            // to what was before.
            let passing = start.0 > 0 && next.is_some() && end.0 - start.0 <= settle;
            if end > start && !passing {
                let state = self.states.at(capture, start);
                match &open {
                    Some((_, same)) if *same == state => {}
                    _ => {
                        if let Some((began, before)) = open.replace((start, state)) {
                            tell(began, start, before);
                        }
                    }
                }
            }
            let Some(next) = next else { break };
            for edges in &mut cursors {
                while edges.next_if(|edge| edge.tick == next).is_some() {}
            }
            start = next;
        }
        if let Some((began, state)) = open {
            tell(began, Tick(capture.len()), state);
        }
    }
}
