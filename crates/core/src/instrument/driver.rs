//! Making a recording: arm, wait, read.

use std::ops::ControlFlow;

use super::acquisition::{Acquisition, Progress, Recorded, Recording, Sink, short_of_past, stopped_waiting};
use super::{ConfiguredAnalog, Instrument, Status};
use crate::capture::{Capture, CaptureBuilder, Origin};
use crate::error::{Error, ErrorKind, Result};
use crate::line::{AnalogLine, AnalogScale, Line};
use crate::scan::{Memory, SampleBlock, Samples};
use crate::time::{Tick, TimeBase};
use crate::trigger::edge_report;

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

    /// Makes the recording as a capture: a line for each input by its name (one without is called by its
    /// number), an analog line for each analog input, time zero at the trigger, and instants known as well
    /// as the instrument knows them.
    ///
    /// # Errors
    /// As [`run_into`](Self::run_into).
    pub fn capture(self) -> Result<Capture> {
        let (configuration, names) = (self.configuration, self.names);
        let (source, resolution) = (self.instrument.identity(), self.instrument.capabilities().resolution());
        let recording = self.run(&mut |_| ControlFlow::Continue(()))?;
        let base = TimeBase::from_rate(configuration.rate)?;
        let mut builder =
            Capture::builder(base.with_zero(recording.trigger.unwrap_or(Tick(0))), recording.len)
                .resolution(resolution)
                .origin(Origin { source, ..Origin::default() });
        for (number, (input, trace)) in configuration.inputs.iter().zip(recording.traces).enumerate() {
            let name = names.get(number).map_or_else(|| format!("IN{number}"), |name| (*name).to_string());
            let (threshold, input) = (input.threshold, Some(input.input.clone()));
            builder = builder.line(Line { input, threshold, ..Line::named(name) }, trace);
        }
        for (analog, trace) in configuration.analog.iter().zip(recording.analog) {
            let line = AnalogLine::named(format!("ANALOG{}", analog.input));
            builder = builder.analog(AnalogLine { input: Some(analog.input), ..line }, trace);
        }
        recording.remarks.into_iter().fold(builder, CaptureBuilder::remark).build()
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
            again.run_streamed(sink, progress)
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
                let trigger = self.configuration.trigger.as_ref();
                let help = trigger.map(|trigger| edge_report(trigger, self.names, &seen, last));
                return Err(Error::new(ErrorKind::TimeOut, why).with_help(help.unwrap_or_default()));
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
