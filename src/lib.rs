//! Logic captures measured against datasheet timing limits.
//!
//! Deep Tap takes a recording of a board's digital lines and answers the question of every
//! bring-up: *what is really happening on these wires, and is it within what the parts allow?*
//! Every measured interval carries its uncertainty, so that a verdict is pass, fail, inconclusive
//! at this sample rate (and then it names a rate worth trying), or not seen; and never wrong under what
//! it takes for granted, which it says.
//!
//! ```
//! use deep_tap::capture::Capture;
//! use deep_tap::event::Scope;
//! use deep_tap::known::Rule;
//! use deep_tap::limit::{Limit, Verdict, check};
//!
//! // Samples at 100 MS/s with a write pulse of four: its true width lies between 30 ns and 50 ns.
//! let samples = [1u8, 1, 1, 0, 0, 0, 0, 1, 1, 1];
//! let capture = Capture::of_samples("100 MS/s", &["WE_N"], &samples)?;
//!
//! let verdict = |min: &str| -> deep_tap::Result<Verdict> {
//!     let width = Limit::width("tWP", "WE_N low").min(min).bind(&Scope::of(&capture))?;
//!     Ok(check(&capture, &width, Rule::Proven)?.verdict)
//! };
//! assert_eq!(verdict("30 ns")?, Verdict::Pass);
//! assert_eq!(verdict("35 ns")?, Verdict::Inconclusive);
//! assert_eq!(verdict("50 ns")?, Verdict::Fail);
//! # Ok::<(), deep_tap::Error>(())
//! ```
//!
//! # The mental model
//!
//! A [`setup`] says what to record and what to check. An [`instrument`] delivers blocks of samples;
//! [`scan`] turns them into traces, one per [line](mod@line); a [`capture`] is traces with a [`time`] base.
//! An [`event`] is an instant described in one small language, the same for triggers, searches and
//! limits. A [`limit`] is a row of a datasheet's timing table; checking it [pairs](pair) its events, works
//! out what is [`known`] of each interval, and decides each exactly. A [`job`] is a record with its setup,
//! where everything has a name. [format](mod@format) reads and writes files; [bench](mod@bench) has a simulated board and
//! instrument that behave like real ones; [`draw`] makes pictures.
//!
//! # By task
//!
//! | to | see |
//! |---|---|
//! | make a capture of samples at hand | [`capture::Capture::of_samples`], `examples/first_samples.rs` |
//! | open a capture or a dump with its setup, find things in it by name | [`job::Job`] |
//! | read a setup with its limits files | [`setup::Setup`] |
//! | ask whether a setup is possible, wise, able to decide | [`setup::Setup::plan`], [`plan::advice`], [`limit::BoundLimit::outlook`] |
//! | record from an instrument | [`setup::Setup::record`], or without a setup [`instrument::Acquisition`], `examples/first_instrument.rs` |
//! | record more than fits into memory | [`format::dtap::Recorder`] |
//! | see which lines are alive | [`measure::Activity`] |
//! | know the voltages of analog lines, or of all by moving thresholds | [`measure::voltage_levels`], [`setup::Setup::sweep_levels`] |
//! | know whether the leads are where they should be | [`setup::Setup::misfits`], [`setup::Setup::shift`] |
//! | use or serve an instrument over the network | [`bench::Remote`], [`bench::Server`] |
//! | bring an instrument of your own | [`instrument::Instrument`], `examples/own_instrument.rs` |
//! | open or save a capture | [`format::dtap`] |
//! | read or write a simulation's dump | [`format::vcd`] |
//! | search for an event | [`event::Program`], [`event::StreamSearch`] |
//! | know how well an interval is known | [`known::Precision`], [`known::Span`] |
//! | write a limit in code | [`limit::Limit`] |
//! | check limits | [`job::Job::check`], [`limit::check`], [`limit::check_all`]; over several captures [`limit::Runs`]; each violation [`limit::violations`] |
//! | measure intervals, pulses, jitter, with bounds | [`measure::chain`], [`measure::periods`], [`measure::widths`], [`measure::jitter`], [`measure::around`] |
//! | compare messages, transfers and orders of states with what is expected | [`expect::Expectation`] |
//! | describe transfers that belong together, and find them | [`exchange::Exchange`] |
//! | read a message from a source file, compute its checksum | [`message::Message`], [`message::file`] |
//! | draw waveforms or a histogram | [`draw::Sheet`], [`draw::Histogram`], as text [`draw::Picture`] |
//! | decode a serial bus | [`decode::SerialBus::frames`], several in order of time [`job::Job::frames`]; `examples/first_dump.rs`, with a decoder of your own `examples/own_decoder.rs` |
//! | know registers behind a bus by name, in units | [`decode::Registers`] |
//! | gather what belongs together on a bus | [`decode::SerialBus::transfers`], with ends of one's own [`decode::TransferEnds`] |
//! | know why a bus is not read as it was meant | [`diagnose::diagnose`] |
//! | know which line is what, where lines have no names | [`roles::roles`] |
//! | pair requests with their answers | [`measure::answers`]; events of any two kinds [`pair`] |
//! | ask a trace about a place | [`capture::Trace`] |
//!
//! # What is not here yet
//!
//! Proofs about state machines: in a sampled record, limits on them are inconclusive. Of the buses, USB is not
//! decoded.
//!
//! # Rules that hold everywhere
//!
//! - Ticks count from 0, the first sample; time zero is the trigger, and times before it are negative.
//! - Ranges include their start and exclude their end.
//! - Quantities are exact fractions; floating point appears in statistics and in JSON only.
//! - Nothing panics on any input. Indexing by a [`line::LineId`] of another capture is the one
//!   exception, and says so.
//! - What went wrong on the wire is data, never an [`Error`]; an error means that the work could
//!   not be done, and has a place and a remedy.

pub mod docs;

pub use deep_tap_bench as bench;
pub use deep_tap_core::{
    Error, ErrorKind, Place, Result, TextPlace, bus, capture, compare, decode, diagnose, event, exchange,
    expect, format, instrument, job, known, limit, line, measure, message, pair, plan, printable,
    printable_lines, quantity, roles, scan, setup, suggest, time, trigger,
};
pub use deep_tap_draw as draw;
