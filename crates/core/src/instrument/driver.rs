//! Making a recording: arm, wait, read.

use std::ops::ControlFlow;

use super::{Configuration, Instrument, Status};
use crate::capture::Trace;
use crate::error::{Error, ErrorKind, Result};
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
        let instrument = self.instrument;
        instrument.configure(self.configuration)?;
        instrument.arm()?;
        let mut stopped = false;
        let (samples, trigger) = loop {
            let (now, late) = match instrument.status()? {
                Status::Done { samples, trigger } => break (samples, trigger),
                Status::Idle => break (0, None),
                Status::Recording { done, of } => (Progress::Recording { done, of }, None),
                Status::Over { elapsed, seen } => (Progress::Waiting { elapsed }, Some((elapsed, seen))),
                Status::Waiting { elapsed, seen } => {
                    let late = self.time_out.filter(|limit| elapsed >= *limit).map(|_| (elapsed, seen));
                    (Progress::Waiting { elapsed }, late)
                }
            };
            if let Some((elapsed, seen)) = late {
                instrument.stop()?;
                let recording = read_out(instrument, self.configuration, None, &mut |_| ControlFlow::Continue(()))?;
                return Err(never_came(self.configuration, self.names, elapsed, &seen, &recording.traces));
            }
            if progress(now).is_break() && !std::mem::replace(&mut stopped, true) {
                instrument.stop()?;
            }
        };
        let mut recording = read_out(instrument, self.configuration, Some(samples), progress)?;
        recording.trigger = trigger.map(Tick);
        recording.remarks = instrument.remarks();
        Ok(recording)
    }
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
        filler.push(&block);
        let done = filler.position();
        if progress(Progress::Reading { done, of: of.unwrap_or(done) }).is_break() {
            break;
        }
    }
    let len = filler.position();
    Ok(Recording { traces: filler.finish(), len, trigger: None, remarks: Vec::new() })
}

/// The error for a trigger that did not come, with what was seen instead.
fn never_came(
    configuration: &Configuration,
    names: &[&str],
    elapsed: Time,
    seen: &Seen,
    traces: &[Trace],
) -> Error {
    let message = format!("the trigger did not come within {elapsed}");
    let name = |input: usize| names.get(input).copied().unwrap_or("?");
    let mut help = Vec::new();
    if let Some(trigger) = &configuration.trigger {
        let edge = match trigger.direction {
            crate::event::Direction::Rises => "rose",
            crate::event::Direction::Falls => "fell",
            crate::event::Direction::Changes => "changed",
        };
        let line = name(trigger.input);
        help.push(match seen.edges {
            0 => format!("{line} never {edge}"),
            1 => format!("{line} {edge} once, but the other levels were not met"),
            n => format!("{line} {edge} {n} times, but the other levels were not met"),
        });
        for ((input, high), missed) in trigger.levels.iter().zip(&seen.unmet) {
            if seen.edges > 0 {
                let level = Level::from(*high);
                let times = if seen.edges == *missed { "ever".to_string() } else { format!("{missed} times") };
                let verdict = match missed {
                    0 => format!("{} was {level} every time", name(*input)),
                    _ if seen.edges == *missed => format!("{} was never {level} then", name(*input)),
                    _ => format!("{} was not {level} {times}", name(*input)),
                };
                help.push(verdict);
            }
        }
        let mut involved: Vec<usize> = trigger.levels.iter().map(|(input, _)| *input).collect();
        involved.insert(0, trigger.input);
        involved.dedup();
        for input in involved {
            if let Some(trace) = traces.get(input) {
                let level = trace.level_at(Tick(trace.len().saturating_sub(1)));
                let edges = trace.edge_count();
                help.push(format!("{} is {level} now, {edges} edges in the last {} samples", name(input), trace.len()));
            }
        }
    }
    Error::new(ErrorKind::TimeOut, message).with_help(help.join("; "))
}
