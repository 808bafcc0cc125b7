//! What is on the bench: simulated boards, a simulated instrument that samples them, and replay
//! of simulations.
//!
//! A [`Board`] lives in continuous time: its nodes change level at exact instants. The
//! [`StandIn`] samples it the way hardware does, with a phase, skew between inputs and a
//! time base that is slightly off, so that what the library concludes from the samples can be
//! compared with what really happened. Everything is the same again for the same seed.

mod board;
mod child;
mod comparator;
mod connect;
mod digitizer;
mod electric;
mod fault;
mod hookup;
mod instant;
mod models;
mod net;
mod pipe;
mod random;
mod run;
mod stand_in;
mod stimulator;

pub use board::{Board, BoardFault, Change, Disturbance, Emit, NodeId, Script, TideGauge};
pub use child::ChildProcess;
pub use connect::{connect, connect_for};
pub use electric::{Shape, Slope};
pub use hookup::HookupFault;
pub use instant::Instant;
pub use models::Model;
pub use net::{PORT, Remote, Server, ServerOptions, Timeouts, command_table};
pub use pipe::{Pipe, ProgramInstrument};
pub use random::Random;
pub use stand_in::{StandIn, StandInOptions};
