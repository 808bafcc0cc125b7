//! The computation of Deep Tap.
//!
//! This crate knows no terminal, no argument parser, no printing and no sockets.
//!
//! Order of knowledge, left never knows right: `quantity` → `reader`, `time` → `line` → `capture` →
//! `scan`, `known`, `bus` → `decode`, `message` → `event` → `exchange`, `trigger`, `pair` → `measure` → `limit` → `expect` →
//! `instrument` → `plan` → `setup` → `format`, `diagnose` → `roles` → `job`.

pub mod bus;
pub mod capture;
pub mod compare;
pub mod decode;
pub mod diagnose;
mod error;
pub mod event;
pub mod exchange;
pub mod expect;
pub mod format;
pub mod instrument;
pub mod job;
pub mod known;
pub mod limit;
pub mod line;
pub mod measure;
pub mod message;
pub mod pair;
pub mod plan;
mod printable;
pub mod quantity;
pub mod reader;
pub mod roles;
pub mod scan;
pub mod setup;
pub mod time;
pub mod trigger;

pub use error::{Error, ErrorKind, Place, Result, TextPlace, suggest};
pub use printable::{printable, printable_lines};
