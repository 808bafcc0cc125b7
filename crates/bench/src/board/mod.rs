//! Boards in continuous time.

mod composed;
pub(crate) mod device;
mod disturbed;
mod file;
pub(crate) mod models;
mod script;
mod tide_gauge;

pub use disturbed::Disturbance;
pub(crate) use disturbed::{Disturbed, EARLIEST};
pub(crate) use file::read_bench;
pub use script::Script;
pub use tide_gauge::{BoardFault, TideGauge};

use deep_tap_core::line::Level;

use crate::electric::Shape;
use crate::instant::Instant;

/// Which node of a board, counted from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct NodeId(pub usize);

/// What a node is driven to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Change {
    /// A logic level.
    Level(Level),
    /// A voltage.
    Volts(f64),
}

/// Takes the changes of a board: which node, when, and what it is driven to.
pub type Emit<'a> = dyn FnMut(NodeId, Instant, Change) + 'a;

/// A board whose nodes change level at exact instants.
///
/// For who implements it: `advance` is called with rising instants and reports every change up to
/// and including `until` once; the changes of one node come in order of time.
pub trait Board: Send {
    /// What it is, for the user.
    fn describe(&self) -> String;

    /// The names of its nodes, in the order of their ids.
    fn nodes(&self) -> &[String];

    /// What a node is driven to before its first change.
    fn initial(&self, node: NodeId) -> Change;

    /// The electrical side of a node; `None` where its levels have no voltages, as in a simulation.
    fn shape(&self, _: NodeId) -> Option<Shape> {
        None
    }

    /// Lets time pass.
    fn advance(&mut self, until: Instant, emit: &mut Emit<'_>);

    /// Back to when it was switched on, for the `run`-th time from 0; what is left to chance differs
    /// from one time to the next.
    fn restart(&mut self, run: u64);

    /// When it ends, for a recorded one; nothing happens afterwards.
    fn end(&self) -> Option<Instant> {
        None
    }

    /// The nodes that inputs are wired to when a setup gives numbers: input `i` to the `i`-th.
    fn wiring(&self) -> Vec<NodeId> {
        (0..self.nodes().len()).map(NodeId).collect()
    }

    /// The nodes that the instrument's outputs are wired to.
    fn outputs(&self) -> Vec<NodeId> {
        Vec::new()
    }

    /// An output of the instrument drives a node. Called with rising instants per node, none of them
    /// before what has been advanced to.
    fn drive(&mut self, _: NodeId, _: Instant, _: Change) {}

    /// The nodes that analog inputs are wired to.
    fn analog_wiring(&self) -> Vec<NodeId> {
        Vec::new()
    }
}
