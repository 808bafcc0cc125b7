//! Arguments of the commands that use an instrument.

use std::path::PathBuf;

use clap::ValueEnum;
use deep_tap::Error;
use deep_tap::setup::{RunChanges, Setup};

use super::{Stated, Table};

#[derive(Debug, clap::Args)]
pub(crate) struct Demo {
    /// Where to leave setup, limits, captures and verdicts
    #[arg(default_value = "deep-tap-demo")]
    pub(crate) folder: PathBuf,
    /// Tell all of it, step by step, and not only its turns
    #[arg(long)]
    pub(crate) full: bool,
    /// Replace what an earlier demo left there
    #[arg(long)]
    pub(crate) replace: bool,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Init {
    /// A record (VCD, CSV, .npy, packed samples), or an instrument as in a setup's connect line
    pub(crate) source: PathBuf,
    /// Where to write; default: the source's name with .toml, in this folder; '-' for standard output
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// A part on the board, by its reference and its limits file, such as U5=parts/ex-mem8.toml: a line is proposed
    /// for each of its pins
    #[arg(long, value_name = "REFERENCE=FILE")]
    pub(crate) part: Vec<String>,
    #[command(flatten)]
    pub(crate) stated: Stated,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Plan {
    /// The setup file, or a capture: what it was recorded with
    pub(crate) setup: PathBuf,
    #[command(flatten)]
    pub(crate) changes: Changes,
    /// As if recording at once, without waiting for the trigger
    #[arg(long, conflicts_with = "trigger")]
    pub(crate) now: bool,
    /// Instead, which lead goes where: input, line, pins, threshold, swing against what the input stands
    #[arg(long, conflicts_with = "dot")]
    pub(crate) wiring: bool,
    /// Only the trigger's states, as a graph in the DOT language
    #[arg(long)]
    pub(crate) dot: bool,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Live {
    /// The setup file, or a capture: what it was recorded with
    pub(crate) setup: PathBuf,
    /// Another sample rate than the setup's, such as '250 MS/s'
    #[arg(long)]
    pub(crate) rate: Option<String>,
    /// Only these lines, which leaves room for a higher rate
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) lines: Vec<String>,
    /// How much signal one table is about, when it is not renewed
    #[arg(long, value_name = "TIME", default_value = "100 ms")]
    pub(crate) over: String,
    /// One table, also on a terminal
    #[arg(long)]
    pub(crate) once: bool,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Capture {
    /// The setup file, or a capture: what it was recorded with
    pub(crate) setup: PathBuf,
    /// Where to save; the setup's name with .dtap otherwise
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Record at once, without waiting for the trigger
    #[arg(long, conflicts_with = "trigger")]
    pub(crate) now: bool,
    #[command(flatten)]
    pub(crate) changes: Changes,
    /// Start this command of the shell when the instrument waits, such as one that resets the board; it is stopped
    /// after the recording
    #[arg(long, value_name = "CMD")]
    pub(crate) when_armed: Option<String>,
    /// Record again and again, N times or until interrupted, into numbered files
    #[arg(long, value_name = "N", num_args = 0..=1, default_missing_value = "18446744073709551615",
          hide_default_value = true)]
    pub(crate) repeat: Option<u64>,
    /// With --repeat: check the limits in each capture, and at the end over all of them
    #[arg(long, requires = "repeat")]
    pub(crate) check: bool,
    /// With --check: which captures stay on disk
    #[arg(long, value_enum, default_value_t, requires = "check")]
    pub(crate) keep: Keep,
    /// Save under the next free number: NAME-0001.dtap, NAME-0002.dtap, …
    #[arg(long, conflicts_with_all = ["repeat", "replace"])]
    pub(crate) numbered: bool,
    /// Replace a file that is there already
    #[arg(long)]
    pub(crate) replace: bool,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Watch {
    /// The setup file, or a capture: what it was recorded with
    pub(crate) setup: PathBuf,
    /// Only limits with these symbols, of these parts, or of these groups: 'tDH', 'U5', 'U5.tDH'
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) only: Vec<String>,
    /// End after so much signal, such as '10 s' or '1 h'
    #[arg(long = "for", value_name = "TIME")]
    pub(crate) lasting: Option<String>,
    /// End after so many violations
    #[arg(long, value_name = "N")]
    pub(crate) until_violations: Option<u64>,
    /// Of how many violations of each limit the surroundings are kept, as captures
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) keep: u64,
    /// How much is kept before and after a violation
    #[arg(long, value_name = "TIME", default_value = "1 ms")]
    pub(crate) around: String,
    /// Where captures are kept
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    pub(crate) into: PathBuf,
    /// Another sample rate than the setup's, for this run: '250 MS/s', or 'max'
    #[arg(long)]
    pub(crate) rate: Option<String>,
    /// Only these lines, for this run, which leaves room for a higher rate
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) lines: Vec<String>,
    /// Start this command of the shell when the instrument records, such as one that resets the board; it is stopped
    /// at the end
    #[arg(long, value_name = "CMD")]
    pub(crate) when_armed: Option<String>,
    /// Also write the verdicts as JUnit XML, a test case for each limit
    #[arg(long, value_name = "FILE")]
    pub(crate) junit: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) table: Table,
}

/// What one run changes of its setup, in the setup's own words.
#[derive(Debug, Default, clap::Args)]
pub(crate) struct Changes {
    /// Another sample rate than the setup's, for this run: '250 MS/s', or 'max'
    #[arg(long)]
    pub(crate) rate: Option<String>,
    /// Wait for this event instead of the setup's trigger, for this run: 'RESET_N rises', or the name of one
    #[arg(long, value_name = "EVENT")]
    pub(crate) trigger: Option<String>,
    /// Record so long instead, for this run: '5 ms', or 'max'
    #[arg(long, value_name = "TIME")]
    pub(crate) length: Option<String>,
    /// Record so much of it before the trigger, for this run: '25 %', or '2 ms'
    #[arg(long, value_name = "PART")]
    pub(crate) before_trigger: Option<String>,
    /// Record only these lines, for this run, which leaves room for a higher rate or a longer record
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) lines: Vec<String>,
}

impl Changes {
    /// The setup for this run.
    pub(crate) fn to(&self, setup: Setup) -> Result<Setup, Error> {
        let mut changes = RunChanges::default();
        changes.rate.clone_from(&self.rate);
        changes.trigger.clone_from(&self.trigger);
        changes.length.clone_from(&self.length);
        changes.before.clone_from(&self.before_trigger);
        changes.lines.clone_from(&self.lines);
        setup.changed(&changes)
    }
}

/// Which of many captures are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Keep {
    /// Every one
    #[default]
    All,
    /// Only those with a violation
    Violating,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Serve {
    /// What to serve, written as in a setup's connect line
    #[arg(default_value = "bench:tide-gauge")]
    pub(crate) what: String,
    /// Address and port to listen at; other machines reach it at 0.0.0.0:5025
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:5025")]
    pub(crate) listen: String,
    /// How long a client may say nothing before it is dropped, unless its recording is running
    #[arg(long, value_name = "TIME", default_value = "600 s")]
    pub(crate) idle: String,
    /// Only the table of all commands that are understood
    #[arg(long)]
    pub(crate) commands: bool,
}
