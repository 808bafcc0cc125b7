//! Setup and limits files: everything that one acquisition needs, in texts that a person writes.
//!
//! All problems of all files are reported at once, each with its place and a remedy.

mod apply;
mod changed;
mod described;
mod draft;
mod figures;
mod files;
mod import;
mod levels;
mod load;
mod names;
mod parts;
mod record;
mod section;
mod session;
mod sheet;
mod sink;
mod source;
mod tried;
mod vectors;
mod watch;
mod wired;
mod wiring;

pub use changed::RunChanges;
pub use import::{ByteOrder, DecimalMark, EmptyCell, Import, Numbers, RecordFormat, Rows, Separator, Times};
pub use levels::{SweptLevel, SweptLine};
pub use record::RecordOptions;
pub use session::Session;
pub use sheet::Lead;
pub use sink::CaptureSink;
pub use source::{Attached, Texts};
pub(crate) use source::{bytes_of, is_capture, split_carried};
pub use watch::{WatchOptions, Watched};
pub use wiring::Misfit;

use self::vectors::Vectors;
use crate::capture::{Attachment, Capture};
use crate::decode::{Register, SerialBus};
use crate::error::{Error, ErrorKind, Result};
use crate::event::{Scope, StateMachine};
use crate::exchange::Exchange;
use crate::expect::Expectation;
use crate::instrument::Stimulus;
use crate::limit::{BoundLimit, Part};
use crate::line::{AnalogId, AnalogLine, Bus, Level, Line, VoltageRange};
use crate::plan::{Before, Length, Speed};
use crate::quantity::{Rate, Time, Voltage};

/// Everything that one acquisition needs.
///
/// ```
/// use deep_tap_core::capture::Attachment;
/// use deep_tap_core::setup::{Attached, Setup};
///
/// let text = r#"
///     [sampling]
///     rate = "100 MS/s"
///     length = "20 ms"
///
///     [[line]]
///     name = "RESET_N"
///     input = 3
///
///     [trigger]
///     event = "RESET_N rises"
/// "#;
/// let texts = [Attachment { name: "power-up.toml".into(), text: text.into() }];
/// let setup = Setup::load("power-up.toml", &Attached(&texts))?;
/// assert_eq!(setup.lines[0].line.name, "RESET_N");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, Default)]
pub struct Setup {
    /// What it is for.
    pub title: Option<String>,
    /// What to connect to, such as `bench:tide-gauge`.
    pub connect: Option<String>,
    /// Whether a capture names that, and not a file that somebody wrote here.
    pub connect_carried: bool,
    /// Rate and length of the record; `None` when the file does not say, as for imports.
    pub sampling: Option<Sampling>,
    /// How long to wait for the trigger, by the instrument's clock; `None` for ever.
    pub time_out: Option<Time>,
    /// What is stated of an imported record.
    pub import: Import,
    /// The lines.
    pub lines: Vec<SetupLine>,
    /// The analog lines.
    pub analog: Vec<SetupAnalog>,
    /// What the instrument sends out while it records.
    pub stimuli: Vec<Stimulus>,
    /// The parallel buses, over the lines by number.
    pub buses: Vec<Bus>,
    /// The serial buses.
    pub serial: Vec<SerialBus>,
    /// What is known of the registers behind them.
    pub registers: Vec<Register>,
    /// Transfers that belong together.
    pub exchanges: Vec<Exchange>,
    /// The same, as buses whose frames they are.
    pub exchanged: Vec<SerialBus>,
    /// The named events, each with its text.
    pub events: Vec<(String, String)>,
    /// What to wait for; `None` to record at once.
    pub trigger: Option<Trigger>,
    /// The parts bound to the board, with all limits that are checked.
    pub parts: Vec<PlacedPart>,
    /// What is expected of a record besides timing.
    pub expectations: Vec<Expectation>,
    /// Places of a record that have a name.
    pub marks: Vec<SetupMark>,
    /// What was [changed](Setup::changed) for one run, in words.
    pub changes: Vec<String>,
    /// The texts it was made from; its own first.
    pub texts: Vec<Attachment>,
}

/// A place of a record that has a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SetupMark {
    /// Its name.
    pub name: String,
    /// A time, or an event, of which it is the first occurrence.
    pub at: String,
    /// What is to be said of it; may be empty.
    pub text: String,
}

impl SetupMark {
    /// Whether a place is a time, and not an event.
    pub(crate) fn is_time(at: &str) -> bool {
        at.trim_start().starts_with(|c: char| c.is_ascii_digit() || "+-.".contains(c))
    }
}

/// What a setup waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trigger {
    /// An event, or the name of one.
    Event(String),
    /// A state machine.
    States(StateMachine),
    /// The first proven violation of one of these limits, by the names that [`Setup::limits_named`] takes; of any where
    /// there are none.
    Violation(Vec<String>),
}

/// Rate and length of a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sampling {
    /// Sample rate.
    pub speed: Speed,
    /// Length.
    pub length: Length,
    /// Part of it before the trigger.
    pub before: Before,
    /// Sample rate of the analog lines, if stated.
    pub analog_rate: Option<Rate>,
}

/// An analog line with what the setup says about its voltage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SetupAnalog {
    /// The line.
    pub line: AnalogLine,
    /// The voltages that are expected, if stated.
    pub range: Option<VoltageRange>,
}

/// A line with what the setup says about its signal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SetupLine {
    /// The line.
    pub line: Line,
    /// Highest voltage on it, if stated.
    pub swing: Option<Voltage>,
    /// The level it rests at while nothing goes on, if stated.
    pub rests: Option<Level>,
    /// Where its levels come from.
    pub source: LevelSource,
}

/// Where the levels of a line come from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum LevelSource {
    /// An input of the instrument.
    #[default]
    Input,
    /// An analog line, which the line's threshold parts into low and high.
    Analog {
        /// Which one of the setup's.
        analog: AnalogId,
        /// How wide the band around the threshold is in which the level stays what it was; the narrowest that
        /// the error of the samples allows where that is not stated.
        hysteresis: Option<Voltage>,
    },
    /// Nothing: it is left out of this run, and unknown.
    LeftOut,
}

/// A part on the board.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlacedPart {
    /// Its reference, such as `U3`.
    pub reference: String,
    /// The part.
    pub part: Part,
    /// Its limits, bound to the board's lines.
    pub limits: Vec<BoundLimit>,
    /// Its pins, each with the line or the bus that it is wired to.
    pub pins: Vec<(String, String)>,
    /// Symbols of the limits left out because a pin they need is not wired.
    pub not_wired: Vec<String>,
}

impl PlacedPart {
    /// The pins that are not wired, as `U5.OE_N`.
    pub fn open_pins(&self) -> impl Iterator<Item = String> {
        let open = |name: &str| self.pins.iter().all(|(pin, _)| pin != name);
        let pins = self.part.pins.iter().filter(move |pin| open(&pin.name));
        pins.map(|pin| format!("{}.{}", self.reference, pin.name))
    }
}

impl Setup {
    /// Reads a setup and everything it refers to.
    ///
    /// # Errors
    /// All problems at once: the first as the error, the others as its
    /// [`related`](crate::Error::related).
    pub fn load(name: &str, texts: &dyn Texts) -> Result<Setup> {
        load::load(name, texts, &Vectors::None)
    }

    /// Reads a setup for a record, whose vectors its buses may name.
    ///
    /// # Errors
    /// As [`load`](Setup::load).
    pub fn load_for(name: &str, texts: &dyn Texts, record: &Capture) -> Result<Setup> {
        load::load(name, texts, &Vectors::of(record))
    }

    /// What a setup states of records, after everything else in it was checked as far as it can be without one.
    ///
    /// # Errors
    /// As [`load`](Setup::load).
    pub fn load_import(name: &str, texts: &dyn Texts) -> Result<Import> {
        load::load(name, texts, &Vectors::Later)?;
        load::import_of(name, texts)
    }

    /// Reads the setup that a capture carries; `None` when it carries none.
    ///
    /// # Errors
    /// As [`load`](Setup::load).
    pub fn of_capture(capture: &Capture) -> Option<Result<Setup>> {
        let own = capture.attachments().first()?;
        Some(Setup::load_for(&own.name, &Attached(capture.attachments()), capture))
    }

    /// All limits to check, in the order of the files.
    pub fn limits(&self) -> impl Iterator<Item = &BoundLimit> {
        self.parts.iter().flat_map(|p| &p.limits)
    }

    /// The limits that names mean: a limit, its symbol, a part or a group; all where none is given. A name may also be
    /// that of an expectation.
    ///
    /// # Errors
    /// When nothing has a name that is given.
    pub fn limits_named(&self, names: &[impl AsRef<str>]) -> Result<Vec<&BoundLimit>> {
        for name in names.iter().map(AsRef::as_ref) {
            let expected = self.expectations.iter().any(|e| e.name == *name);
            if !expected && !self.limits().any(|limit| limit.is_meant_by(name)) {
                let known: Vec<String> = self.limits().map(BoundLimit::name).collect();
                let message = format!("there is no limit, part or group '{name}'");
                return Err(Error::new(ErrorKind::Unknown, message)
                    .with_help(format!("there are: {}", known.join(", "))));
            }
        }
        let wanted = |limit: &&BoundLimit| {
            names.is_empty() || names.iter().any(|name| limit.is_meant_by(name.as_ref()))
        };
        Ok(self.limits().filter(wanted).collect())
    }

    /// Limits left out because a pin that they need is not wired, as `U5.tWP`.
    pub fn left_out(&self) -> Vec<String> {
        let of = |part: &PlacedPart| {
            let name = |symbol: &String| format!("{}.{symbol}", part.reference);
            part.not_wired.iter().map(name).collect::<Vec<_>>()
        };
        self.parts.iter().flat_map(of).collect()
    }

    /// The pins that are not wired, as `U5.OE_N`.
    pub fn open_pins(&self) -> Vec<String> {
        self.parts.iter().flat_map(PlacedPart::open_pins).collect()
    }

    fn names(&self) -> names::Names<'_> {
        names::Names {
            lines: &self.lines,
            analog: &self.analog,
            buses: &self.buses,
            serial: &self.serial,
            exchanged: &self.exchanged,
            events: &self.events,
        }
    }

    /// The names that an expression may use: lines, analog lines, buses and named events.
    pub fn scope(&self) -> Scope {
        let mut scope = Scope::new();
        names::define_all(&mut scope, self.names());
        scope
    }
}
