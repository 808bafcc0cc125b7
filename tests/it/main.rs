//! Tests of the library through its public interface. Those of the tool are in `crates/cli/tests`.

/// Recording from an instrument that does not behave.
mod acquisition;
/// Analog lines: crossings, levels, files, and the bench they come from.
mod analog;
/// The stand-in bench's planted faults, found by `check`, and none on the healthy board.
mod bench;
/// Senders of the bench and other people's bus models, read as they spoke.
mod buses;
/// A capture is a setup.
mod carried;
/// Minimal records and their verdicts, worked out by hand.
mod cases;
/// Certain frames against what was truly sent.
mod certain;
/// The rate that is worth trying, and whether its chance is right: occurrences are drawn, what is open
mod chances;
/// Two records of the same thing.
mod compare;
/// Decoders of serial buses: known answers.
mod decode;
/// Wrong settings and wiring of a bus, each named.
mod diagnose;
/// What the documents show.
mod docs;
/// How sure an occurrence is.
mod doubt;
/// Waveforms as text.
mod draw;
/// The capture container: round trips, cuts, flipped bits, hostile files.
mod dtap;
/// Dumps as simulators write them, damage, and pieces that are read apart.
mod dumps;
/// The event language: grammar, messages, state machines.
mod events;
/// The event language against a naive interpreter.
mod events_oracle;
/// Transfers that belong together, against a reader by hand.
mod exchanges;
/// Messages, transfers and orders of states against what is expected.
mod expect;
/// Values and what they cause.
mod follow;
/// Short pulses.
mod glitches;
/// Voltages that hold until they change.
mod held;
/// Every kind of limit: known answers, and the truth of bits.
mod kinds;
/// All who measure an interval agree about it.
mod known;
/// Order of knowledge between the core's modules.
mod layers;
/// Hand-computed verdicts on and beside every boundary.
mod limits;
/// Lines that no input gives: made from analog ones, or left out of a run.
mod made_lines;
/// Planted mistakes against the first finding, on all kinds of buses.
mod matrix;
/// Intervals, jitter and levels: known answers.
mod measure;
/// The decoders that came later: known answers.
mod more_buses;
/// Instruments over the network, on the loopback address.
mod network;
/// Boards of one's own, faults of any board, and the instrument's outputs.
mod own_board;
/// What fits an instrument, what is unwise, what a rate can decide.
mod plan;
/// The randomised proof: truth inside the bounds, no wrong verdict.
mod proof;
/// Quantities with units: parse and print.
mod quantities;
/// Buses among lines without a meaning.
mod roles;
/// What is written and read back.
mod round_trips;
/// Packed samples into traces: vector instructions, portable code and a plain loop agree.
mod scan;
/// Senders of all kinds in continuous time.
mod senders;
/// Events of several parts in sampled records against what happened.
mod sequences;
/// Setup and limits files.
mod setup;
/// What several modules use.
mod support;
/// Tables, arrays and packed samples as other programs write them.
mod tables;
/// The trace against a plain list of edges.
mod trace;
/// Data in a row, transfers, and instants of a bus.
mod transfers;
/// All truths behind short records, and what is claimed of them.
mod truths;
/// Names of values.
mod value_names;
/// Value change dumps and CSV, and a real simulation.
mod vcd;
/// Limits on samples as they arrive, against the same samples stored.
mod watch;
/// What lies in a window against the whole record.
mod windows;
/// What the activity of the lines says about the leads.
mod wiring;
/// What lines may truly have done, and what a limit makes of it.
mod worlds;
