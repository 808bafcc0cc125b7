//! Tests of the library through its public interface. Those of the tool are in `crates/cli/tests`.

/// Recording from an instrument that does not behave.
mod acquisition;
/// Analog lines: crossings, levels, files, and the bench they come from.
mod analog;
/// The stand-in bench's planted faults, found by `check`, and none on the healthy board.
mod bench;
mod buses;
/// Decoders of serial buses.
mod decode;
/// What the documents show.
mod diagnose;
mod docs;
/// How sure an occurrence is.
mod doubt;
/// Waveforms as text.
mod draw;
/// The capture container: round trips, cuts, flipped bits, hostile files.
mod dtap;
/// The event language: grammar, messages, state machines.
mod events;
/// The event language against a naive interpreter.
mod events_oracle;
/// Short pulses.
mod expect;
mod glitches;
/// Hand-computed verdicts on and beside every boundary.
mod kinds;
/// Order of knowledge between the core's modules.
mod layers;
mod limits;
/// Instruments over the network, on the loopback address.
mod measure;
mod more_buses;
mod network;
/// Boards of one's own, faults of any board, and the instrument's outputs.
mod own_board;
/// What fits an instrument, what is unwise, what a rate can decide.
mod plan;
/// The randomised proof: truth inside the bounds, no wrong verdict.
mod proof;
/// Quantities with units: parse and print.
mod quantities;
/// Packed samples into traces: vector instructions, portable code and a plain loop agree.
mod scan;
/// Setup and limits files.
mod setup;
/// What several modules use.
mod support;
/// The trace against a plain list of edges.
mod trace;
/// Value change dumps and CSV, and a real simulation.
mod vcd;
/// What the activity of the lines says about the leads.
mod wiring;
