//! Instruments over the network: IEEE 488.2 and SCPI-1999 on a TCP socket.
//!
//! [`Server`] serves any [`Instrument`](deep_tap_core::instrument::Instrument); [`Remote`] is one
//! that is served somewhere else. `docs/network.md` is the reference of the commands.

mod able;
mod client;
mod commands;
mod message;
mod server;
mod session;
mod settings;
mod wire;

pub use client::Remote;
pub use commands::command_table;
pub use server::{Server, ServerOptions};
pub use wire::Timeouts;

/// The port by convention.
pub const PORT: u16 = 5025;
/// The version of the command set, for what is this instrument's own in it.
const PROTOCOL: u32 = 1;
/// Between what went wrong and what to do about it, in the words of an error.
const HELP: &str = "; help: ";
