//! The arguments as typed.

use std::path::{Path, PathBuf};

use clap::{Parser, Subcommand, ValueEnum};

const EXIT_CODES: &str = "\
Exit codes:
  0  done; for check: every limit passed; for plan: possible, wise, every limit can be decided
  1  check: a limit is violated, or an expectation; find, frames, registers: nothing was found;
     answers: a request has none
  2  wrong usage, or input that cannot be used
  3  check: nothing violated, but something inconclusive or not seen
     plan: possible, but something is unwise or cannot be decided
     live: a line is not as the setup says
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
    Capture(Capture),
    /// What a capture holds
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
    /// Pulses that are too short to be meant, per line and by width
    Glitches(Glitches),
    /// Widths, periods, frequency, duty, jitter, intervals between events, voltages; with statistics
    #[command(after_help = EXIT_CODES)]
    Measure(Measure),
    /// The datasheet limits, and what else is expected, against captures: the verdict table
    #[command(after_help = EXIT_CODES)]
    Check(Check),
    /// The waveforms of a capture: as text, SVG or PNG
    Show(Show),
    /// Another file format
    Convert(Convert),
    /// An instrument of the bench, over the network (IEEE 488.2 and SCPI on TCP)
    Serve(Serve),
}

#[derive(Debug, clap::Args)]
pub(crate) struct Demo {
    /// Where to leave setup, limits, captures and verdicts
    #[arg(default_value = "deep-tap-demo")]
    pub(crate) folder: PathBuf,
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
    #[command(flatten)]
    pub(crate) stated: Stated,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Plan {
    /// The setup file
    pub(crate) setup: PathBuf,
    /// Another sample rate than the setup's, such as '250 MS/s'
    #[arg(long)]
    pub(crate) rate: Option<String>,
    /// As if recording at once, without waiting for the trigger
    #[arg(long)]
    pub(crate) now: bool,
    /// Only the trigger's states, as a graph in the DOT language
    #[arg(long)]
    pub(crate) dot: bool,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Live {
    /// The setup file
    pub(crate) setup: PathBuf,
    /// Another sample rate than the setup's, such as '250 MS/s'
    #[arg(long)]
    pub(crate) rate: Option<String>,
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
    /// The setup file
    pub(crate) setup: PathBuf,
    /// Where to save; the setup's name with .dtap otherwise
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Record at once, without waiting for the trigger
    #[arg(long)]
    pub(crate) now: bool,
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
    /// Another sample rate than the setup's, such as '250 MS/s'
    #[arg(long)]
    pub(crate) rate: Option<String>,
    /// Save under the next free number: NAME-0001.dtap, NAME-0002.dtap, …
    #[arg(long, conflicts_with_all = ["repeat", "replace"])]
    pub(crate) numbered: bool,
    /// Replace a file that is there already
    #[arg(long)]
    pub(crate) replace: bool,
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

/// Which record to look at.
/// What is stated of a record that does not say it itself.
#[derive(Clone, Debug, Default, clap::Args)]
#[command(next_help_heading = "What a file does not say itself")]
pub(crate) struct Stated {
    /// An instrument recorded it, at this sample rate; otherwise a dump is taken as exact
    #[arg(long, value_name = "RATE")]
    pub(crate) sampled: Option<String>,
    /// Largest difference in delay between two of its inputs
    #[arg(long, value_name = "TIME")]
    pub(crate) skew: Option<String>,
    /// Largest error of its time base
    #[arg(long, value_name = "PPM")]
    pub(crate) accuracy: Option<String>,
    /// Anything else that a setup's [import] section can state, such as time=ms, rows=samples, format=packed,
    /// width=2 or 'threshold=1.4 V'; once for each
    #[arg(long, value_name = "KEY=VALUE")]
    pub(crate) import: Vec<String>,
    /// Of a damaged or cut file, read what is good
    #[arg(long)]
    pub(crate) partial: bool,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Source {
    /// A capture (.dtap), or a record: VCD, CSV, .npy, packed samples; '-' for standard input
    pub(crate) file: PathBuf,
    /// The setup to use, instead of the one in the capture; a dump needs one to be checked
    #[arg(long, value_name = "FILE")]
    pub(crate) setup: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) stated: Stated,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Info {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Read every block and report damage
    #[arg(long)]
    pub(crate) verify: bool,
    #[command(flatten)]
    pub(crate) table: Table,
}

/// How a table is written.
#[derive(Clone, Debug, clap::Args)]
pub(crate) struct Table {
    /// Text for people, or CSV or JSON for programs
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    /// Write to a file instead of standard output
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Replace output files that are there already
    #[arg(long)]
    pub(crate) replace: bool,
}

/// How values of fields are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Values {
    /// 0x41, with the character that a byte may be
    Hex,
    /// 65
    Decimal,
    /// 0b01000001
    Binary,
    /// Data as characters, the rest as hex
    Text,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    Text,
    Csv,
    Json,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Find {
    /// A capture (.dtap) or a simulation's value change dump (.vcd)
    pub(crate) file: PathBuf,
    /// What to look for, such as 'WE_N low for < 20 ns', or the name of an event of the setup
    pub(crate) event: String,
    /// The setup to use, instead of the one in the capture
    #[arg(long, value_name = "FILE")]
    pub(crate) setup: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) stated: Stated,
    /// Stop after this many occurrences
    #[arg(long, value_name = "N", num_args = 0..=1, default_missing_value = "1")]
    pub(crate) first: Option<u64>,
    /// Only say how many there are
    #[arg(long, conflicts_with_all = ["around", "first"])]
    pub(crate) count: bool,
    /// Draw the waveforms around each occurrence, at most ten of them
    #[arg(long)]
    pub(crate) around: bool,
    /// Where to begin: a time, or an event whose first occurrence counts; the start of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) from: Option<String>,
    /// Where to end: a time, or an event; the end of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) to: Option<String>,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Frames {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Serial buses to decode; all that the setup describes otherwise
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) bus: Vec<String>,
    /// Only frames that meet tests as they stand after 'has' in an event, such as 'address == 0x51, nack'
    #[arg(long, value_name = "TESTS")]
    pub(crate) has: Option<String>,
    /// Only frames with a fault
    #[arg(long)]
    pub(crate) faults: bool,
    /// Only how many there are
    #[arg(long, conflicts_with_all = ["summary", "beside"])]
    pub(crate) count: bool,
    /// What each bus carried, in numbers: frames, bytes, load, bit rate, gaps, faults
    #[arg(long, conflicts_with = "beside")]
    pub(crate) summary: bool,
    /// The buses side by side, a column for each
    #[arg(long)]
    pub(crate) beside: bool,
    /// How values are written
    #[arg(long, value_enum, default_value_t = Values::Hex)]
    pub(crate) values: Values,
    /// Stop after this many frames
    #[arg(long, value_name = "N", num_args = 0..=1, default_missing_value = "1")]
    pub(crate) first: Option<u64>,
    /// Where to begin: a time, or an event whose first occurrence counts; the start of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) from: Option<String>,
    /// Where to end: a time, or an event; the end of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) to: Option<String>,
    /// Text for people, CSV, or JSON with an object a line
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    /// Save a table with a row for each field instead: .csv or .parquet
    #[arg(long, value_name = "FILE", conflicts_with_all = ["summary", "beside", "count", "format"])]
    pub(crate) table: Option<PathBuf>,
    /// Replace a table that is there already
    #[arg(long, requires = "table")]
    pub(crate) replace: bool,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Registers {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Buses to look at; all that can have registers otherwise
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) bus: Vec<String>,
    /// Only registers of these names
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) name: Vec<String>,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Answers {
    #[command(flatten)]
    pub(crate) source: Source,
    /// What asks, as an event, such as 'adc has mosi == 0x08'
    #[arg(long, value_name = "EVENT")]
    pub(crate) request: String,
    /// What answers, as an event, such as 'ADC_DRDY_N falls'
    #[arg(long, value_name = "EVENT")]
    pub(crate) answer: String,
    /// How soon an answer must come to count
    #[arg(long, value_name = "TIME")]
    pub(crate) within: Option<String>,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Diagnose {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Buses to look at; all that the setup gives a kind otherwise
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) bus: Vec<String>,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Glitches {
    #[command(flatten)]
    pub(crate) source: Source,
    /// What is too short, such as '50 ns'
    #[arg(long, value_name = "TIME")]
    pub(crate) below: String,
    /// Lines to look at; all otherwise
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) lines: Vec<String>,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Measure {
    /// A capture (.dtap) or a simulation's value change dump (.vcd); with --levels, a setup
    pub(crate) file: PathBuf,
    /// The setup to use, instead of the one in the capture
    #[arg(long, value_name = "FILE", conflicts_with = "levels")]
    pub(crate) setup: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) stated: Stated,
    /// Lines to measure, analog ones too; all otherwise. A single line is measured in full
    #[arg(long, value_name = "NAME", value_delimiter = ',', conflicts_with = "levels")]
    pub(crate) lines: Vec<String>,
    /// Intervals: from each of these events to the next of them, or with --until to what follows it
    #[arg(long, value_name = "EVENT", conflicts_with_all = ["levels", "lines"])]
    pub(crate) each: Option<String>,
    /// With --each: the event that ends the interval; several make a chain
    #[arg(long, value_name = "EVENT", requires = "each")]
    pub(crate) until: Vec<String>,
    /// The values of a limit of the setup, such as 'U5.tDH'
    #[arg(long, value_name = "NAME", conflicts_with_all = ["levels", "lines", "each"])]
    pub(crate) limit: Option<String>,
    /// The numbers of each line around one place: a time, or the first occurrence of an event
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true,
          conflicts_with_all = ["levels", "each", "limit", "from", "to"])]
    pub(crate) at: Option<String>,
    /// Where to begin: a time, or an event whose first occurrence counts; the start of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true, conflicts_with_all = ["levels", "limit"])]
    pub(crate) from: Option<String>,
    /// Where to end: a time, or an event; the end of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true, conflicts_with_all = ["levels", "limit"])]
    pub(crate) to: Option<String>,
    /// Means of so many periods each, too
    #[arg(long, value_name = "N", conflicts_with_all = ["levels", "limit", "at"],
          value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) average: Option<u64>,
    /// A histogram of the intervals, or of a limit's values
    #[arg(long)]
    pub(crate) histogram: bool,
    /// The same as a picture: .svg or .png
    #[arg(long, value_name = "FILE")]
    pub(crate) picture: Option<PathBuf>,
    /// Light or dark ground of the picture
    #[arg(long, value_enum, default_value_t = Ground::Light)]
    pub(crate) ground: Ground,
    /// Move the thresholds of the setup's lines and see at which voltages they change
    #[arg(long)]
    pub(crate) levels: bool,
    /// With --levels: how much signal to record at each threshold
    #[arg(long, value_name = "TIME", default_value = "20 ms", requires = "levels")]
    pub(crate) over: String,
    /// With --levels: steps from the lowest threshold to the highest
    #[arg(long, value_name = "N", default_value_t = 30, requires = "levels",
          value_parser = clap::value_parser!(u32).range(2..=1000))]
    pub(crate) steps: u32,
    /// With --levels: another sample rate than the setup's, such as '10 MS/s'
    #[arg(long, requires = "levels")]
    pub(crate) rate: Option<String>,
    #[command(flatten)]
    pub(crate) table: Table,
}

impl Measure {
    /// A picture of the values of a limit.
    pub(crate) fn of_limit(file: &Path, limit: &str, picture: &Path, replace: bool) -> Self {
        Measure {
            file: file.to_path_buf(),
            setup: None,
            stated: Stated::default(),
            lines: Vec::new(),
            each: None,
            until: Vec::new(),
            limit: Some(limit.to_string()),
            at: None,
            from: None,
            to: None,
            average: None,
            histogram: false,
            picture: Some(picture.to_path_buf()),
            ground: Ground::Light,
            levels: false,
            over: String::new(),
            steps: 2,
            rate: None,
            table: Table { format: Format::Text, output: None, replace },
        }
    }
}

/// The ground of a picture.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Ground {
    /// Dark lines on light ground
    #[default]
    Light,
    /// Light lines on dark ground
    Dark,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Check {
    /// Captures (.dtap) or other records (VCD, CSV, .npy, packed samples); of several, the worst of each limit
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// The setup to use, instead of the one in the capture; a dump needs one to be checked
    #[arg(long, value_name = "FILE")]
    pub(crate) setup: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) stated: Stated,
    /// Only limits with these symbols, of these parts, or of these groups: 'tDH', 'U5', 'U5.tDH'
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) only: Vec<String>,
    /// Try a limit that stands in no file: kind, events, then what is required, as in
    /// 'width of WE_N low, min 35 ns' or 'setup of DQ to WE_N rises, min 5 ns'
    #[arg(long = "try", value_name = "LIMIT")]
    pub(crate) tried: Vec<String>,
    /// How a value near its limit is decided
    #[arg(long, value_enum, default_value_t = Rule::Proven)]
    pub(crate) rule: Rule,
    /// List every violation with its instant and value; those in a row as one line
    #[arg(long)]
    pub(crate) all: bool,
    /// Also write the verdicts as JUnit XML, a test case for each limit
    #[arg(long, value_name = "FILE")]
    pub(crate) junit: Option<PathBuf>,
    /// Also write every occurrence of every limit, as a table: .csv, .parquet, or a folder of these by board
    /// and part
    #[arg(long, value_name = "FILE")]
    pub(crate) occurrences: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Rule {
    /// Pass and fail must each be proven, whatever the uncertainty
    Proven,
    /// The counted value is taken for the true one
    Measured,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Show {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Levels and values at a place (a time, or the first occurrence of an event), with the edges around it
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true,
          conflicts_with_all = ["around", "from", "to", "limit", "output"])]
    pub(crate) at: Option<String>,
    /// Waveforms around a place
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true, conflicts_with_all = ["from", "to"])]
    pub(crate) around: Option<String>,
    /// With --around or --limit: how much time to show; a tick per column, or what the limit takes, otherwise
    #[arg(long, value_name = "TIME")]
    pub(crate) span: Option<String>,
    /// Where to begin: a time, or an event whose first occurrence counts; the start of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) from: Option<String>,
    /// Where to end: a time, or an event; the end of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) to: Option<String>,
    /// Lines and buses to show, in this order; all otherwise
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) lines: Vec<String>,
    /// Mark what a limit of the setup measures, such as 'U5.tDH': its worst occurrence, around which is
    /// shown if no place is given, and its violations
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) limit: Vec<String>,
    /// Mark a place by a name: 'boot=RESET_N rises', 'here=1.2 ms'
    #[arg(long, value_name = "NAME=PLACE")]
    pub(crate) mark: Vec<String>,
    /// Columns of text, the terminal's otherwise; or pixels of a picture, 1280 otherwise
    #[arg(long)]
    pub(crate) width: Option<usize>,
    /// Save a picture instead: .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Light or dark ground of the picture
    #[arg(long, value_enum, default_value_t = Ground::Light)]
    pub(crate) ground: Ground,
    /// Replace a picture that is there already
    #[arg(long)]
    pub(crate) replace: bool,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Convert {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Where to write: .dtap, .vcd, .csv or .npy; '-' for standard output, with --as
    pub(crate) output: PathBuf,
    /// The format, when the name does not say it
    #[arg(long = "as", value_enum, value_name = "FORMAT")]
    pub(crate) target: Option<Target>,
    /// Only from here on: a time, or an event, of which it is the first occurrence
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) from: Option<String>,
    /// Only up to here: a time, or an event after --from
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) to: Option<String>,
    /// Only these lines and analog lines, in this order; of a bus, all its lines
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) lines: Vec<String>,
    /// Take pulses shorter than this out first, and say so in the history
    #[arg(long, value_name = "TIME")]
    pub(crate) remove_below: Option<String>,
    /// Lines to take pulses out of; default: all
    #[arg(long, value_name = "NAME", value_delimiter = ',', requires = "remove_below")]
    pub(crate) remove_on: Vec<String>,
    /// Add a digital line that an analog one makes at a threshold, and say so in the history
    #[arg(long, value_name = "'NAME = ANALOG at VOLTAGE'")]
    pub(crate) derive: Vec<String>,
    /// Rows of a CSV
    #[arg(long, value_enum, default_value_t = Layout::Changes)]
    pub(crate) layout: Layout,
    /// Replace a file that is there already
    #[arg(long)]
    pub(crate) replace: bool,
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

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Target {
    /// A capture
    Dtap,
    /// A value change dump
    Vcd,
    /// A table
    Csv,
    /// Packed samples, the least significant byte first
    Packed,
    /// An array of packed samples
    Npy,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Layout {
    /// One row per change
    Changes,
    /// One row per tick
    Samples,
}
