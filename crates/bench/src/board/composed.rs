//! Boards composed of the device models, as a bench file describes them.

use deep_tap_core::line::Level;

use super::device::{Device, Queues};
use super::models::Model;
use super::{Board, Change, Emit, NodeId};
use crate::electric::Shape;
use crate::instant::Instant;
use crate::random::Random;

/// The nodes of a board, and how they hang together. The first three are as long as each other.
pub(super) struct Nodes {
    pub(super) names: Vec<String>,
    pub(super) shapes: Vec<Shape>,
    /// What each is at before anything drives it; those at a voltage are analog.
    pub(super) rests: Vec<Change>,
    /// The nodes that the instrument's outputs drive.
    pub(super) outputs: Vec<NodeId>,
    /// Nodes that follow others: leader, follower, how much later.
    pub(super) followers: Vec<(NodeId, NodeId, Instant)>,
}

/// A board composed of device models.
pub(crate) struct Composed {
    title: String,
    nodes: Nodes,
    models: Vec<Box<dyn Model>>,
    seed: u64,
    devices: Vec<Box<dyn Device>>,
    queues: Queues,
}

impl Composed {
    pub(super) fn new(title: String, nodes: Nodes, models: Vec<Box<dyn Model>>, seed: u64) -> Self {
        let (devices, queues) = (Vec::new(), Queues::default());
        let mut board = Composed { title, nodes, models, seed, devices, queues };
        board.restart(0);
        board
    }

    /// The nodes that are analog, or those that are not.
    fn wired(&self, analog: bool) -> Vec<NodeId> {
        let nodes = self.nodes.rests.iter().enumerate();
        let nodes = nodes.filter(|(_, rests)| matches!(rests, Change::Volts(_)) == analog);
        nodes.map(|(number, _)| NodeId(number)).collect()
    }
}

impl Board for Composed {
    fn describe(&self) -> String {
        format!("{}, seed {}", self.title, self.seed)
    }

    fn nodes(&self) -> &[String] {
        &self.nodes.names
    }

    fn initial(&self, node: NodeId) -> Change {
        self.nodes.rests.get(node.0).copied().unwrap_or(Change::Level(Level::Unknown))
    }

    fn shape(&self, node: NodeId) -> Option<Shape> {
        self.nodes.shapes.get(node.0).copied()
    }

    fn advance(&mut self, until: Instant, emit: &mut Emit<'_>) {
        self.queues.advance(&mut self.devices, until, emit);
    }

    fn restart(&mut self, run: u64) {
        let random = Random::new(self.seed).split(0xb0 + run);
        let models = self.models.iter().enumerate();
        self.devices = models.map(|(number, model)| model.switched_on(random.split(number as u64))).collect();
        let level = |change: &Change| match change {
            Change::Level(level) => *level,
            Change::Volts(_) => Level::Unknown,
        };
        self.queues = Queues::wired(self.nodes.rests.iter().map(level).collect());
    }

    fn wiring(&self) -> Vec<NodeId> {
        self.wired(false)
    }

    fn outputs(&self) -> Vec<NodeId> {
        self.nodes.outputs.clone()
    }

    fn drive(&mut self, node: NodeId, at: Instant, change: Change) {
        let Change::Level(level) = change else { return };
        let high = level == Level::High;
        self.queues.set(node, at, high);
        for (_, follower, after) in self.nodes.followers.iter().filter(|(leader, ..)| *leader == node) {
            self.queues.set(*follower, at + *after, high);
        }
    }

    fn analog_wiring(&self) -> Vec<NodeId> {
        self.wired(true)
    }
}
