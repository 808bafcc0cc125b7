//! Setup and limits files: everything that one acquisition needs, in texts that a person writes.
//!
//! All problems of all files are reported at once, each with its place and a remedy.

mod draft;
mod figures;
mod files;
mod levels;
mod load;
mod names;
mod parts;
mod record;
mod section;
mod source;
mod wiring;

pub use levels::{SweptLevel, SweptLine};
pub use record::{CaptureSink, RecordOptions};
pub use source::{Attached, Folder, Texts};
pub use wiring::Misfit;

use std::path::Path;

use crate::capture::{Attachment, Capture};
use crate::decode::{Register, SerialBus};
use crate::error::{Error, ErrorKind, Result};
use crate::event::{Scope, StateMachine};
use crate::expect::Expectation;
use crate::instrument::Stimulus;
use crate::limit::{BoundLimit, Part};
use crate::line::{AnalogLine, Bus, Input, Level, Line, VoltageRange};
use crate::plan::{Before, Length, Speed};
use crate::quantity::{Percent, Rate, Time, Voltage};
use crate::time::{MAX_TICKS, Moment, Resolution, Tick};

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
#[derive(Clone, Debug)]
pub struct Setup {
    /// What it is for.
    pub title: Option<String>,
    /// What to connect to, such as `bench:tide-gauge`.
    pub connect: Option<String>,
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
    /// The named events, each with its text.
    pub events: Vec<(String, String)>,
    /// What to wait for; `None` to record at once.
    pub trigger: Option<Trigger>,
    /// The parts bound to the board, with all limits that are checked.
    pub parts: Vec<PlacedPart>,
    /// What is expected of a record besides timing.
    pub expectations: Vec<Expectation>,
    /// The texts it was made from; its own first.
    pub texts: Vec<Attachment>,
}

/// What is stated of a record that comes from a file, since the file does not say so itself.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Import {
    /// From one sample to the next: the record was sampled, and its times are those of samples.
    pub period: Option<Time>,
    /// Largest difference in delay between any two inputs.
    pub skew: Option<Time>,
    /// Largest relative error of the time base.
    pub accuracy: Option<Percent>,
    /// Extra uncertainty of every interval, to either side.
    pub uncertainty: Option<Time>,
    /// How long after its first instant its time zero is.
    pub zero: Option<Time>,
    /// When it was recorded.
    pub made: Option<Moment>,
}

impl Import {
    /// The same with what another one states in the place of this.
    #[must_use]
    pub fn overlaid(self, over: Import) -> Import {
        Import {
            period: over.period.or(self.period),
            skew: over.skew.or(self.skew),
            accuracy: over.accuracy.or(self.accuracy),
            uncertainty: over.uncertainty.or(self.uncertainty),
            zero: over.zero.or(self.zero),
            made: over.made.or(self.made),
        }
    }

    /// The record of which this is stated.
    ///
    /// # Errors
    /// As [`Capture::on_grid`]; and when time zero is too far away to be counted.
    pub fn apply(&self, record: Capture) -> Result<Capture> {
        let own = *record.resolution();
        let resolution = Resolution {
            sampled: own.sampled || self.period.is_some(),
            skew: self.skew.unwrap_or(own.skew),
            accuracy: self.accuracy.unwrap_or(own.accuracy),
            extra: self.uncertainty.unwrap_or(own.extra),
        };
        let record = match self.period {
            Some(period) => record.on_grid(period, resolution)?,
            None => record.into_builder().resolution(resolution).build()?,
        };
        let (mut base, mut origin) = (record.base(), record.origin().clone());
        if let Some(zero) = self.zero {
            let tick = base.ticks_in(zero).and_then(|ticks| u64::try_from(ticks.round()).ok());
            let tick = tick.filter(|tick| *tick < MAX_TICKS).ok_or_else(|| {
                Error::new(ErrorKind::Range, format!("time zero cannot be {zero} after the first instant"))
                    .with_help("state how long after the beginning of the record it is")
            })?;
            base = base.with_zero(Tick(tick));
        }
        origin.made = self.made.or(origin.made);
        record.into_builder().base(base).origin(origin).build()
    }
}

/// What a setup waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trigger {
    /// An event, or the name of one.
    Event(String),
    /// A state machine.
    States(StateMachine),
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
    /// Symbols of the limits left out because a pin they need is not wired.
    pub not_wired: Vec<String>,
}

impl Setup {
    /// Reads a setup and everything it refers to.
    ///
    /// # Errors
    /// All problems at once: the first as the error, the others as its
    /// [`related`](Error::related).
    pub fn load(name: &str, texts: &dyn Texts) -> Result<Setup> {
        load::load(name, texts)
    }

    /// Reads a setup file and the files it refers to.
    ///
    /// # Errors
    /// As [`load`](Setup::load).
    pub fn from_file(path: &Path) -> Result<Setup> {
        let (folder, name) = Folder::of(path)?;
        Setup::load(&name, &folder)
    }

    /// Reads the setup that a capture carries; `None` when it carries none.
    ///
    /// # Errors
    /// As [`load`](Setup::load).
    pub fn of_capture(capture: &Capture) -> Option<Result<Setup>> {
        let own = capture.attachments().first()?;
        Some(Setup::load(&own.name, &Attached(capture.attachments())))
    }

    /// All limits to check, in the order of the files.
    pub fn limits(&self) -> impl Iterator<Item = &BoundLimit> {
        self.parts.iter().flat_map(|p| &p.limits)
    }

    fn names(&self) -> names::Names<'_> {
        names::Names {
            lines: &self.lines,
            analog: &self.analog,
            buses: &self.buses,
            serial: &self.serial,
            events: &self.events,
        }
    }

    /// The names that an expression may use: lines, analog lines, buses and named events.
    pub fn scope(&self) -> Scope {
        let mut scope = Scope::new();
        names::define_all(&mut scope, self.names());
        scope
    }

    /// Gives an imported record this setup's lines, names and buses.
    ///
    /// A line is found by the signal it states as `input`, else by its own name.
    ///
    /// # Errors
    /// When the record has no such signal; all that are missing are named.
    pub fn apply(&self, capture: Capture) -> Result<Capture> {
        let mut wanted = Vec::new();
        let mut problems = Vec::new();
        for setup_line in &self.lines {
            let line = &setup_line.line;
            let signal = match &line.input {
                Some(Input::Signal(signal)) => signal,
                Some(Input::Number(_)) | None => &line.name,
            };
            match capture.line_named(signal) {
                Ok(_) => wanted.push((signal.clone(), line.clone())),
                Err(error) => {
                    let message = format!("the record has no signal '{signal}' for line '{}'", line.name);
                    let help = error.help().unwrap_or("check the signal's name").to_string();
                    problems.push(Error::new(ErrorKind::Unknown, message).with_help(help));
                }
            }
        }
        for (number, analog) in self.analog.iter().enumerate() {
            let name = &analog.line.name;
            if capture.analog_lines().get(number).is_none_or(|line| line.name != *name) {
                let message = format!("the record has no analog line '{name}'");
                let help = "take its [[analog]] section out to look at this record";
                problems.push(Error::new(ErrorKind::Unknown, message).with_help(help));
            }
        }
        if let Some(error) = Error::many(problems) {
            return Err(error);
        }
        let builder = self.import.apply(capture)?.into_builder().select(wanted)?;
        builder.buses(self.buses.clone()).attachments(self.texts.clone()).build()
    }
}
