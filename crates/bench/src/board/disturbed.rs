//! A board with something wrong at a node, whatever the board.

use std::collections::VecDeque;

use deep_tap_core::line::Level;
use deep_tap_core::{Error, ErrorKind, Result};

use super::{Board, Change, Emit, NodeId};
use crate::electric::{Shape, Slope};
use crate::instant::Instant;

/// Something wrong at a node.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Disturbance {
    /// It never leaves this level.
    Stuck(Level),
    /// From some time on, it stays at this level.
    Hangs {
        /// At which.
        level: Level,
        /// When, counted from switching on.
        at: Instant,
    },
    /// It is inverted for a time with each change of another node.
    Crosstalk {
        /// The other node.
        from: String,
        /// For how long.
        width: Instant,
    },
    /// It is inverted for a time, once.
    Glitch {
        /// For how long.
        width: Instant,
        /// When, counted from switching on.
        at: Instant,
    },
    /// Two outputs drive it against each other for a time: it lies half way between.
    Contention {
        /// For how long.
        width: Instant,
        /// When, counted from switching on.
        at: Instant,
    },
    /// Its edges are slow: a resistor and a capacitor with this time constant.
    Slow(Instant),
    /// Every so many changes, one comes late.
    Late {
        /// By how much.
        by: Instant,
        /// One in this many.
        one_in: u64,
    },
    /// Every so many changes, one comes early.
    Early {
        /// By how much.
        by: Instant,
        /// One in this many.
        one_in: u64,
    },
}

/// By how much a change can come early at the most: so far the board is asked ahead of time.
pub(crate) const EARLIEST: Instant = Instant::us(10_000);

/// A board with disturbances at some of its nodes.
pub(crate) struct Disturbed {
    board: Box<dyn Board>,
    places: Vec<Place>,
    /// How far the board is ahead, so that changes can be moved to the front.
    ahead: Instant,
    /// Per node: what it is driven to, and the changes that are to come, in order of time.
    now: Vec<Change>,
    queues: Vec<VecDeque<(Instant, Change)>>,
}

struct Place {
    node: NodeId,
    /// The node whose changes it picks up.
    from: Option<NodeId>,
    what: Disturbance,
    /// Changes seen so far.
    count: u64,
    /// How far a glitch or contention has come.
    once: Once,
}

/// How far has come what happens once.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Once {
    ToCome,
    /// It hides that the node is driven to this.
    Hides(Change),
    Over,
}

impl Place {
    /// From when to when it happens, if it does so once.
    fn window(&self) -> Option<(Instant, Instant)> {
        match self.what {
            Disturbance::Glitch { width, at } | Disturbance::Contention { width, at } => {
                Some((at, at + width))
            }
            // It has no end.
            Disturbance::Hangs { at, .. } => Some((at, Instant(i64::MAX / 2))),
            _ => None,
        }
    }
}

impl Disturbed {
    /// # Errors
    /// When the board has no such node.
    pub(crate) fn new(board: Box<dyn Board>, wanted: &[(String, Disturbance)]) -> Result<Self> {
        let mut places = Vec::new();
        for (name, what) in wanted {
            let node = named(&*board, name)?;
            let from = match what {
                Disturbance::Crosstalk { from, .. } => Some(named(&*board, from)?),
                _ => None,
            };
            places.push(Place { node, from, what: what.clone(), count: 0, once: Once::ToCome });
        }
        let early = |place: &Place| match place.what {
            Disturbance::Early { by, .. } => by.min(EARLIEST),
            _ => Instant(0),
        };
        let ahead = places.iter().map(early).max().unwrap_or_default();
        let mut disturbed = Disturbed { board, places, ahead, now: Vec::new(), queues: Vec::new() };
        disturbed.begin();
        Ok(disturbed)
    }

    fn begin(&mut self) {
        let nodes = self.board.nodes().len();
        self.now = (0..nodes).map(|node| self.initial(NodeId(node))).collect();
        self.queues = vec![VecDeque::new(); nodes];
        self.places.iter_mut().for_each(|place| (place.count, place.once) = (0, Once::ToCome));
    }

    /// What happens once, as far as its time has come.
    fn once(&mut self, until: Instant) {
        for place in &mut self.places {
            let Some((at, end)) = place.window() else { continue };
            let queue = &mut self.queues[place.node.0];
            if at <= until && place.once == Once::ToCome {
                let last = queue.iter().rev().find(|(queued, _)| *queued <= at);
                let before = last.map_or(self.now[place.node.0], |(_, change)| *change);
                let middle = self.board.shape(place.node).map(|s| Change::Volts((s.low + s.high) / 2.0));
                let disturbed = match (&place.what, before) {
                    (Disturbance::Hangs { level, .. }, _) => Change::Level(*level),
                    (Disturbance::Contention { .. }, _) => middle.unwrap_or(Change::Level(Level::Unknown)),
                    (_, Change::Level(level)) => Change::Level(level.opposite()),
                    (_, Change::Volts(_)) => middle.unwrap_or(before),
                };
                // What the node is driven to meanwhile shows at the end.
                let hidden = queue.iter().rev().find(|(queued, _)| *queued > at && *queued <= end);
                place.once = Once::Hides(hidden.map_or(before, |(_, change)| *change));
                queue.retain(|(queued, _)| *queued <= at || *queued > end);
                insert(queue, at, disturbed);
            }
            if let Once::Hides(after) = place.once
                && end <= until
            {
                insert(queue, end, after);
                place.once = Once::Over;
            }
        }
    }
}

/// Inverts a node for a time; what it is driven to meanwhile shows at the end.
fn invert(queue: &mut VecDeque<(Instant, Change)>, now: Change, at: Instant, width: Instant) {
    let end = at + width;
    let level_at = |until: Instant| {
        let last = queue.iter().rev().find(|(queued, _)| *queued <= until);
        last.map_or(now, |(_, change)| *change)
    };
    let (Change::Level(before), after) = (level_at(at), level_at(end)) else { return };
    queue.retain(|(queued, _)| *queued <= at || *queued > end);
    insert(queue, at, Change::Level(before.opposite()));
    insert(queue, end, after);
}

/// The node of this name.
fn named(board: &dyn Board, name: &str) -> Result<NodeId> {
    board.nodes().iter().position(|node| node == name).map(NodeId).ok_or_else(|| {
        let some: Vec<&str> = board.nodes().iter().map(String::as_str).take(12).collect();
        let error = Error::new(ErrorKind::Instrument, format!("the board has no node '{name}'"));
        let more = if board.nodes().len() > some.len() { ", …" } else { "" };
        error.with_help(format!("it has: {}{more}", some.join(", ")))
    })
}

fn insert(queue: &mut VecDeque<(Instant, Change)>, at: Instant, change: Change) {
    let place = queue.partition_point(|(queued, _)| *queued <= at);
    queue.insert(place, (at, change));
}

/// The instant that a change has under a disturbance of its node; `None` when it does not
/// show.
fn moved(place: &mut Place, at: Instant, change: Change) -> Option<Instant> {
    place.count += 1;
    if let (Some((from, end)), Once::Hides(after)) = (place.window(), &mut place.once)
        && at > from
        && at <= end
    {
        *after = change;
        return None;
    }
    match place.what {
        Disturbance::Stuck(_) => None,
        Disturbance::Late { by, one_in } if place.count.is_multiple_of(one_in.max(1)) => Some(at + by),
        Disturbance::Early { by, one_in } if place.count.is_multiple_of(one_in.max(1)) => {
            Some(at - by.min(EARLIEST))
        }
        _ => Some(at),
    }
}

impl Board for Disturbed {
    fn describe(&self) -> String {
        let names: Vec<&str> = self.places.iter().map(|p| self.board.nodes()[p.node.0].as_str()).collect();
        format!("{}, disturbed at {}", self.board.describe(), names.join(", "))
    }

    fn nodes(&self) -> &[String] {
        self.board.nodes()
    }

    fn initial(&self, node: NodeId) -> Change {
        let stuck = |place: &Place| match place.what {
            Disturbance::Stuck(level) if place.node == node => Some(Change::Level(level)),
            _ => None,
        };
        self.places.iter().find_map(stuck).unwrap_or_else(|| self.board.initial(node))
    }

    fn shape(&self, node: NodeId) -> Option<Shape> {
        let slow = |place: &Place| match place.what {
            Disturbance::Slow(time) if place.node == node => Some(Slope::Rc(time)),
            _ => None,
        };
        let shape = self.board.shape(node)?;
        let slope = self.places.iter().find_map(slow);
        Some(slope.map_or(shape, |slope| Shape { rise: slope, fall: slope, ..shape }))
    }

    fn advance(&mut self, until: Instant, emit: &mut Emit<'_>) {
        let (places, queues) = (&mut self.places, &mut self.queues);
        let mut picked_up: Vec<(NodeId, Instant, Instant)> = Vec::new();
        self.board.advance(until + self.ahead, &mut |node, at, change| {
            for place in places.iter().filter(|place| place.from == Some(node)) {
                if let Disturbance::Crosstalk { width, .. } = place.what {
                    picked_up.push((place.node, at, width));
                }
            }
            let own = places.iter_mut().filter(|place| place.node == node);
            let mut own = own;
            let Some(at) = own.try_fold(at, |at, place| moved(place, at, change)) else { return };
            // What was moved must not change places with its neighbours.
            let last = queues[node.0].back().map_or(Instant(i64::MIN), |(at, _)| *at);
            queues[node.0].push_back((at.max(last), change));
        });
        for (node, at, width) in picked_up {
            invert(&mut self.queues[node.0], self.now[node.0], at, width);
        }
        self.once(until);
        for (node, queue) in self.queues.iter_mut().enumerate() {
            while let Some((at, change)) = queue.front().copied().filter(|(at, _)| *at <= until) {
                queue.pop_front();
                self.now[node] = change;
                emit(NodeId(node), at, change);
            }
        }
    }

    fn restart(&mut self, run: u64) {
        self.board.restart(run);
        self.begin();
    }

    fn end(&self) -> Option<Instant> {
        self.board.end()
    }

    fn wiring(&self) -> Vec<NodeId> {
        self.board.wiring()
    }

    fn outputs(&self) -> Vec<NodeId> {
        self.board.outputs()
    }

    fn drive(&mut self, node: NodeId, at: Instant, change: Change) {
        self.board.drive(node, at, change);
    }

    fn analog_wiring(&self) -> Vec<NodeId> {
        self.board.analog_wiring()
    }
}
