//! Tests of the tool as a process.

/// Wrong input of every kind.
mod bad_input;
/// The tool as its users run it.
mod cli;
/// Two records of the same thing.
mod compare;
/// What programs read, against the schemas.
mod contract;
mod depth;
/// Names and texts that want to do something.
mod hostile_names;
mod instruments;
/// Numbers and names that nobody means.
mod odd_values;
mod records;
/// The page to hand over.
mod report;
/// Programs that are started beside a recording.
mod started;
/// Captures longer than memory: killed, interrupted, repeated, on a full disk.
mod streaming;
/// What both use.
mod support;
/// The interactive view on a terminal.
#[cfg(all(unix, feature = "view"))]
mod view;
/// Limits while the samples arrive.
mod watch;
