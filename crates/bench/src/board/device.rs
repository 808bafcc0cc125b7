//! Parts of a board that do one thing after another.

use std::collections::VecDeque;

use deep_tap_core::line::Level;

use super::{Change, Emit, NodeId};
use crate::instant::Instant;
use crate::random::Random;

/// Collects what devices do to nodes, ahead of time.
#[derive(Default)]
pub(crate) struct Queues {
    nodes: Vec<Node>,
    /// What each node was last set to.
    pub(crate) last: Vec<Level>,
    /// Whether devices that set the same node are wired together: it leaves its rest while any of them does.
    wired: bool,
    /// The device whose turn it is.
    device: usize,
}

/// What is to come at a node, and what it is at.
struct Node {
    rests: Level,
    now: Level,
    lanes: Vec<Lane>,
}

/// What one device does to a node.
struct Lane {
    device: usize,
    queue: VecDeque<(Instant, Change)>,
    /// What it set last, and what has come of it.
    last: Level,
    now: Level,
}

impl Node {
    fn lane(&mut self, device: usize) -> &mut Lane {
        let place = self.lanes.iter().position(|lane| lane.device == device).unwrap_or_else(|| {
            let (last, now) = (self.rests, self.rests);
            self.lanes.push(Lane { device, queue: VecDeque::new(), last, now });
            self.lanes.len() - 1
        });
        &mut self.lanes[place]
    }

    /// The next change up to an instant, of any device.
    fn next(&mut self, until: Instant) -> Option<(Instant, Change)> {
        loop {
            let due = |lane: &&mut Lane| lane.queue.front().is_some_and(|(at, _)| *at <= until);
            let lanes = self.lanes.iter_mut().filter(due);
            let lane = lanes.min_by_key(|lane| lane.queue.front().map(|(at, _)| *at))?;
            let (at, change) = lane.queue.pop_front()?;
            let Change::Level(level) = change else { return Some((at, change)) };
            lane.now = level;
            let left = self.lanes.iter().map(|lane| lane.now).find(|level| *level != self.rests);
            let level = left.unwrap_or(self.rests);
            if std::mem::replace(&mut self.now, level) != level {
                return Some((at, Change::Level(level)));
            }
        }
    }
}

impl Queues {
    /// Nodes that are at these levels before anything happens.
    pub(crate) fn new(last: Vec<Level>) -> Self {
        let node = |rests: &Level| Node { rests: *rests, now: *rests, lanes: Vec::new() };
        Queues { nodes: last.iter().map(node).collect(), last, wired: false, device: 0 }
    }

    /// The same, where devices that set the same node are wired together.
    pub(crate) fn wired(last: Vec<Level>) -> Self {
        Queues { wired: true, ..Queues::new(last) }
    }

    /// Lets devices do what they do up to an instant, and reports what has come of it by then.
    pub(crate) fn advance(&mut self, devices: &mut [Box<dyn Device>], until: Instant, emit: &mut Emit<'_>) {
        for (number, device) in devices.iter_mut().enumerate() {
            self.device = if self.wired { number + 1 } else { 0 };
            while device.next() <= until {
                device.step(self);
            }
        }
        // What comes from outside is nobody's.
        self.device = 0;
        for (number, node) in self.nodes.iter_mut().enumerate() {
            while let Some((at, change)) = node.next(until) {
                emit(NodeId(number), at, change);
            }
        }
    }

    pub(crate) fn set(&mut self, node: NodeId, at: Instant, high: bool) {
        let level = Level::from(high);
        let lane = self.nodes[node.0].lane(self.device);
        if std::mem::replace(&mut lane.last, level) != level {
            lane.queue.push_back((at, Change::Level(level)));
        }
        self.last[node.0] = level;
    }

    pub(crate) fn drive(&mut self, node: NodeId, at: Instant, volts: f64) {
        let lane = self.nodes[node.0].lane(self.device);
        lane.queue.push_back((at, Change::Volts(volts)));
    }
}

/// A part of the board that does one thing after another.
pub(crate) trait Device: Send {
    /// When it does the next thing; everything it does then happens at this instant or later.
    fn next(&self) -> Instant;
    /// Does it.
    fn step(&mut self, queues: &mut Queues);
    /// What is left to chance is drawn from this.
    fn chance(&mut self, _: Random) {}
}
