//! Building analog lines whose voltages hold.

use std::sync::Arc;

use super::analog::{AnalogBuilder, AnalogTrace};
use super::builder::TraceBuilder;
use super::sample_times::SampleTimes;
use crate::error::Result;
use crate::line::{AnalogScale, Level};
use crate::time::Tick;

/// Builds the trace of an analog line whose voltage holds from one change to the next, as a number of a
/// simulation does.
///
/// ```
/// use deep_tap_core::capture::HeldBuilder;
/// use deep_tap_core::line::AnalogScale;
/// use deep_tap_core::time::Tick;
///
/// let volts = |text: &str| text.parse().unwrap();
/// let scale = AnalogScale::new(volts("0 V"), volts("1 mV"), volts("0 V")).unwrap();
/// let mut builder = HeldBuilder::new(Some(0));
/// builder.push(Tick(40), Some(3300))?;
/// builder.push(Tick(90), None)?;
/// let rail = builder.finish(scale, 100);
/// assert_eq!(rail.voltage_at(Tick(39)), Some(volts("0 V")));
/// assert_eq!(rail.voltage_at(Tick(89)), Some(volts("3.3 V")));
/// assert_eq!(rail.voltage_at(Tick(95)), None, "not known");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Debug)]
pub struct HeldBuilder {
    instants: TraceBuilder,
    codes: AnalogBuilder,
    last: Option<i16>,
    /// What stands for a voltage that is not known: the one before, so that it is no extreme by itself.
    filler: i16,
}

impl HeldBuilder {
    /// Begins with the voltage at the first tick; `None` where it is not known.
    pub fn new(start: Option<i16>) -> Self {
        let mut codes = AnalogBuilder::new();
        codes.push(&[start.unwrap_or_default()]);
        let level = if start.is_some() { Level::Low } else { Level::Unknown };
        HeldBuilder {
            instants: TraceBuilder::new(level),
            codes,
            last: start,
            filler: start.unwrap_or_default(),
        }
    }

    /// The voltage from a tick on; nothing where it is the same as before.
    ///
    /// # Errors
    /// When the tick is not after all before, is the first one, or is beyond what a capture can hold.
    pub fn push(&mut self, tick: Tick, code: Option<i16>) -> Result<()> {
        if code == self.last {
            return Ok(());
        }
        let level = match (code, self.instants.level()) {
            (None, _) => Level::Unknown,
            (Some(_), Level::Low) => Level::High,
            (Some(_), _) => Level::Low,
        };
        self.instants.push_edge(tick, level)?;
        self.filler = code.unwrap_or(self.filler);
        self.codes.push(&[self.filler]);
        self.last = code;
        Ok(())
    }

    /// The finished line, of so many ticks.
    pub fn finish(self, scale: AnalogScale, len: u64) -> AnalogTrace {
        let instants = SampleTimes::Changes(Arc::new(self.instants.finish(len)));
        self.codes.finish_at(scale, instants)
    }
}
