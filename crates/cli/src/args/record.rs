//! What says which record is meant and how a table is written, and the arguments of the commands that ask it.

use std::path::PathBuf;

use clap::ValueEnum;

use super::Window;

/// The heading of the options below. It is named at each, since one for all that follow would reach beyond them.
const UNSAID: &str = "What a file does not say itself";

/// What is stated of a record that does not say it itself.
#[derive(Clone, Debug, Default, clap::Args)]
pub(crate) struct Stated {
    /// An instrument recorded it, at this sample rate; otherwise a dump is taken as exact
    #[arg(help_heading = UNSAID, long, value_name = "RATE")]
    pub(crate) sampled: Option<String>,
    /// Largest difference in delay between two of its inputs
    #[arg(help_heading = UNSAID, long, value_name = "TIME")]
    pub(crate) skew: Option<String>,
    /// Largest error of its time base
    #[arg(help_heading = UNSAID, long, value_name = "PPM")]
    pub(crate) accuracy: Option<String>,
    /// Anything else that a setup's [import] section can state, such as time=ms, rows=samples, format=packed,
    /// width=2 or 'threshold=1.4 V'; once for each
    #[arg(help_heading = UNSAID, long, value_name = "KEY=VALUE")]
    pub(crate) import: Vec<String>,
    /// Of a damaged or cut file, read what is good
    #[arg(help_heading = UNSAID, long)]
    pub(crate) partial: bool,
}

/// Which record to look at.
#[derive(Debug, clap::Args)]
pub(crate) struct Source {
    /// A capture (.dtap), or a record: VCD, CSV, .npy, packed samples; '-' for standard input
    pub(crate) file: PathBuf,
    /// The setup to use, instead of the one in a capture
    #[arg(long, value_name = "FILE")]
    pub(crate) setup: Option<PathBuf>,
    /// A serial bus to try, in the words of a [[bus]] section, such as 'kind = "uart", line = "L3", bit-rate =
    /// "9600 Hz"'; it may take the place of one of the setup's
    #[arg(long, value_name = "WORDS")]
    pub(crate) with_bus: Vec<String>,
    #[command(flatten)]
    pub(crate) stated: Stated,
}

impl Source {
    /// A file as it is.
    pub(crate) fn of(file: PathBuf) -> Source {
        Source { file, setup: None, with_bus: Vec::new(), stated: Stated::default() }
    }
}

#[derive(Debug, clap::Args)]
pub(crate) struct Info {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Read every block and report damage
    #[arg(long)]
    pub(crate) verify: bool,
    /// Write the setup that the capture carries, with its limits files, into this folder, each file as it was
    #[arg(long, value_name = "FOLDER")]
    pub(crate) write_setup: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Mark {
    /// The capture (.dtap), which is written anew
    pub(crate) file: PathBuf,
    /// The name, by which --at, --around, --from and --to find it
    pub(crate) name: String,
    /// Where it is: a time, or an event, of which it is the first occurrence
    #[arg(allow_hyphen_values = true)]
    pub(crate) place: Option<String>,
    /// What is to be said of it
    pub(crate) text: Option<String>,
    /// Move a mark that is there already
    #[arg(long, conflicts_with = "remove")]
    pub(crate) replace: bool,
    /// Take the mark of this name away
    #[arg(long, conflicts_with_all = ["place", "text"])]
    pub(crate) remove: bool,
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
    #[command(flatten)]
    pub(crate) source: Source,
    /// What to look for, such as 'WE_N low for < 20 ns', or the name of an event of the setup
    pub(crate) event: String,
    /// Stop after this many occurrences
    #[arg(long, value_name = "N", num_args = 0..=1, default_missing_value = "1")]
    pub(crate) first: Option<u64>,
    /// Only say how many there are
    #[arg(long, conflicts_with_all = ["around", "first"])]
    pub(crate) count: bool,
    /// Draw the waveforms around each occurrence, at most ten of them
    #[arg(long)]
    pub(crate) around: bool,
    #[command(flatten)]
    pub(crate) window: Window,
    #[command(flatten)]
    pub(crate) table: Table,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Frames {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Serial buses to decode, or with --exchanges the exchanges to list; default: all that the setup describes
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) bus: Vec<String>,
    /// Only frames that meet tests as they stand after 'has' in an event, such as 'address == 0x51, nack'
    #[arg(long, value_name = "TESTS")]
    pub(crate) has: Option<String>,
    /// Only frames with a fault
    #[arg(long)]
    pub(crate) faults: bool,
    /// Transfers instead of frames: what one selection, one message, a write with its read carries
    #[arg(long)]
    pub(crate) transfers: bool,
    /// Exchanges instead of frames: what the setup's [[exchange]] sections describe, step by step
    #[arg(long, conflicts_with_all = ["transfers", "beside", "summary"])]
    pub(crate) exchanges: bool,
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
    #[command(flatten)]
    pub(crate) window: Window,
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
pub(crate) struct Roles {
    #[command(flatten)]
    pub(crate) source: Source,
    /// Write a setup that names the lines by what they are and describes the buses
    #[arg(long, value_name = "FILE")]
    pub(crate) write_setup: Option<PathBuf>,
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
