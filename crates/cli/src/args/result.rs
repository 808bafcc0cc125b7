//! Arguments of the commands that measure, judge, draw and write.

use std::path::{Path, PathBuf};

use clap::ValueEnum;

use super::{Format, Source, Stated, Table, Window};

#[derive(Debug, clap::Args)]
pub(crate) struct Measure {
    /// A capture (.dtap) or another record (VCD, CSV, .npy, packed samples), '-' for standard input; with --levels, a
    /// setup
    pub(crate) file: PathBuf,
    /// The setup to use, instead of the one in a capture
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
    #[arg(long, value_name = "NAME", conflicts_with_all = ["levels", "lines", "each", "from", "to"])]
    pub(crate) limit: Option<String>,
    /// Every value of a [[follow]] section of the setup: what was asked for, what showed, how long it took; with
    /// --picture, one against the other
    #[arg(long, value_name = "NAME", conflicts_with_all = ["levels", "lines", "each", "limit", "from", "to", "at", "histogram"])]
    pub(crate) follow: Option<String>,
    /// The numbers of each line around one place: a time, or the first occurrence of an event
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true,
          conflicts_with_all = ["levels", "each", "limit", "from", "to"])]
    pub(crate) at: Option<String>,
    /// The time from one place to another: times, marks or events; with its bounds where both are events
    #[arg(long, value_names = ["PLACE", "PLACE"], num_args = 2, allow_hyphen_values = true,
          conflicts_with_all = ["levels", "lines", "each", "limit", "from", "to", "at", "histogram", "picture", "average"])]
    pub(crate) between: Option<Vec<String>>,
    #[command(flatten)]
    pub(crate) window: Window,
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
    #[arg(long, conflicts_with_all = ["from", "to"])]
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
            follow: None,
            at: None,
            window: Window::default(),
            average: None,
            histogram: false,
            picture: Some(picture.to_path_buf()),
            ground: Ground::Light,
            levels: false,
            over: String::new(),
            steps: 2,
            between: None,
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
    /// The setup to use, instead of the one in a capture; another record needs one, or --try
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
    #[command(flatten)]
    pub(crate) window: Window,
    /// Lines and buses to show, in this order; all otherwise
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) lines: Vec<String>,
    /// Mark what a limit of the setup measures, such as 'U5.tDH': its worst occurrence, around which is
    /// shown if no place is given, and its violations
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) limit: Vec<String>,
    /// Mark a place by a name: 'boot=RESET_N rises', 'here=1.2 ms'; of several, the time between is drawn
    #[arg(long, value_name = "NAME=PLACE")]
    pub(crate) mark: Vec<String>,
    /// Draw the values of these groups of lines as a curve
    #[arg(long, value_name = "NAME", value_delimiter = ',', conflicts_with = "at")]
    pub(crate) curve: Vec<String>,
    /// Below each group of lines, its lines
    #[arg(long)]
    pub(crate) with_lines: bool,
    /// Of a picture: text and lines so many times as large, in the same width
    #[arg(long, value_name = "FACTOR", default_value_t = 1.0, requires = "output", value_parser = factor)]
    pub(crate) scale: f32,
    /// Of a picture: rows so many times as high
    #[arg(long, value_name = "FACTOR", default_value_t = 1.0, requires = "output", value_parser = height)]
    pub(crate) tall: f64,
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

/// How many times as large something is drawn.
fn factor(text: &str) -> Result<f32, String> {
    let factor = text.parse::<f32>().ok().filter(|factor| (0.5..=8.0).contains(factor));
    factor.ok_or_else(|| "give a number from 0.5 to 8".to_string())
}

/// How many times as high.
fn height(text: &str) -> Result<f64, String> {
    factor(text).map(f64::from)
}

impl Show {
    /// Everything of a record.
    pub(crate) fn of(source: Source) -> Self {
        Show {
            source,
            at: None,
            around: None,
            span: None,
            window: Window::default(),
            lines: Vec::new(),
            limit: Vec::new(),
            mark: Vec::new(),
            curve: Vec::new(),
            with_lines: false,
            scale: 1.0,
            tall: 1.0,
            width: None,
            output: None,
            ground: Ground::Light,
            replace: false,
        }
    }
}

#[cfg(feature = "view")]
#[derive(Debug, clap::Args)]
pub(crate) struct View {
    /// What is looked at; a setup (.toml) is one of an instrument, which is armed
    #[command(flatten)]
    pub(crate) source: Source,
    /// Begin with the cursor at this time, mark or event
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    pub(crate) at: Option<String>,
    /// With --at: begin so many steps nearer, each of half the time
    #[arg(long, value_name = "N", default_value_t = 6, requires = "at")]
    pub(crate) nearer: u8,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Compare {
    /// The first record: a capture (.dtap), or another one (VCD, CSV, .npy, packed samples)
    pub(crate) a: PathBuf,
    /// The second one, of the same thing: later, under load, of another board, after a change
    pub(crate) b: PathBuf,
    /// The setup to use for both, instead of those in captures
    #[arg(long, value_name = "FILE")]
    pub(crate) setup: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) stated: Stated,
    /// Lay the records over each other at the first occurrence of this event, instead of at their triggers
    #[arg(long, value_name = "EVENT")]
    pub(crate) zero: Option<String>,
    /// Times may differ by this much
    #[arg(long, value_name = "TIME", allow_hyphen_values = true)]
    pub(crate) tolerance: Option<String>,
    /// Also compare the time from one place to another; can be given several times
    #[arg(long, value_names = ["PLACE", "PLACE"], num_args = 2, action = clap::ArgAction::Append,
          allow_hyphen_values = true)]
    pub(crate) between: Vec<String>,
    /// Leave out lines, buses, fields (BUS.FIELD), limits, parts, expectations or events of these names
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) ignore: Vec<String>,
    /// Pulses below this are glitches; default: three ticks of the coarser record
    #[arg(long, value_name = "TIME", allow_hyphen_values = true)]
    pub(crate) glitches: Option<String>,
    /// Also list what is the same, and more of the frames that differ
    #[arg(long)]
    pub(crate) all: bool,
    /// Also write it as JUnit XML, a test case for each thing that is compared
    #[arg(long, value_name = "FILE")]
    pub(crate) junit: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) table: Table,
}

impl Compare {
    /// Two records, and nothing said besides.
    pub(crate) fn of(a: PathBuf, b: PathBuf) -> Self {
        Compare {
            a,
            b,
            setup: None,
            stated: Stated::default(),
            zero: None,
            tolerance: None,
            between: Vec::new(),
            ignore: Vec::new(),
            glitches: None,
            all: false,
            junit: None,
            table: Table { format: Format::Text, output: None, replace: false },
        }
    }
}

#[derive(Debug, clap::Args)]
pub(crate) struct Report {
    /// Captures (.dtap) or other records (VCD, CSV, .npy, packed samples); several stand side by side
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// The setup to use, instead of the one in a capture
    #[arg(long, value_name = "FILE")]
    pub(crate) setup: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) stated: Stated,
    /// What stands at its top; the setup's title otherwise
    #[arg(long, value_name = "TEXT")]
    pub(crate) title: Option<String>,
    /// Where to write; default: the record's name with .html, or report.html, in this folder; '-' for standard output
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Replace a file that is there already
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
    #[command(flatten)]
    pub(crate) window: Window,
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
