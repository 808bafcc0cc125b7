//! Parts of a board that do one thing after another.

use std::collections::VecDeque;

use deep_tap_core::line::Level;

use super::{Change, Emit, NodeId};
use crate::instant::Instant;
use crate::random::Random;

/// Collects what devices do to nodes, ahead of time.
#[derive(Default)]
pub(crate) struct Queues {
    nodes: Vec<VecDeque<(Instant, Change)>>,
    pub(crate) last: Vec<Level>,
}

impl Queues {
    /// Nodes that are at these levels before anything happens.
    pub(crate) fn new(last: Vec<Level>) -> Self {
        Queues { nodes: vec![VecDeque::new(); last.len()], last }
    }

    /// Lets devices do what they do up to an instant, and reports what has come of it by then.
    pub(crate) fn advance(&mut self, devices: &mut [Box<dyn Device>], until: Instant, emit: &mut Emit<'_>) {
        for device in devices {
            while device.next() <= until {
                device.step(self);
            }
        }
        for (node, queue) in self.nodes.iter_mut().enumerate() {
            while let Some((at, change)) = queue.front().copied().filter(|(at, _)| *at <= until) {
                queue.pop_front();
                emit(NodeId(node), at, change);
            }
        }
    }

    pub(crate) fn set(&mut self, node: NodeId, at: Instant, high: bool) {
        let level = Level::from(high);
        if self.last[node.0] != level {
            self.last[node.0] = level;
            self.nodes[node.0].push_back((at, Change::Level(level)));
        }
    }

    pub(crate) fn drive(&mut self, node: NodeId, at: Instant, volts: f64) {
        self.nodes[node.0].push_back((at, Change::Volts(volts)));
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
