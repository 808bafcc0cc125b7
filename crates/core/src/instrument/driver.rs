//! Making a recording: arm, wait, read.

use std::ops::ControlFlow;

use super::{Configuration, Instrument, Status, stream};
use crate::capture::Trace;
use crate::error::{Error, ErrorKind, Result};
use crate::event::{Direction, StreamSearch};
use crate::line::Level;
use crate::scan::{Filler, SampleBlock};
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

/// What was recorded.
#[derive(Debug)]
pub struct Recording {
    /// One trace per configured input.
    pub traces: Vec<Trace>,
    /// Ticks recorded.
    pub len: u64,
    /// The tick that is the trigger, if there was one.
    pub trigger: Option<Tick>,
    /// What the user should know.
    pub remarks: Vec<String>,
}

impl Acquisition<'_> {
    /// Makes the recording. `progress` is told where it stands and may stop it: what was recorded
    /// until then is returned.
    ///
    /// # Errors
    /// [`ErrorKind::TimeOut`] when the trigger does not come in time; its help says what was seen
    /// instead. Otherwise the instrument's errors.
    pub fn run(self, progress: &mut dyn FnMut(Progress) -> ControlFlow<()>) -> Result<Recording> {
        if self.configuration.stream {
            return stream::run(self, progress);
        }
        let instrument = self.instrument;
        instrument.configure(self.configuration)?;
        instrument.arm()?;
        let mut stopped = false;
        let (samples, trigger) = loop {
            let (now, given_up) = match instrument.status()? {
                Status::Done { samples, trigger } => break (samples, trigger),
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
            if let Some((why, seen)) = given_up {
                instrument.stop()?;
                let go_on = &mut |_| ControlFlow::Continue(());
                let recording = read_out(instrument, self.configuration, None, go_on)?;
                let help = what_was_seen(self.configuration, self.names, &seen, &recording.traces);
                return Err(Error::new(ErrorKind::TimeOut, why).with_help(help));
            }
            if progress(now).is_break() && !std::mem::replace(&mut stopped, true) {
                instrument.stop()?;
            }
        };
        let mut recording = read_out(instrument, self.configuration, Some(samples), progress)?;
        recording.trigger = trigger.map(Tick);
        recording.remarks = instrument.remarks();
        recording.remarks.extend(short_of_past(self.configuration, recording.trigger));
        Ok(recording)
    }
}

/// What to say when the trigger came before the part before it was full.
pub(super) fn short_of_past(configuration: &Configuration, trigger: Option<Tick>) -> Option<String> {
    let missing = configuration.before.checked_sub(trigger?.0).filter(|missing| *missing > 0)?;
    Some(format!(
        "the trigger came {missing} samples before the part before the trigger was full: the record begins when the instrument was armed"
    ))
}

fn read_out(
    instrument: &mut dyn Instrument,
    configuration: &Configuration,
    of: Option<u64>,
    progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
) -> Result<Recording> {
    let bits: Vec<u32> = (0..configuration.inputs.len() as u32).collect();
    let mut filler = Filler::new(&bits);
    let mut block = SampleBlock::default();
    loop {
        instrument.read(&mut block)?;
        if block.is_empty() {
            break;
        }
        filler.push(block.samples());
        let done = filler.position();
        if progress(Progress::Reading { done, of: of.unwrap_or(done) }).is_break() {
            break;
        }
    }
    let len = filler.position();
    Ok(Recording { traces: filler.finish(), len, trigger: None, remarks: Vec::new() })
}

/// What was seen instead of the trigger, a line each.
fn what_was_seen(configuration: &Configuration, names: &[&str], seen: &Seen, traces: &[Trace]) -> String {
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
    let levels = involved.iter().filter_map(|input| {
        let trace = traces.get(*input).filter(|t| !t.is_empty())?;
        Some(format!("{} {}", name(*input), trace.level_at(Tick(trace.len() - 1))))
    });
    told.push(format!("at the end: {}", levels.collect::<Vec<_>>().join(", ")));
    told.join("\n")
}
