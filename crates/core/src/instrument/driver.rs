//! Making a recording: arm, wait, read.

use std::ops::ControlFlow;

use super::{Configuration, ConfiguredAnalog, Instrument, Status, stream};
use crate::capture::{AnalogTrace, Trace};
use crate::error::{Error, ErrorKind, Result};
use crate::event::{Direction, StreamSearch};
use crate::line::{AnalogScale, Level};
use crate::scan::{Memory, SampleBlock, Samples};
use crate::time::{Tick, Time};
use crate::trigger::Seen;

/// Where a recording stands.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Progress {
    /// Waiting for the trigger.
    Waiting {
        /// For how long, by the instrument's clock.
        elapsed: Time,
    },
    /// Filling the memory.
    Recording {
        /// Samples recorded.
        done: u64,
        /// Samples asked for.
        of: u64,
    },
    /// Reading the memory out.
    Reading {
        /// Samples read.
        done: u64,
        /// Samples to read.
        of: u64,
    },
}

/// One recording to be made.
pub struct Acquisition<'a> {
    /// The instrument.
    pub instrument: &'a mut dyn Instrument,
    /// What to record.
    pub configuration: &'a Configuration,
    /// Names of the inputs, in the order of the configuration, for messages.
    pub names: &'a [&'a str],
    /// The event to look for in the samples when they are streamed; its lines are the inputs of the
    /// same number. `None` to keep everything from arming on.
    pub search: Option<StreamSearch>,
    /// How long to wait for the trigger, by the instrument's clock; `None` for ever.
    pub time_out: Option<Time>,
}

/// Where the samples of a recording go.
///
/// For who implements it: `begin` is called once, before anything else, and not at all when the
/// trigger does not come. An error ends the recording.
pub trait Sink {
    /// The recording begins. `trigger` is the number of the sample that is the trigger, counted
    /// from the first one that will be pushed.
    ///
    /// # Errors
    /// When nothing can be taken.
    fn begin(&mut self, trigger: Option<Tick>) -> Result<()>;

    /// The next samples; bit `i` is the `i`-th configured input.
    ///
    /// # Errors
    /// When they cannot be taken.
    fn push(&mut self, samples: Samples<'_>) -> Result<()>;
}

/// What was recorded, apart from the samples.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Recorded {
    /// Ticks recorded.
    pub len: u64,
    /// The tick that is the trigger, if there was one.
    pub trigger: Option<Tick>,
    /// What the user should know.
    pub remarks: Vec<String>,
}

/// What was recorded.
#[derive(Debug)]
pub struct Recording {
    /// One trace per configured input.
    pub traces: Vec<Trace>,
    /// One analog trace per configured analog input.
    pub analog: Vec<AnalogTrace>,
    /// Ticks recorded.
    pub len: u64,
    /// The tick that is the trigger, if there was one.
    pub trigger: Option<Tick>,
    /// What the user should know.
    pub remarks: Vec<String>,
}

impl Sink for Memory {
    fn begin(&mut self, _: Option<Tick>) -> Result<()> {
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        Memory::push(self, samples);
        Ok(())
    }
}

/// Keeps the last sample.
#[derive(Default)]
struct LastSample((u64, u64));

impl Sink for LastSample {
    fn begin(&mut self, _: Option<Tick>) -> Result<()> {
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        self.0 = samples.get(samples.len().saturating_sub(1));
        Ok(())
    }
}

impl Acquisition<'_> {
    /// Makes the recording and keeps it in memory; otherwise as [`run_into`](Self::run_into).
    ///
    /// # Errors
    /// As [`run_into`](Self::run_into).
    pub fn run(self, progress: &mut dyn FnMut(Progress) -> ControlFlow<()>) -> Result<Recording> {
        let configuration = self.configuration;
        let bank = self.instrument.capabilities().analog;
        let scale = |analog: &ConfiguredAnalog| bank.as_ref().and_then(|bank| bank.scale(analog.range));
        let scales: Vec<AnalogScale> = configuration.analog.iter().filter_map(scale).collect();
        let mut memory = Memory::new(configuration.inputs.len());
        let Recorded { len, trigger, remarks } = self.run_into(&mut memory, progress)?;
        let (traces, analog) = memory.finish(&scales);
        Ok(Recording { traces, analog, len, trigger, remarks })
    }

    /// Makes the recording and passes its samples on as they come. `progress` is told where it
    /// stands and may stop it: what was recorded until then has been passed on.
    ///
    /// # Errors
    /// [`ErrorKind::TimeOut`] when the trigger does not come in time; its help says what was seen
    /// instead. Otherwise the instrument's errors and those of `sink`.
    pub fn run_into(
        self,
        sink: &mut dyn Sink,
        progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
    ) -> Result<Recorded> {
        let Acquisition { instrument, configuration, names, search, time_out } = self;
        let again = Acquisition { instrument: &mut *instrument, configuration, names, search, time_out };
        let outcome = if configuration.stream {
            stream::run(again, sink, progress)
        } else {
            again.run_on_board(sink, progress)
        };
        if outcome.is_err() {
            // What went wrong is told already; at least it shall not go on recording.
            let _ = instrument.stop();
        }
        outcome
    }

    /// Lets the instrument wait for the trigger and fill its memory, and reads that out.
    fn run_on_board(
        self,
        sink: &mut dyn Sink,
        progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
    ) -> Result<Recorded> {
        let instrument = self.instrument;
        instrument.configure(self.configuration)?;
        instrument.arm()?;
        let mut stopped = false;
        let (samples, trigger) = loop {
            let status = instrument.status()?;
            let (now, given_up) = match status.clone() {
                Status::Done { samples, trigger } => break (samples, trigger.map(Tick)),
                Status::Idle => break (0, None),
                Status::Recording { done, of } => (Progress::Recording { done, of }, None),
                Status::Over { elapsed, seen } => {
                    let why = format!("the trigger did not come before the record ended after {elapsed}");
                    (Progress::Waiting { elapsed }, Some((why, seen)))
                }
                Status::Waiting { elapsed, seen } => {
                    let late = self.time_out.filter(|limit| elapsed >= *limit);
                    let why = late.map(|limit| (format!("the trigger did not come within {limit}"), seen));
                    (Progress::Waiting { elapsed }, why)
                }
            };
            let stop = progress(now.clone()).is_break();
            let given_up = given_up.or_else(|| match (status, now) {
                (Status::Waiting { seen, .. }, Progress::Waiting { elapsed }) if stop => {
                    Some((stopped_waiting(elapsed), seen))
                }
                _ => None,
            });
            if let Some((why, seen)) = given_up {
                instrument.stop()?;
                let mut last = LastSample::default();
                let len = read_out(instrument, None, &mut last, &mut |_| ControlFlow::Continue(()))?;
                let last = (len > 0).then_some(last.0);
                let help = what_was_seen(self.configuration, self.names, &seen, last);
                return Err(Error::new(ErrorKind::TimeOut, why).with_help(help));
            }
            if stop && !std::mem::replace(&mut stopped, true) {
                instrument.stop()?;
            }
        };
        sink.begin(trigger)?;
        let len = read_out(instrument, Some(samples), sink, progress)?;
        let mut remarks = instrument.remarks();
        remarks.extend(short_of_past(self.configuration, trigger));
        Ok(Recorded { len, trigger, remarks })
    }
}

/// What to say when the user stops before the trigger came.
pub(super) fn stopped_waiting(elapsed: Time) -> String {
    format!("stopped after waiting for {elapsed}: the trigger had not come")
}

/// What to say when the trigger came before the part before it was full.
pub(super) fn short_of_past(configuration: &Configuration, trigger: Option<Tick>) -> Option<String> {
    let missing = configuration.before.checked_sub(trigger?.0).filter(|missing| *missing > 0)?;
    Some(format!(
        "the trigger came {missing} samples before the part before the trigger was full: the record begins when the instrument was armed"
    ))
}

/// Reads what was recorded; how many samples that was.
fn read_out(
    instrument: &mut dyn Instrument,
    of: Option<u64>,
    sink: &mut dyn Sink,
    progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
) -> Result<u64> {
    let mut block = SampleBlock::default();
    let mut done = 0;
    loop {
        instrument.read(&mut block)?;
        if block.is_empty() {
            return Ok(done);
        }
        sink.push(block.samples())?;
        done += block.len() as u64;
        if progress(Progress::Reading { done, of: of.unwrap_or(done) }).is_break() {
            return Ok(done);
        }
    }
}

/// What was seen instead of the trigger, a line each.
fn what_was_seen(
    configuration: &Configuration,
    names: &[&str],
    seen: &Seen,
    last: Option<(u64, u64)>,
) -> String {
    let Some(trigger) = &configuration.trigger else { return String::new() };
    let name = |input: usize| names.get(input).copied().unwrap_or("?");
    let edge = match trigger.direction {
        Direction::Rises => "rose",
        Direction::Falls => "fell",
        Direction::Changes => "changed",
    };
    let line = name(trigger.input);
    let mut told = vec![match seen.edges {
        0 => format!("{line} never {edge}"),
        1 => format!("{line} {edge} once, but not all other levels were met:"),
        n => format!("{line} {edge} {n} times, but never were all other levels met:"),
    }];
    for ((input, high), missed) in trigger.levels.iter().zip(&seen.unmet).filter(|_| seen.edges > 0) {
        let (line, level) = (name(*input), Level::from(*high));
        told.push(match missed {
            0 => format!("  {line} was {level} each time"),
            missed if *missed == seen.edges => format!("  {line} was never {level} then"),
            missed => format!("  {line} was not {level} {missed} times"),
        });
    }
    let mut involved: Vec<usize> = trigger.levels.iter().map(|(input, _)| *input).collect();
    involved.insert(0, trigger.input);
    let Some((levels, unknown)) = last else { return told.join("\n") };
    let levels = involved.iter().map(|input| {
        let bit = |word: u64| word.checked_shr(*input as u32).unwrap_or(0) & 1 == 1;
        let level = if bit(unknown) { Level::Unknown } else { Level::from(bit(levels)) };
        format!("{} {level}", name(*input))
    });
    told.push(format!("at the end: {}", levels.collect::<Vec<_>>().join(", ")));
    told.join("\n")
}
