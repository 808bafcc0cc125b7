//! The arguments as typed.

mod bench;
mod record;
mod result;
mod window;

use clap::{Parser, Subcommand};

pub(crate) use bench::{Capture, Changes, Demo, Init, Keep, Live, Plan, Serve, Watch};
pub(crate) use record::{
    Answers, Diagnose, Find, Format, Frames, Glitches, Info, Mark, Registers, Roles, Source, Stated, Table,
    Values,
};
#[cfg(feature = "view")]
pub(crate) use result::View;
pub(crate) use result::{Check, Compare, Convert, Ground, Layout, Measure, Report, Rule, Show, Target};
pub(crate) use window::Window;

const EXIT_CODES: &str = "\
Exit codes:
  0  done; for check: every limit passed; for plan: possible, wise, every limit can be decided
  1  check: a limit is violated, or an expectation; find, frames, registers, roles: nothing was found;
     answers: a request has none; compare: something differs
  2  wrong usage, or input that cannot be used
  3  check: nothing violated, but something inconclusive or not seen
     plan: possible, but something is unwise or cannot be decided
     live: a line is not as the setup says
     capture: the command of --when-armed failed
     diagnose: something is wrong with a bus
     measure --levels: a threshold lies off the middle of what its line does";

/// Records logic captures and measures them against datasheet timing limits.
#[derive(Debug, Parser)]
#[command(name = "deep-tap", version, about, after_help = EXIT_CODES, max_term_width = 100)]
pub(crate) struct Args {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// The whole job on the demo board: what each step does, what it found, and its command
    Demo(Demo),
    /// A first setup, from what a record or an instrument shows
    Init(Init),
    /// Whether a setup is possible, wise, and able to decide its limits, before anything is recorded
    #[command(after_help = EXIT_CODES)]
    Plan(Plan),
    /// The state of every line: high, low, toggling, never changed; renewed on a terminal
    #[command(after_help = EXIT_CODES)]
    Live(Live),
    /// Arm, wait for the trigger, record, save
    #[command(after_help = EXIT_CODES)]
    Capture(Capture),
    /// Record without end and check the limits on what arrives; keep only the surroundings of violations
    #[command(after_help = EXIT_CODES)]
    Watch(Watch),
    /// What a record holds, or what an instrument can do
    Info(Info),
    /// Every occurrence of an event
    #[command(after_help = EXIT_CODES)]
    Find(Find),
    /// The frames on serial buses: what was sent, when, and what is wrong with it
    #[command(after_help = EXIT_CODES)]
    Frames(Frames),
    /// The registers that are read and written behind a bus, by name and with their values
    #[command(after_help = EXIT_CODES)]
    Registers(Registers),
    /// Requests and their answers: how soon, and which have none
    #[command(after_help = EXIT_CODES)]
    Answers(Answers),
    /// Why a bus is not read as it was meant: bit rate, mode, swapped lines, parts that do not answer
    #[command(after_help = EXIT_CODES)]
    Diagnose(Diagnose),
    /// Which line is what, where lines have no names yet: kinds of buses, clock, select, data, mode, rate
    #[command(after_help = EXIT_CODES)]
    Roles(Roles),
    /// Pulses that are too short to be meant, per line and by width
    Glitches(Glitches),
    /// Widths, periods, frequency, duty, jitter, intervals between events, voltages; with statistics
    #[command(after_help = EXIT_CODES)]
    Measure(Measure),
    /// The datasheet limits, and what else is expected, against captures: the verdict table
    #[command(after_help = EXIT_CODES)]
    Check(Check),
    /// A name for an instant of a capture, which stays in it
    Mark(Mark),
    /// The waveforms of a capture: as text, SVG or PNG
    Show(Show),
    /// The waveforms of a record in the terminal, to move about in; of a setup, what its instrument sees
    #[cfg(feature = "view")]
    View(View),
    /// What differs between two records of the same thing: limits, frames, values, events, lines
    #[command(after_help = EXIT_CODES)]
    Compare(Compare),
    /// One page (HTML) to hand over: verdicts, waveforms, frames, how it was made; of one record or several
    Report(Report),
    /// Another file format
    Convert(Convert),
    /// An instrument of the bench, over the network (IEEE 488.2 and SCPI on TCP)
    Serve(Serve),
}
