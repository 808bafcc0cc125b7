//! Instruments: what they can do, how they are driven, and how a recording is made with one.

mod acquisition;
mod capabilities;
mod driver;
mod offers;
mod onward;
mod search;
mod stimulus;
mod stream;

pub use acquisition::{Acquisition, Progress, Recorded, Recording, Sink};
pub use capabilities::{AnalogBank, Bank, Capabilities, Mode, OnBoardTrigger};
pub use offers::Offer;
pub use search::{Search, ViolationSearch};
pub use stimulus::{Begins, Output, Stimulus, Waveform};

use crate::error::Result;
use crate::line::{Input, Threshold, VoltageRange};
use crate::quantity::{Rate, Time};
use crate::scan::SampleBlock;
use crate::trigger::{QualifiedEdge, Seen};

/// What an instrument is asked to record.
///
/// ```
/// use deep_tap_core::instrument::Configuration;
///
/// let mut configuration = Configuration::new("100 MS/s".parse()?, 1 << 20, 0..4);
/// configuration.before = 1 << 10;
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Configuration {
    /// Sample rate.
    pub rate: Rate,
    /// Samples to record, those before the trigger included.
    pub samples: u64,
    /// Samples to keep from before the trigger, at least.
    pub before: u64,
    /// Whether the host keeps more of them, in a stream, where what the trigger ends began earlier; the end of the
    /// record comes by so much earlier.
    pub beginning: bool,
    /// The inputs to record; the place in this list is the bit in each sample.
    pub inputs: Vec<ConfiguredInput>,
    /// The analog inputs to record.
    pub analog: Vec<ConfiguredAnalog>,
    /// Samples from one analog sample to the next; 0 when there are none to record.
    pub analog_every: u64,
    /// What to send out meanwhile.
    pub stimuli: Vec<Stimulus>,
    /// What the instrument waits for; `None` to record at once.
    pub trigger: Option<QualifiedEdge>,
    /// Whether the samples are to be sent while they are taken, from arming until it is stopped;
    /// then `samples`, `before` and `trigger` are the host's business.
    pub stream: bool,
}

impl Configuration {
    /// Samples of these inputs, recorded at once.
    pub fn new<I: Into<ConfiguredInput>>(
        rate: Rate,
        samples: u64,
        inputs: impl IntoIterator<Item = I>,
    ) -> Self {
        Configuration {
            rate,
            samples,
            before: 0,
            beginning: false,
            inputs: inputs.into_iter().map(Into::into).collect(),
            analog: Vec::new(),
            analog_every: 0,
            stimuli: Vec::new(),
            trigger: None,
            stream: false,
        }
    }
}

/// One input to record.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ConfiguredInput {
    /// Which input: its number, or on a replay the name of the signal.
    pub input: Input,
    /// Its threshold; `None` leaves the instrument's own.
    pub threshold: Option<Threshold>,
}

impl ConfiguredInput {
    /// An input with the threshold that the instrument has.
    pub fn new(input: impl Into<Input>) -> Self {
        ConfiguredInput { input: input.into(), threshold: None }
    }
}

impl From<u32> for ConfiguredInput {
    fn from(number: u32) -> Self {
        ConfiguredInput::new(number)
    }
}

impl From<Input> for ConfiguredInput {
    fn from(input: Input) -> Self {
        ConfiguredInput::new(input)
    }
}

/// One analog input to record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ConfiguredAnalog {
    /// Which input, by its number.
    pub input: u32,
    /// Its range, one of those that its bank has.
    pub range: VoltageRange,
}

/// What an instrument is doing.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Status {
    /// Nothing: not armed, or stopped.
    Idle,
    /// It waits for its trigger.
    Waiting {
        /// How long it has waited, by its own clock.
        elapsed: Time,
        /// What it saw meanwhile.
        seen: Seen,
    },
    /// What it looks at has ended, as a replay does, before the trigger came.
    Over {
        /// How long it has waited, by its own clock.
        elapsed: Time,
        /// What it saw meanwhile.
        seen: Seen,
    },
    /// The trigger came and it fills its memory.
    Recording {
        /// Samples recorded.
        done: u64,
        /// Samples asked for.
        of: u64,
    },
    /// The recording can be read.
    Done {
        /// Samples recorded.
        samples: u64,
        /// The sample that is the trigger; `None` when there was none.
        trigger: Option<u64>,
    },
}

/// A logic instrument.
///
/// **For who calls it**: call in the order `configure`, `arm`, `status` until it is
/// [`Status::Done`], `read` until a block comes back empty. [`Acquisition`] does all this.
///
/// **For who implements it**: `configure` refuses what [`capabilities`](Instrument::capabilities)
/// does not allow. `status` never blocks for longer than a user would wait without a sign of life
/// (a fraction of a second); it is called in a loop. After `stop`, what has been recorded so far
/// can be read; it is also called after an error, in any state. `read` replaces the block's
/// contents with the next samples, at most a few thousand, and leaves it empty at the end; while it
/// streams, also where nothing more has arrived yet. Both are called on a thread of their own while
/// it streams. Nothing panics on any order of calls.
///
/// `examples/own_instrument.rs` is a complete implementation.
pub trait Instrument: Send {
    /// Maker, model, serial number, version, as the user should see them.
    fn identity(&self) -> String;

    /// What it can do.
    fn capabilities(&self) -> Capabilities;

    /// Takes over what to record.
    ///
    /// # Errors
    /// When it cannot do that.
    fn configure(&mut self, configuration: &Configuration) -> Result<()>;

    /// Starts waiting for the trigger, or recording if there is none.
    ///
    /// # Errors
    /// When it is not configured, or fails.
    fn arm(&mut self) -> Result<()>;

    /// What it is doing.
    ///
    /// # Errors
    /// When it has failed.
    fn status(&mut self) -> Result<Status>;

    /// Stops waiting or recording.
    ///
    /// # Errors
    /// When it fails.
    fn stop(&mut self) -> Result<()>;

    /// Replaces the block's contents with the next recorded samples; empty at the end. Analog codes
    /// come in the same block as the samples they were taken with.
    ///
    /// # Errors
    /// When it fails.
    fn read(&mut self, block: &mut SampleBlock) -> Result<()>;

    /// What the user should know about the last recording, such as that it ended early. Nothing by
    /// default.
    fn remarks(&self) -> Vec<String> {
        Vec::new()
    }
}
