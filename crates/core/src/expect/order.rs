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
    /// Pass: every transition is allowed, and the record begins in the right state. Fail: one is not, or it does
    /// not. Not seen: nothing ever changed.
    pub verdict: Verdict,
    /// What the record begins in.
    pub begins: Option<String>,
    /// Whether that is what it must not begin in: another state than the first, or none at all.
    pub begins_wrong: bool,
    /// Changes of state.
    pub transitions: u64,
    /// How many of them are not allowed.
    pub broken: u64,
    /// Those, up to a thousand of them.
    pub found: Vec<Broken>,
    /// How often each transition that is allowed came, in the order of the setup.
    pub allowed: Vec<StateChange>,
    /// How long each state lasted.
    pub stays: Vec<Stay>,
}

/// A transition that is not allowed.
#[derive(Clone, Debug, PartialEq)]
pub struct Broken {
    /// The state before, or what is there instead of one.
    pub from: String,
    /// The state after, or what is there instead of one.
    pub to: String,
    /// When.
    pub at: Time,
    /// How long what was before had lasted; nothing where it began before the record.
    pub stayed: Option<Measure>,
    /// How long what came lasted; nothing where the record ends first.
    pub lasted: Option<Measure>,
}

/// A transition that is allowed, and how often it came.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StateChange {
    /// The state before.
    pub from: String,
    /// The state after.
    pub to: String,
    /// How often.
    pub count: u64,
}

/// What lasts for a while: a state, or what is there instead of one, in words.
struct Stretch {
    start: Tick,
    end: Tick,
    state: Result<usize, String>,
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

/// The way of the states through a record.
struct OrderWalk<'a> {
    order: &'a Order,
    capture: &'a Capture,
    edges: Instants,
    names: Vec<&'a str>,
    /// How often each allowed transition came.
    counts: Vec<u64>,
    /// How often each state came, how many ticks in all, and those that the record has whole.
    stays: Vec<(u64, u64, Intervals)>,
    before: Option<Stretch>,
    result: OrderResult,
}

impl<'a> OrderWalk<'a> {
    fn new(order: &'a Order, capture: &'a Capture, edges: Instants) -> Self {
        let names = order.states.names();
        let stays = names.iter().map(|_| (0, 0, Intervals::between(capture, &edges, &edges))).collect();
        let counts = vec![0; order.allowed.len()];
        let result = OrderResult {
            verdict: Verdict::NotSeen,
            begins: None,
            begins_wrong: false,
            transitions: 0,
            broken: 0,
            found: Vec::new(),
            allowed: Vec::new(),
            stays: Vec::new(),
        };
        OrderWalk { order, capture, edges, names, counts, stays, before: None, result }
    }

    fn name(&self, state: &Result<usize, String>) -> String {
        match state {
            Ok(state) => self.names[*state].to_string(),
            Err(instead) => instead.clone(),
        }
    }

    /// Whether the record has both ends of a stretch.
    fn is_whole(&self, of: &Stretch) -> bool {
        of.start.0 > 0 && of.end.0 < self.capture.len()
    }

    /// How long a stretch lasted; nothing where the record cuts it off.
    fn length(&self, of: &Stretch) -> Option<Measure> {
        let mut interval = Intervals::between(self.capture, &self.edges, &self.edges);
        if self.is_whole(of) {
            interval.add(of.start, of.end);
        }
        interval.min()
    }

    /// The next stretch.
    fn enter(&mut self, now: Stretch) {
        match self.before.take() {
            None => {
                self.result.begins = Some(self.name(&now.state));
                self.result.begins_wrong = match &now.state {
                    Ok(state) => self.order.first.is_some_and(|first| first != *state),
                    Err(_) => true,
                };
            }
            Some(before) => self.change(&before, &now),
        }
        let whole = self.is_whole(&now);
        if let Ok(state) = &now.state {
            let (count, total, stays) = &mut self.stays[*state];
            *count += 1;
            *total += now.end.0 - now.start.0;
            if whole {
                stays.add(now.start, now.end);
            }
        }
        self.before = Some(now);
    }

    fn change(&mut self, before: &Stretch, now: &Stretch) {
        self.result.transitions += 1;
        if let Some(place) = self.order.place_of(&before.state, &now.state) {
            self.counts[place] += 1;
            return;
        }
        if before.state.is_err() && now.state.is_ok() {
            // Back from what is no state: that was told when it came.
            return;
        }
        self.result.broken += 1;
        if self.result.found.len() < MOST_BROKEN {
            let broken = Broken {
                from: self.name(&before.state),
                to: self.name(&now.state),
                at: self.capture.base().time_of(now.start),
                stayed: self.length(before),
                lasted: self.length(now),
            };
            self.result.found.push(broken);
        }
    }

    fn finish(mut self) -> OrderResult {
        let names = &self.names;
        let change = |((from, to), count): (&(usize, usize), &u64)| StateChange {
            from: names[*from].to_string(),
            to: names[*to].to_string(),
            count: *count,
        };
        self.result.allowed = self.order.allowed.iter().zip(&self.counts).map(change).collect();
        let tick = self.capture.base().tick().to_f64();
        let stay = |(name, (count, total, whole)): (&&str, &(u64, u64, Intervals))| Stay {
            state: name.to_string(),
            count: *count,
            shortest: whole.min(),
            longest: whole.max(),
            total: *total as f64 * tick,
        };
        self.result.stays = names.iter().zip(&self.stays).map(stay).collect();
        self.result.verdict = match (self.result.broken, self.result.transitions) {
            _ if self.result.begins_wrong => Verdict::Fail,
            (1.., _) => Verdict::Fail,
            (0, 0) => Verdict::NotSeen,
            (0, _) => Verdict::Pass,
        };
        self.result
    }
}

impl Order {
    /// Follows the states through a record.
    pub fn follow(&self, capture: &Capture) -> OrderResult {
        let signals: Vec<Signal> = self.states.lines().iter().map(Signal::from).collect();
        let order = Precision::of(capture, Rule::Proven).order(&signals, Voltage::ZERO);
        let settle = self.settle.and_then(|time| capture.base().ticks_in(time)).map(Rational::floor);
        let settle = settle.map(|ticks| u64::try_from(ticks).unwrap_or(0));
        let settle = settle.unwrap_or(order.reach().unwrap_or(0));
        let mut walk = OrderWalk::new(self, capture, Instants::edges(signals));
        self.stretches(capture, settle, &mut |start, end, state| walk.enter(Stretch { start, end, state }));
        walk.finish()
    }

    /// Which of those allowed a transition is.
    fn place_of(&self, from: &Result<usize, String>, to: &Result<usize, String>) -> Option<usize> {
        let (Ok(from), Ok(to)) = (from, to) else { return None };
        self.allowed.iter().position(|allowed| allowed == &(*from, *to))
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
