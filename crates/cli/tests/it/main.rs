//! Tests of the tool as a process.

/// Wrong input of every kind.
mod bad_input;
/// The tool as its users run it.
mod cli;
/// What both use.
mod support;
